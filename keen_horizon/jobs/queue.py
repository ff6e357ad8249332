"""The task queue: one task, which runs a row of the work table."""

from __future__ import annotations

from typing import Literal

import procrastinate
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..store.models import OPEN_STATES, Job, now

QUICK, SLOW = "quick", "slow"
_QUEUES = {
    "ingest": QUICK, "measure": QUICK, "solve": QUICK, "cost": QUICK, "look": QUICK,
    "chart": QUICK, "export": SLOW,
}  # fmt: skip
TASK = "keen_horizon.run"
REPLACEABLE = ("measure", "solve", "cost", "look")
Kind = Literal["ingest", "measure", "solve", "cost", "look", "chart", "export"]


class Queue:
    """Hands work to the workers. Thread-safe; opened on first use."""

    def __init__(self, url: str) -> None:
        self._app = procrastinate.App(
            connector=procrastinate.SyncPsycopgConnector(conninfo=url, min_size=1, max_size=3)
        )
        self._app.open()

    def close(self) -> None:
        self._app.close()

    def send(self, session: Session, work: Job) -> None:
        """Commit the row, then tell the workers. A row that was never told of is found by the
        workers themselves (see :mod:`.worker`)."""
        session.commit()
        work.queue_job = self._app.configure_task(TASK, queue=_QUEUES[work.kind]).defer(
            work_id=work.id
        )
        session.commit()

    def ask(
        self,
        session: Session,
        kind: Kind,
        recording_id: int,
        *,
        clip_id: int | None = None,
        export_id: int | None = None,
        details: dict[str, object] | None = None,
    ) -> Job:
        """Request a piece of work; the same piece already under way is returned instead."""
        details = details or {}
        query = select(Job).where(
            Job.kind == kind,
            Job.recording_id == recording_id,
            Job.state.in_(OPEN_STATES),
            Job.cancel.is_(False),
        )
        if export_id is not None:
            query = query.where(Job.export_id == export_id)
        for work in session.scalars(query):
            if work.details == details:
                return work
            if kind in REPLACEABLE and work.clip_id == clip_id:
                # A slider has moved on, or a range: nobody waits for the earlier one any more.
                self.cancel(session, work)
        work = Job(
            kind=kind,
            recording_id=recording_id,
            clip_id=clip_id,
            export_id=export_id,
            details=details,
        )
        session.add(work)
        self.send(session, work)
        return work

    def retry(self, session: Session, work: Job) -> None:
        """Start failed or cancelled work over."""
        if work.state in OPEN_STATES:
            return
        work.state, work.cancel, work.message = "queued", False, None
        work.done, work.resumed, work.lost = 0, 0, 0
        work.finished, work.created = None, now()
        self.send(session, work)

    def cancel(self, session: Session, work: Job) -> None:
        """Stop it: at once if nobody has begun, else as soon as the worker looks up."""
        work.cancel = True
        if work.state == "queued":
            work.state, work.finished = "cancelled", now()
            work.message = "Cancelled before it began."
        session.commit()
