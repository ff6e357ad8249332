"""Rendering an export."""

from __future__ import annotations

import time
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import pipeline
from ..core.errors import KeenError
from ..core.media.damage import damaged_within
from ..core.media.encode import QUALITIES, Encoding
from ..core.media.segments import plan
from ..core.pipeline import Solution
from ..core.pipeline.render_clip import Drawing, drawing_of
from ..core.treatment import Treatment, parse
from ..store.models import Export, Measure, now
from .kind import SLOW, JobKind, Task
from .parts import helped, shared
from .solving import solved
from .spheres import Offer, exported_sphere

PER_FRAME = ("frames", "conventions")  # parts of a report that no page shows


def export(task: Task) -> None:
    row, measure, treatment = _asked(task)
    with task.store.room_of(task.run.job_id, task.run.attempt) as room:
        target = room / "export.mp4"
        offer = partial(_offer, task)
        if measure.kind == "sphere":
            report = exported_sphere(task, measure, treatment, row.quality, target, offer)
        else:
            report = _exported(task, row, measure, treatment, target, offer)
    with task.database.session.begin() as session:
        row = session.get_one(Export, task.export_id)
        row.report = report
        row.figures = {name: part for name, part in report.items() if name not in PER_FRAME}


def _asked(task: Task) -> tuple[Export, Measure, Treatment]:
    """What is to be exported, of which measure, and how it is treated."""
    if task.export_id is None:
        raise KeenError("this work does not say what is to be exported.", remedy="Export it again.")
    with task.database.session() as session:
        row = session.get_one(Export, task.export_id)
        return row, _measure_of(session, row), parse(row.revision.treatment)


def _offer(task: Task, film: Path) -> Path:
    """Keep a finished film, which can be had from now on: its numbers follow. Where it lies."""
    size = film.stat().st_size
    key = task.store.adopt("exports", film)
    with task.database.session.begin() as session:
        row = session.get_one(Export, task.export_id)
        row.file_key, row.size, row.finished = key, size, now()
    return task.store.path(key)


def _exported(
    task: Task, row: Export, measure: Measure, treatment: Treatment, target: Path, offer: Offer
) -> dict[str, Any]:
    """A flat clip rendered into ``target``, and offered: what came of it."""

    def checking(done: int, total: int) -> None:
        task.progress(total, total)  # all frames are made; it can still be cancelled

    started = time.monotonic()
    solution = solved(task, measure, treatment)
    after = time.monotonic()
    segments = plan(target.parent, task.scan, row.first_frame, measure.last_frame)
    drawing, encoding = _drawn_as(row, solution, treatment)
    with shared(task, segments) as share:
        rendered = pipeline.render(
            task.source, task.scan, drawing, row.first_frame, target,
            encoding=encoding, room=target.parent, progress=share.progress, handed=share.handed,
        )  # fmt: skip
    film, made = offer(target), time.monotonic()
    source = task.solver.estimates(task.recording, measure).tracks
    again = pipeline.measured_again(film, solution, source, target.parent / "again", checking)
    edges = pipeline.edges_report(task.source, task.scan, row.first_frame, measure.last_frame, film)
    seconds = {
        "measure": measure.seconds,
        "solve": after - started,
        "render": made - after,
        "check": time.monotonic() - made,
    }
    # A render that was taken up again has not seen all frames; whoever took the file in has.
    damaged = damaged_within(task.recording.damaged, row.first_frame, measure.last_frame)
    rendered = replace(rendered, damaged=tuple(damaged))
    return pipeline.correction_report(solution, treatment, rendered, seconds, again, edges)


def help_export(task: Task) -> None:
    """Draw parts of a flat clip's export that another worker is at."""
    row, measure, treatment = _asked(task)
    room = task.store.place_of(task.run.job_id, task.run.attempt)
    if measure.kind != "flat" or not room.exists():
        return
    drawing, encoding = _drawn_as(row, solved(task, measure, treatment), treatment)
    pipeline.help_render(
        task.source, task.scan, drawing, row.first_frame, room, encoding, *helped(task)
    )


def _drawn_as(row: Export, solution: Solution, treatment: Treatment) -> tuple[Drawing, Encoding]:
    """How a flat clip's pictures are drawn and coded, whoever does it."""
    return drawing_of(solution, treatment, row.lines), Encoding(crf=QUALITIES[row.quality])


def _measure_of(session: Session, export: Export) -> Measure:
    found = session.scalars(
        select(Measure).where(
            Measure.recording_id == export.clip.recording_id,
            Measure.first_frame == export.first_frame,
            Measure.last_frame == export.last_frame,
            Measure.kind == export.clip.recording.kind,
        )
    ).all()
    # The one the clip is looked at with, if there are two.
    measure = min(found, key=lambda m: m.closer != export.clip.closer, default=None)
    if measure is None:
        raise KeenError("the clip has not been measured.", remedy="Open the clip first.")
    return measure


EXPORT = JobKind(
    "export", SLOW, "Exporting", export, ending="Measuring the finished", help=help_export
)
