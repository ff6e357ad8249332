"""Does pieces of work. One an operating-system process."""

from __future__ import annotations

import logging
import time

from ..core.errors import KeenError, disk_errors
from ..store.database import Database
from ..store.media_store import MediaStore
from ..store.models import Job, Recording
from .kind import Task
from .kinds import kind_of
from .lifecycle import Run
from .solutions import Solver

log = logging.getLogger(__name__)


class JobRunner:
    """Does what runs have claimed, and remembers what is used again."""

    def __init__(self, database: Database, store: MediaStore) -> None:
        self.database, self.store = database, store
        self._solver = Solver(store)

    def do(self, run: Run) -> None:
        """Do a piece of work, whatever its kind. Raises KeenError about the recording's own name
        where it cannot be done."""
        with self.database.session() as session:
            job = session.get_one(Job, run.job_id)
            kind = kind_of(job.kind)
            recording = session.get_one(Recording, job.recording_id)
            task = Task(
                run, recording, dict(job.details), job.export_id, self.database, self.store,
                self._solver,
            )  # fmt: skip
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
