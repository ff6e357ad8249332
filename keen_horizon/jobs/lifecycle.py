"""One run of one piece of work: claiming it, its progress, its end."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from procrastinate.exceptions import ConnectorException
from psycopg.errors import DiskFull
from sqlalchemy import case, update
from sqlalchemy.exc import InterfaceError, OperationalError

from ..core.errors import Cancelled, KeenError
from ..store.database import Database
from ..store.models import OPEN_STATES, Job, now

log = logging.getLogger(__name__)
LOOK_UP_EVERY = 0.4  # seconds between progress reports
MOST_LOST = 3  # attempts that may end without a word before the work counts as failed
AWAY = (OperationalError, InterfaceError, ConnectorException)  # of a database
MOST_OUTAGES = 20  # attempts after which an absent database is no excuse any more
GIVE_UP = 300.0  # seconds that an end waits for the database to come back
AGAIN_AFTER = 1.0  # seconds


class Superseded(Cancelled):
    """Another worker has taken this work over."""


class Run:
    """A claim on a row of the job table."""

    def __init__(self, database: Database, job_id: int, attempt: int) -> None:
        self._database, self.job_id, self.attempt = database, job_id, attempt
        self._looked = 0.0
        self._begun = False

    def progress(self, done: int, total: int) -> None:
        """Report frames; raises Cancelled if somebody asked for that, Superseded if replaced.

        The first report tells where this attempt began. One that begins further on than the last
        shows that the work gets somewhere, whatever happened to its workers. A database that is
        away for a moment does not stop the work.
        """
        if time.monotonic() - self._looked < LOOK_UP_EVERY and done != total and self._begun:
            return
        self._looked = time.monotonic()
        values: dict[str, object] = {"done": done, "total": total}
        if not self._begun:
            start = max(done - 1, 0)
            values["lost"] = case((Job.resumed < start, 0), else_=Job.lost)
            values["resumed"] = start
        try:
            cancel = self._write(values)
        except AWAY as error:
            log.warning("progress could not be told (%s)", error)
            return
        self._begun = True
        if cancel:
            raise Cancelled("cancelled.")

    def _write(self, values: dict[str, object]) -> bool:
        """Change the row as long as it is this run's; returns whether to stop. Raises Superseded
        once it is another's."""
        with self._database.session.begin() as session:
            cancel = session.execute(
                update(Job)
                .where(Job.id == self.job_id, Job.attempt == self.attempt)
                .values(values)
                .returning(Job.cancel)
            ).scalar_one_or_none()
        if cancel is None:
            raise Superseded("another worker has taken this over.")
        return cancel

    def is_going_on(self) -> bool:
        """Whether it is this attempt that is at it still, and to go on."""
        with self._database.session() as session:
            job = session.get(Job, self.job_id)
            return bool(
                job and job.attempt == self.attempt and job.state == "running" and not job.cancel
            )

    def end(self, state: str, message: str | None = None) -> None:
        """Write down how it ended, as soon as the database is there. Raises Superseded."""
        _patiently(lambda: self._write({"state": state, "message": message, "finished": now()}))

    def put_back(self) -> None:
        """Leave it to whoever is free once the database is there again: an outage is not a death.
        Raises Superseded."""
        _patiently(lambda: self._write({"state": "queued", "started": None}))


def _patiently(write: Callable[[], object]) -> None:
    """Try until the database is back."""
    give_up = time.monotonic() + GIVE_UP
    while True:
        try:
            write()
            return
        except AWAY:
            if time.monotonic() > give_up:
                raise
            log.warning("the database is away; trying again")
            time.sleep(AGAIN_AFTER)


@contextmanager
def run_of(database: Database, job_id: int) -> Iterator[Run | None]:
    """Claim work, and write down how it ended. Gives None if there is nothing to do any more."""
    with database.session.begin() as session:
        job = session.get(Job, job_id, with_for_update=True)
        claimed = claim(database, job) if job is not None else None
    if claimed is None:
        yield None
        return
    with _ending(claimed):
        yield claimed


def claim(database: Database, job: Job) -> Run | None:
    """Take a locked row for this process; None if it is not to be done (any more). The queue hands
    a row to one worker at a time, so whoever was running it is gone."""
    if job.state not in OPEN_STATES:
        return None
    if job.state == "running":  # whoever did it is gone without a word
        job.lost += 1
    if job.cancel:
        job.state, job.finished = "cancelled", now()
        return None
    if job.lost >= MOST_LOST:
        job.state, job.finished = "failed", now()
        job.message = (
            f"{job.recording.name}: the worker died {job.lost} times at this without getting "
            "any further; its log may say why. Try again, or try another copy of the file."
        )
        return None
    job.state, job.started, job.done = "running", now(), 0
    job.attempt += 1
    return Run(database, job.id, job.attempt)


@contextmanager
def _ending(run: Run) -> Iterator[None]:
    try:
        yield
    except Superseded:
        raise  # the worker leaves the row and its place in the queue to the other
    except Cancelled:
        run.end("cancelled", "Cancelled.")
    except KeenError as error:
        log.warning("failed: %s", error, exc_info=error.__cause__ is not None)
        run.end("failed", error.message)
    except AWAY as error:
        log.warning("the database was away (%s)", error)
        if isinstance(getattr(error, "orig", None), DiskFull):
            run.end("failed", "The disk is full, so it could not be kept. Make room and try again.")
        elif run.attempt >= MOST_OUTAGES:
            run.end("failed", "The database was away again and again. Try again once it stays.")
        else:
            run.put_back()
    except Exception:
        log.exception("failed as it should not have")
        run.end(
            "failed", "Something went wrong that should not have; the log says more. Try again."
        )
    else:
        run.end("done")
