"""Measuring a range of a recording, and giving its untouched clips their first treatment."""

from __future__ import annotations

import time
from dataclasses import dataclass

from sqlalchemy import ColumnElement, and_, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from ..core.pipeline import first_treatment
from ..core.pipeline.decide_model import CALMS
from ..core.stations.motion import MOTION
from ..core.treatment import Treatment
from ..store import treatments
from ..store.models import Clip, Measure
from .following import follow_range, pass_over
from .kind import QUICK, JobKind, Task
from .parts import helped
from .solving import shelf_figures, solution_of
from .spheres import measured_sphere


@dataclass(frozen=True)
class Range:
    """Frames ``first`` to ``last`` of a recording, measured as usual or ``closer``."""

    first: int
    last: int
    closer: bool = False

    def clips(self, recording_id: int) -> ColumnElement[bool]:
        return and_(
            Clip.recording_id == recording_id,
            Clip.first_frame == self.first,
            Clip.last_frame == self.last,
        )


def measure(task: Task) -> None:
    measure_range(task, _asked(task))


def _asked(task: Task) -> Range:
    details = task.details
    return Range(int(details["first"]), int(details["last"]), bool(details.get("closer", False)))


def measure_range(task: Task, range_: Range) -> None:
    """Measure a range, and give clips of it that nobody has touched their first treatment."""
    if task.recording.kind == "sphere":
        _hand_over(task, range_, *measured_sphere(task, range_.first, range_.last))
    else:
        _measure_flat(task, range_)
    _note_shake(task, range_)


def _measure_flat(task: Task, range_: Range) -> None:
    started = time.monotonic()
    made, before, _ = follow_range(task, "flat", range_.first, range_.last, closer=range_.closer)
    estimates = task.solver.estimates(task.recording, made)
    for model in ("shift", "similarity"):  # that every treatment stands on
        estimates.recorded(model)
    if _is_awaited(task, range_):
        # A steady picture can be looked at from now on, while it is found out what suits the clip.
        with task.database.session.begin() as session:
            _keep(session, made)
    first = first_treatment(estimates)
    # So that neither the first look nor a slider waits for a choice of model; what the first look
    # is at comes first.
    own, *others = sorted(CALMS, key=lambda calm: abs(calm - first.of(MOTION).calm))
    task.solver.keep_motion(task.recording, made, first.changed(MOTION, calm=own))
    made.seconds = before + time.monotonic() - started
    count = range_.last - range_.first + 1
    task.progress(count, count)  # it may have been cancelled meanwhile
    _hand_over(task, range_, made, first)
    for calm in others:
        task.solver.keep_motion(task.recording, made, first.changed(MOTION, calm=calm))


def _hand_over(task: Task, range_: Range, made: Measure, first: Treatment) -> None:
    """Keep a measure, and the treatment to begin with: whoever sees that sees what it is of."""
    with task.database.session.begin() as session:
        _keep(session, made)
        wanted = range_.clips(task.recording.id)
        for clip in session.scalars(select(Clip).where(wanted, Clip.revision_id.is_(None))):
            treatments.change(session, clip, first)


def _is_awaited(task: Task, range_: Range) -> bool:
    """Whether there is a clip that nobody has seen a picture of."""
    if range_.closer:
        return False
    wanted = range_.clips(task.recording.id)
    with task.database.session() as session:
        untouched = select(Clip.id).where(wanted, Clip.revision_id.is_(None)).limit(1)
        return session.scalar(untouched) is not None


def help_measure(task: Task) -> None:
    """Follow parts of a clip that another worker measures."""
    room, asked = task.store.place_of(task.run.job_id, task.run.attempt), _asked(task)
    if room.exists():
        passing = pass_over(
            task, task.scan, task.recording.kind, asked.first, asked.last, closer=asked.closer
        )
        passing.following.go(room, *helped(task))


def _keep(session: Session, made: Measure) -> None:
    values = {
        column.name: getattr(made, column.name)
        for column in Measure.__table__.columns
        if column.name != "id"
    }
    row = insert(Measure).values(values)
    session.execute(
        row.on_conflict_do_update(
            index_elements=["recording_id", "first_frame", "last_frame", "closer", "kind"],
            set_={"seconds": row.excluded.seconds},
        )
    )


def _note_shake(task: Task, range_: Range) -> None:
    """The shake figures that the shelf shows."""
    with task.database.session.begin() as session:
        for clip in session.scalars(select(Clip).where(range_.clips(task.recording.id))):
            found = treatments.measure_of(session, clip)
            if found is not None:
                report = solution_of(task, found, treatments.current(clip)).report
                clip.shake = shelf_figures(report)


MEASURE = JobKind(
    "measure", QUICK, "Measuring", measure, replaceable=True, ending="Choosing a model for",
    help=help_measure,
)  # fmt: skip
