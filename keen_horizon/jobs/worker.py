"""A worker process: takes work from the queue, and looks after work that nobody has any more.

Every worker sends a heartbeat. One that falls silent for :data:`DEAD_AFTER` seconds is taken for
dead; the others hand its work over anew, so it is begun again well within a minute. A worker that
was only stopped for that long finds itself replaced, and ends. While the database is away nobody's
heart can be heard, so nobody is taken for dead until it has been back for as long.
"""

from __future__ import annotations

import asyncio
import logging
import os
import time

import procrastinate
from procrastinate.jobs import DeleteJobCondition, Status
from procrastinate.worker import Worker

from ..logs import about
from ..store.bin import empty_bin
from ..store.database import Database
from ..store.media_store import MediaStore
from ..store.uploads import Uploads
from .kind import HELP, QUICK, SLOW
from .lifecycle import Superseded, run_of
from .queue import HELPING, TASK, Queue
from .runner import JobRunner

log = logging.getLogger(__name__)
HEARTBEAT = 5.0  # seconds
DEAD_AFTER = 20.0
LOOK_AFTER_EVERY = 5.0
TIDY_EVERY = 600.0
PATIENT = 3600.0  # seconds that the queue waits for a database that is away
REPLACED = 75  # exit status of a worker whose work has been given to another


def work_forever(url: str, store: MediaStore, queues: list[str] | None) -> None:
    """Run until stopped. ``queues`` None takes work of every kind."""
    database = Database(url)
    queue = Queue(url)
    runner = JobRunner(database, store, queue.ask_help)
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=url, timeout=PATIENT))

    @app.task(name=TASK)
    def run(job_id: int) -> None:
        with about(work=job_id):
            try:
                with run_of(database, job_id) as claimed:
                    if claimed is not None:
                        runner.do(claimed)
            except Superseded:
                log.warning("taken over by another worker")

    @app.task(name=HELPING)
    def help_with(job_id: int) -> None:
        with about(work=job_id, helping=True):
            runner.help(job_id)

    async def everything() -> None:
        async with app.open_async():
            worker = Worker(
                app,
                queues=queues or [QUICK, SLOW, HELP],
                update_heartbeat_interval=HEARTBEAT,
                stalled_worker_timeout=DEAD_AFTER,
                fetch_job_polling_interval=2.0,
                # Whatever is under way is taken up again by another worker.
                shutdown_graceful_timeout=1.0,
                delete_jobs=DeleteJobCondition.SUCCESSFUL,
            )
            keeper = asyncio.create_task(_look_after(worker, database, queue))
            tidier = asyncio.create_task(_tidy(database, store))
            try:
                await worker.run()  # type: ignore[no-untyped-call]
            finally:
                keeper.cancel()
                tidier.cancel()

    asyncio.run(everything())


async def _look_after(worker: Worker, database: Database, queue: Queue) -> None:
    app = worker.app
    back = time.monotonic()  # since when the database has answered without a break
    while True:
        try:
            if worker.worker_id is not None:  # the worker's own way of saying so ends for good
                await app.job_manager.update_heartbeat(worker.worker_id)  # at the first outage
            if time.monotonic() - back > DEAD_AFTER:  # whoever is alive has been heard since
                await _give_up_stalled(app)
            count = await asyncio.to_thread(queue.requeue_lost, database)
            if count:
                log.warning("%s pieces of work had been lost; back into the queue", count)
        except Exception:  # the database may be away for a moment; keep looking
            log.exception("looking after the queue failed")
            back = time.monotonic()
        rested = time.monotonic()
        await asyncio.sleep(LOOK_AFTER_EVERY)
        if time.monotonic() - rested > LOOK_AFTER_EVERY + DEAD_AFTER:
            log.warning("this worker was stopped for so long that it has been replaced; it ends")
            os._exit(REPLACED)


async def _tidy(database: Database, store: MediaStore) -> None:
    """Give back the disk of what was removed long ago, and of what killed processes left, again
    and again."""
    while True:
        try:
            await asyncio.to_thread(_empty_bin, database, store)
        except Exception:  # the database may be away, the store read-only; another time, then
            log.exception("tidying up failed")
        await asyncio.sleep(TIDY_EVERY)


def _empty_bin(database: Database, store: MediaStore) -> None:
    store.clear_stale_workspaces()
    Uploads(store).sweep()
    with database.session() as session:
        freed = empty_bin(session, store)
    if freed.clips or freed.size:
        log.warning("%s removed clips are gone, %s bytes freed", freed.clips, freed.size)


async def _give_up_stalled(app: procrastinate.App) -> None:
    """Close the queue jobs of dead workers. They are not handed on themselves: should their worker
    come back, it would close them while another is at the same work."""
    for stalled in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=DEAD_AFTER):
        log.warning("job %s lost its worker", stalled.id)
        assert stalled.id is not None
        await app.job_manager.finish_job_by_id_async(stalled.id, Status.FAILED, delete_job=False)
