"""The task queue: one task, which runs a row of the job table.

A row is handed over as a queue job of its own; locks of that queue see to it that no two of one row
are ever at work, whatever was asked for how often. What nobody has any more is handed over again
(:meth:`Queue.requeue_lost`).
"""

from __future__ import annotations

from datetime import timedelta

import procrastinate
from procrastinate import exceptions
from procrastinate.jobs import Status
from sqlalchemy import BigInteger, Column, MetaData, String, Table, and_, or_, select
from sqlalchemy.dialects.postgresql import ENUM
from sqlalchemy.orm import Session

from ..store.database import Database
from ..store.models import OPEN_STATES, Job, now
from .kind import HELP
from .kinds import KINDS, kind_of

TASK, HELPING = "keen_horizon.run", "keen_horizon.help"
LAST = -2  # priority: whatever else there is goes first
UNDER_WAY = ("todo", "doing")  # states of a queue job
UNDELIVERED_AFTER = timedelta(seconds=15)  # that a writer has to hand a row over itself
_queue_jobs = Table(
    "procrastinate_jobs",
    MetaData(),
    Column("id", BigInteger),
    Column("status", ENUM(*(s.value for s in Status), name="procrastinate_job_status")),
    Column("queueing_lock", String),
)


class Queue:
    """Hands work to the workers. Thread-safe; opened on first use."""

    def __init__(self, url: str) -> None:
        self._app = procrastinate.App(
            connector=procrastinate.SyncPsycopgConnector(conninfo=url, min_size=1, max_size=3)
        )
        self._app.open()

    def close(self) -> None:
        self._app.close()

    def send(self, session: Session, job: Job) -> None:
        """Commit the row, then tell the workers. A row that was never told of is found by the
        workers themselves."""
        session.commit()
        lock = f"job-{job.id}"
        kind = kind_of(job.kind)
        task = self._app.configure_task(
            TASK, queue=kind.queue, lock=lock, queueing_lock=lock, priority=-kind.can_wait
        )
        try:
            job.queue_job = task.defer(job_id=job.id)
        except exceptions.AlreadyEnqueued:  # it waits there already
            job.queue_job = session.scalar(
                select(_queue_jobs.c.id).where(
                    _queue_jobs.c.queueing_lock == lock, _queue_jobs.c.status == "todo"
                )
            )
        session.commit()

    def ask_help(self, job_id: int, count: int) -> None:
        """Ask so many workers that have nothing else to do to help with work under way."""
        task = self._app.configure_task(HELPING, queue=HELP, priority=LAST)
        for _ in range(count):
            task.defer(job_id=job_id)

    def ask(
        self,
        session: Session,
        kind: str,
        recording_id: int,
        *,
        clip_id: int | None = None,
        export_id: int | None = None,
        details: dict[str, object] | None = None,
        asked_by: str = "",
    ) -> Job:
        """Request a piece of work; the same piece already under way is returned instead.

        An earlier request of a replaceable kind is cancelled, if the same ``asked_by`` made it for
        the same clip: it is told apart who waits for what.
        """
        declared, details = kind_of(kind), details or {}
        query = select(Job).where(
            Job.kind == kind,
            Job.recording_id == recording_id,
            Job.state.in_(OPEN_STATES),
            Job.cancel.is_(False),
        )
        if export_id is not None:
            query = query.where(Job.export_id == export_id)
        for job in session.scalars(query):
            if job.details == details:
                return job
            if declared.replaceable and (job.clip_id, job.asked_by) == (clip_id, asked_by):
                # A slider has moved on, or a range: nobody waits for the earlier one any more.
                job.replaced = True
                self.cancel(session, job)
        job = Job(
            kind=kind, recording_id=recording_id, clip_id=clip_id, export_id=export_id,
            details=details, asked_by=asked_by,
        )  # fmt: skip
        session.add(job)
        self.send(session, job)
        return job

    def retry(self, session: Session, job: Job) -> None:
        """Start failed, cancelled or lost work over; what is under way, or done, stays so."""
        if job.state == "done" or (job.state in OPEN_STATES and self.is_under_way(session, job)):
            return
        job.state, job.cancel, job.message, job.replaced = "queued", False, None, False
        job.done, job.resumed, job.lost = 0, 0, 0
        job.finished, job.created = None, now()
        self.send(session, job)

    def cancel(self, session: Session, job: Job) -> None:
        """Stop it: at once if nobody is at it, else as soon as the worker looks up."""
        if job.state not in OPEN_STATES:
            return
        job.cancel = True
        if job.state == "queued" or not self.is_under_way(session, job):
            job.state, job.finished = "cancelled", now()
            job.message = "Cancelled before it began." if not job.attempt else "Cancelled."
        session.commit()
        if job.state == "cancelled" and job.queue_job is not None:
            self._app.job_manager.cancel_job_by_id(job.queue_job, delete_job=True)

    def is_under_way(self, session: Session, job: Job) -> bool:
        """Whether the queue still has a row, or a worker."""
        status = session.scalar(
            select(_queue_jobs.c.status).where(_queue_jobs.c.id == job.queue_job)
        )
        return status in UNDER_WAY

    def requeue_lost(self, database: Database) -> int:
        """Hand over again every open row that the queue does not have (any more): its writer, its
        worker or the database was gone at the wrong moment. Returns how many there were."""
        lost = (
            select(Job)
            .outerjoin(_queue_jobs, _queue_jobs.c.id == Job.queue_job)
            .where(
                Job.state.in_(OPEN_STATES),
                or_(
                    and_(Job.queue_job.is_(None), Job.created < now() - UNDELIVERED_AFTER),
                    and_(
                        Job.queue_job.is_not(None),
                        or_(
                            _queue_jobs.c.id.is_(None),
                            _queue_jobs.c.status.not_in(UNDER_WAY),
                        ),
                    ),
                ),
            )
            .order_by(Job.id)
            .limit(1)
            .with_for_update(of=Job, skip_locked=True)
        )
        count = 0
        while True:  # one a transaction: handing over commits, and so gives up the others' locks
            with database.session() as session:
                job = session.scalar(lost)
                if job is None:
                    return count
                count += 1
                if job.kind in KINDS:
                    if job.state == "running":  # it waits again, and is told as that
                        job.state, job.started, job.lost = "queued", None, job.lost + 1
                    self.send(session, job)
                else:
                    job.state, job.finished = "failed", now()
                    job.message = f"There is no work of the kind '{job.kind}'."
                    session.commit()
