"""Does pieces of work. One an operating-system process."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from functools import partial

from ..core.errors import Cancelled, KeenError, disk_errors
from ..store.database import Database
from ..store.media_store import MediaStore
from ..store.models import Job, Recording
from .kind import JobKind, Task
from .kinds import kind_of
from .lifecycle import Run
from .parts import Helping
from .solutions import Solver

log = logging.getLogger(__name__)
AskHelp = Callable[[int, int], None]  # with which piece of work, and of how many


def nobody(job_id: int, count: int) -> None:
    """Ask nobody for help."""


class JobRunner:
    """Does what runs have claimed, and remembers what is used again."""

    def __init__(self, database: Database, store: MediaStore, ask_help: AskHelp = nobody) -> None:
        self.database, self.store = database, store
        self._ask_help = ask_help
        self._solver = Solver(store)

    def do(self, run: Run) -> None:
        """Do a piece of work, whatever its kind. Raises KeenError about the recording's own name
        where it cannot be done."""
        kind, task = self._task(run)
        recording = task.recording
        log.info(
            "begun", extra={"kind": kind.name, "attempt": run.attempt, "recording": recording.id}
        )
        started = time.monotonic()
        try:
            with disk_errors(self.store.root, about=recording.name):
                kind.do(task)
            log.info("done", extra={"seconds": round(time.monotonic() - started, 3)})
        except KeenError as error:
            # The vault's file names mean nothing to the person who gave the file.
            raise (error.renamed(recording.name) if error.file else error) from error

    def help(self, job_id: int) -> None:
        """Help with a piece of work that somebody else is at, if there is something to help with.
        What goes wrong with that is found by whoever is at it, too, and told there."""
        with self.database.session() as session:
            job = session.get(Job, job_id)
            if job is None:
                return
            run = Helping(self.database, job.id, job.attempt)
        kind, task = self._task(run)
        if kind.help is None or not run.is_going_on():
            return
        try:
            kind.help(task)
        except Cancelled:
            pass
        except (KeenError, OSError) as error:
            log.warning("could not help: %s", error)

    def _task(self, run: Run) -> tuple[JobKind, Task]:
        with self.database.session() as session:
            job = session.get_one(Job, run.job_id)
            recording = session.get_one(Recording, job.recording_id)
            task = Task(
                run, recording, dict(job.details), job.export_id, self.database, self.store,
                self._solver, partial(self._ask_help, job.id),
            )  # fmt: skip
            return kind_of(job.kind), task
