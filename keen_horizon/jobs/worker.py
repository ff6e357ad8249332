"""A worker process: takes work from the queue, and looks after work whose worker died.

Every worker sends a heartbeat. One that falls silent for half a minute is dead; the others put its
work back into the queue, so it is begun again well within a minute.
"""

from __future__ import annotations

import asyncio
import logging
from datetime import timedelta

import procrastinate
from sqlalchemy import select

from ..store.database import Database
from ..store.media_store import MediaStore
from ..store.models import Job, now
from .lifecycle import run_of
from .queue import QUICK, SLOW, TASK, Queue
from .runner import JobRunner

log = logging.getLogger(__name__)
HEARTBEAT = 5.0  # seconds
DEAD_AFTER = 20.0
LOOK_AFTER_EVERY = 5.0
UNTOLD_AFTER = timedelta(seconds=15)


def work_forever(url: str, vault: MediaStore, queues: list[str] | None) -> None:
    """Run until stopped. ``queues`` None takes work of every kind."""
    database = Database(url)
    workshop = JobRunner(database, vault)
    vault.clear_stale_workspaces()
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=url))

    @app.task(name=TASK)
    def run(work_id: int) -> None:
        with run_of(database, work_id) as claimed:
            if claimed is not None:
                workshop.do(claimed)

    async def everything() -> None:
        async with app.open_async():
            keeper = asyncio.create_task(_look_after(app, database, Queue(url)))
            try:
                await app.run_worker_async(
                    queues=queues or [QUICK, SLOW],
                    update_heartbeat_interval=HEARTBEAT,
                    stalled_worker_timeout=DEAD_AFTER,
                    fetch_job_polling_interval=2.0,
                    # Whatever is under way is taken up again by another worker.
                    shutdown_graceful_timeout=1.0,
                )
            finally:
                keeper.cancel()

    asyncio.run(everything())


async def _look_after(app: procrastinate.App, database: Database, queue: Queue) -> None:
    while True:
        try:
            for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=DEAD_AFTER):
                log.warning("job %s lost its worker; back into the queue", job.id)
                await app.job_manager.retry_job(job)
            await asyncio.to_thread(requeue_undelivered, database, queue)
        except Exception:  # the database may be away for a moment; keep looking
            log.exception("looking after the queue failed")
        await asyncio.sleep(LOOK_AFTER_EVERY)


def requeue_undelivered(database: Database, queue: Queue) -> None:
    """Work that was written down, but whose writer died before telling the queue."""
    with database.session() as session:
        for work in session.scalars(
            select(Job)
            .where(
                Job.state == "queued",
                Job.queue_job.is_(None),
                Job.created < now() - UNTOLD_AFTER,
            )
            .with_for_update(skip_locked=True)
        ):
            queue.send(session, work)
