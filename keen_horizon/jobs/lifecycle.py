"""One run of one piece of work: claiming it, its progress, its end."""

from __future__ import annotations

import logging
import time
from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import case, update

from ..core.errors import Cancelled, KeenError
from ..store.database import Database
from ..store.models import OPEN_STATES, Job, now

log = logging.getLogger(__name__)
LOOK_UP_EVERY = 0.4  # seconds between progress reports
MOST_LOST = 3  # attempts that may end without a word before the work counts as failed


class Superseded(Cancelled):
    """Another worker has taken this work over."""


class Run:
    """A claim on a row of the work table."""

    def __init__(self, database: Database, work_id: int, attempt: int) -> None:
        self._database, self.work_id, self.attempt = database, work_id, attempt
        self._looked = 0.0
        self._begun = False

    def progress(self, done: int, total: int) -> None:
        """Report frames; raises Cancelled if somebody asked for that, Superseded if replaced.

        The first report tells where this attempt began. One that begins further on than the last
        shows that the work gets somewhere, whatever happened to its workers.
        """
        if time.monotonic() - self._looked < LOOK_UP_EVERY and done != total and self._begun:
            return
        self._looked = time.monotonic()
        values: dict[str, object] = {"done": done, "total": total}
        if not self._begun:
            start = done - 1
            values["lost"] = case((Job.resumed < start, 0), else_=Job.lost)
            values["resumed"] = start
            self._begun = True
        with self._database.session.begin() as session:
            cancel = session.execute(
                update(Job)
                .where(Job.id == self.work_id, Job.attempt == self.attempt)
                .values(values)
                .returning(Job.cancel)
            ).scalar_one_or_none()
        if cancel is None:
            raise Superseded("another worker has taken this over.")
        if cancel:
            raise Cancelled("cancelled.")

    def end(self, state: str, message: str | None = None) -> None:
        with self._database.session.begin() as session:
            session.execute(
                update(Job)
                .where(Job.id == self.work_id, Job.attempt == self.attempt)
                .values(state=state, message=message, finished=now())
            )


@contextmanager
def run_of(database: Database, work_id: int) -> Iterator[Run | None]:
    """Claim work, and write down how it ended. Gives None if there is nothing to do any more."""
    with database.session.begin() as session:
        work = session.get(Job, work_id, with_for_update=True)
        claimed = claim(database, work) if work is not None else None
    if claimed is None:
        yield None
        return
    with _ending(claimed):
        yield claimed


def claim(database: Database, work: Job) -> Run | None:
    """Take a locked row for this process; None if it is not to be done (any more)."""
    if work.state not in OPEN_STATES:
        return None
    if work.state == "running":  # whoever did it is gone without a word
        work.lost += 1
    if work.cancel:
        work.state, work.finished = "cancelled", now()
        return None
    if work.lost >= MOST_LOST:
        work.state, work.finished = "failed", now()
        work.message = (
            f"{work.recording.name}: the worker died {work.lost} times at this without getting "
            "any further; its log may say why. Try again, or try another copy of the file."
        )
        return None
    work.state, work.started, work.done = "running", now(), 0
    work.attempt += 1
    return Run(database, work.id, work.attempt)


@contextmanager
def _ending(run: Run) -> Iterator[None]:
    try:
        yield
    except Superseded:
        log.warning("work %s was taken over", run.work_id)
    except Cancelled:
        run.end("cancelled", "Cancelled.")
    except KeenError as error:
        run.end("failed", error.message)
    except Exception:
        log.exception("work %s failed", run.work_id)
        run.end(
            "failed", "Something went wrong that should not have; the log says more. Try again."
        )
    else:
        run.end("done")
