"""One run of one piece of work: claiming it, its progress, its end."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from sqlalchemy import update

from ..core.errors import Cancelled, KeenError
from ..store.database import Database
from ..store.models import Work, now

log = logging.getLogger(__name__)
LOOK_UP_EVERY = 0.4  # seconds between progress reports


class Superseded(Cancelled):
    """Another worker has taken this work over."""


class Run:
    """A claim on a row of the work table."""

    def __init__(self, database: Database, work_id: int, attempt: int) -> None:
        self._database, self.work_id, self.attempt = database, work_id, attempt
        self._looked = 0.0

    def progress(self, done: int, total: int) -> None:
        """Report frames; raises Cancelled if somebody asked for that, Superseded if replaced."""
        if time.monotonic() - self._looked < LOOK_UP_EVERY and done != total:
            return
        self._looked = time.monotonic()
        with self._database.session.begin() as session:
            cancel = session.execute(
                update(Work)
                .where(Work.id == self.work_id, Work.attempt == self.attempt)
                .values(done=done, total=total)
                .returning(Work.cancel)
            ).scalar_one_or_none()
        if cancel is None:
            raise Superseded("another worker has taken this over.")
        if cancel:
            raise Cancelled("cancelled.")

    def end(self, state: str, message: str | None = None) -> None:
        with self._database.session.begin() as session:
            session.execute(
                update(Work)
                .where(Work.id == self.work_id, Work.attempt == self.attempt)
                .values(state=state, message=message, finished=now())
            )


@contextmanager
def run_of(database: Database, work_id: int) -> Iterator[Run | None]:
    """Claim work, and write down how it ended. Gives None if there is nothing to do any more."""
    with database.session.begin() as session:
        work = session.get(Work, work_id, with_for_update=True)
        if work is None or work.state not in ("queued", "running") or work.cancel:
            claimed = None
            if work is not None and work.cancel and work.state == "running":
                # Its worker died before it could look up.
                work.state, work.finished = "cancelled", now()
        else:
            work.state, work.started = "running", now()
            work.attempt += 1
            work.done = 0
            claimed = Run(database, work_id, work.attempt)
    if claimed is None:
        yield None
        return
    with _ending(claimed):
        yield claimed


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


Step = Callable[[Run], None]
