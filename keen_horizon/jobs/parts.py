"""Work that several workers do together: each takes the next part that nobody is at.

Whoever has claimed the work lists its parts, asks for help, takes parts itself, and ends once all
are done (:func:`shared`); who helps takes parts as long as there are some (:func:`helped`). A part
whose owner has not been heard of for a while is anybody's again; what the owner makes of it after
all lies elsewhere and is not taken.
"""

from __future__ import annotations

import logging
import shutil
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from functools import partial
from pathlib import Path
from typing import NamedTuple

from sqlalchemy import delete, or_, select, update
from sqlalchemy.dialects.postgresql import insert

from ..core.media.segments import Handed, Segment
from ..core.progress import Progress
from ..store.database import Database
from ..store.models import Part, now
from .kind import Task
from .lifecycle import AWAY, Run, Superseded

log = logging.getLogger(__name__)
SILENT = timedelta(seconds=20)  # after which an owner is taken for gone
BEAT = 2.0  # seconds between signs of life
MOST_HELPERS = 16  # workers that are asked to help
LOOK = 0.3  # seconds between looks at what others do


class Share(NamedTuple):
    """How parts are handed out, and how far all are told of."""

    progress: Progress
    handed: Handed


@contextmanager
def shared(
    task: Task, segments: list[Segment], progress: Progress | None = None
) -> Iterator[Share]:
    """Work of a task in parts, with whoever is free; it is told of by the task's progress, or
    another."""
    parts = Parts(task.database, task.run)
    parts.list_all(segments)
    task.ask_help(min(len(segments) - 1, MOST_HELPERS))
    yield Share(parts.told(progress or task.progress), partial(parts.handed, waiting=True))
    parts.forget()


def helped(task: Task) -> Share:
    """Somebody else's work of a task in parts."""
    parts = Parts(task.database, task.run)
    return Share(parts.told(task.progress), partial(parts.handed, waiting=False))


class Parts:
    """The parts of a run's work, as one of those who do it sees them."""

    def __init__(self, database: Database, run: Run) -> None:
        self._database, self._run = database, run
        self._owner = uuid.uuid4().hex[:12]
        self._at: int | None = None  # the part in hand
        self._beat = 0.0
        self._there = self._before = 0  # frames: of finished parts, and before the one in hand

    def list_all(self, segments: list[Segment]) -> None:
        """Make the list anew: what is there is done, of whatever attempt."""
        rows = [
            {"job_id": self._run.job_id, "number": k, "done": segment.path.exists()}
            for k, segment in enumerate(segments)
        ]
        with self._database.session.begin() as session:
            session.execute(delete(Part).where(Part.job_id == self._run.job_id))
            session.execute(insert(Part).values(rows))

    def forget(self) -> None:
        with self._database.session.begin() as session:
            session.execute(delete(Part).where(Part.job_id == self._run.job_id))

    def told(self, progress: Progress) -> Progress:
        """``progress`` in frames that all have done together; it keeps the part in hand, too."""

        def told(done: int, total: int) -> None:
            self._stay()
            progress(self._there + done - self._before, total)

        return told

    def handed(
        self, segments: list[Segment], progress: Progress, *, waiting: bool
    ) -> Iterator[tuple[Segment, Path]]:
        """Segments to be drawn here, each with where it is to be written. Ends once there are none
        that nobody is at, or, ``waiting``, once all are there."""
        first, total = segments[0].first, segments[-1].last - segments[0].first + 1
        while True:
            number = self._at = self._claim()
            there = [segment for segment in segments if segment.path.exists()]
            self._there = self._before = 0
            count = sum(segment.last - segment.first + 1 for segment in there)
            if number is None:
                if not waiting or len(there) == len(segments):
                    return
                progress(count, total)
                time.sleep(LOOK)
                continue
            segment = segments[number]
            if not segment.path.exists():  # who was taken for gone may have drawn it after all
                self._there, self._before = count, segment.first - first
                mine = segment.path.with_name(f"{self._owner}-{segment.path.name}")
                yield segment, mine
                owned = self._owns(number)
                if owned and not segment.path.exists():
                    mine.replace(segment.path)
                _remove(mine)
                if not owned:
                    continue
            self._done(number)

    def _stay(self) -> None:
        """Say that the part in hand is still worked on."""
        if self._at is None or time.monotonic() - self._beat < BEAT:
            return
        self._beat = time.monotonic()
        own = (
            Part.job_id == self._run.job_id, Part.number == self._at, Part.owner == self._owner,
        )  # fmt: skip
        try:
            with self._database.session.begin() as session:
                session.execute(update(Part).where(*own).values(heard=now()))
        except AWAY as error:  # for a moment, perhaps; the part goes on
            log.warning("a sign of life could not be given (%s)", error)

    def _claim(self) -> int | None:
        """The next part that is nobody's; None if there is none."""
        free = (
            select(Part.id)
            .where(
                Part.job_id == self._run.job_id, Part.done.is_(False),
                or_(Part.owner.is_(None), Part.heard < now() - SILENT),
            )
            .order_by(Part.number)
            .limit(1)
            .with_for_update(skip_locked=True)
            .scalar_subquery()  # asked once; asked again for each row, as by IN, it takes them all
        )  # fmt: skip
        with self._database.session.begin() as session:
            return session.scalar(
                update(Part)
                .where(Part.id == free)
                .values(owner=self._owner, heard=now())
                .returning(Part.number)
            )

    def _owns(self, number: int) -> bool:
        own = Part.job_id == self._run.job_id, Part.number == number
        with self._database.session() as session:
            return session.scalar(select(Part.owner).where(*own)) == self._owner

    def _done(self, number: int) -> None:
        with self._database.session.begin() as session:
            session.execute(
                update(Part)
                .where(Part.job_id == self._run.job_id, Part.number == number)
                .values(done=True)
            )


def _remove(made: Path) -> None:
    """A part, in a file or folder of its own, that is not wanted any more."""
    if made.is_dir():
        shutil.rmtree(made, ignore_errors=True)
    else:
        made.unlink(missing_ok=True)


class Helping(Run):
    """Somebody else's run, which is helped with: its row is not written to."""

    def progress(self, done: int, total: int) -> None:
        """Raises Superseded once the run has ended, or is to."""
        if time.monotonic() - self._looked < BEAT:
            return
        self._looked = time.monotonic()
        if not self.is_going_on():
            raise Superseded("what was helped with has ended.")
