"""Work that the queue and the table disagree about: it is found, and done once."""

from __future__ import annotations

import signal

import psycopg
import pytest
from psycopg.errors import DiskFull
from sqlalchemy.exc import OperationalError

from keen_horizon.jobs.lifecycle import run_of
from keen_horizon.store.models import Job
from tests.integration.conftest import wait_for

pytestmark = pytest.mark.integration


def queue_jobs(place, job_id: int) -> list[tuple[int, str]]:
    """What the queue has of a row: number and status, oldest first."""
    with psycopg.connect(place.url) as connection:
        return connection.execute(
            "select id, status::text from procrastinate_jobs where queueing_lock = %s order by id",
            [f"job-{job_id}"],
        ).fetchall()


def close(place, job_id: int, status: str) -> None:
    with psycopg.connect(place.url, autocommit=True) as connection:
        connection.execute(
            "update procrastinate_jobs set status = %s where queueing_lock = %s",
            [status, f"job-{job_id}"],
        )


def forget(place, job_id: int) -> None:
    with psycopg.connect(place.url, autocommit=True) as connection:
        connection.execute(
            "delete from procrastinate_jobs where queueing_lock = %s", [f"job-{job_id}"]
        )


def stand(place, job_id: int, state: str) -> None:
    with place.database.session.begin() as session:
        session.get_one(Job, job_id).state = state


def test_a_stopped_worker_a_replaced_one_and_a_killed_one_lose_nothing(place, make_clip, workers):
    path = make_clip("stopped.mp4", width=640, height=480, count=500, sound=None)
    recording, _ = place.add(path)
    job = place.ask("ingest", recording)
    first = workers()
    wait_for(lambda: place.work(job).done > 5, 120, every=0.05)
    first.send_signal(signal.SIGSTOP)
    second = workers()
    wait_for(lambda: place.work(job).attempt >= 2 and place.work(job).done > 5, 120, every=0.05)
    # The first comes back, finds itself replaced, and leaves the other's place in the queue alone.
    first.send_signal(signal.SIGCONT)
    wait_for(lambda: place.work(job).done > 40 or place.work(job).state == "done", 120, every=0.05)
    second.kill()
    second.wait()
    assert place.work(job).state == "running"
    workers()
    wait_for(lambda: place.work(job).state == "done", seconds=200)
    assert place.recording(recording).probe["frame_count"] == 500


@pytest.mark.parametrize("state", ["queued", "running"])
@pytest.mark.parametrize("lose", ["succeeded", "failed", "cancelled", "gone"])
def test_a_row_that_the_queue_has_closed_goes_back_into_it(place, make_clip, state, lose):
    recording, _ = place.add(make_clip("closed.mp4", count=4))
    job = place.ask("ingest", recording)
    stand(place, job, state)
    if lose == "gone":
        forget(place, job)
    else:
        close(place, job, lose)
    before = place.work(job).queue_job
    assert place.queue.requeue_lost(place.database) == 1
    assert place.work(job).queue_job != before
    # It is told as waiting, not as if somebody were still at it; a lost attempt counts once.
    assert (place.work(job).state, place.work(job).lost) == ("queued", int(state == "running"))
    assert [status for _, status in queue_jobs(place, job)][-1] == "todo"
    # What is in the queue stays there, and is not handed over twice.
    assert place.queue.requeue_lost(place.database) == 0
    assert place.work_now(job) == "done"


@pytest.mark.parametrize("state", ["queued", "running"])
def test_try_again_and_cancel_do_something_about_lost_rows(place, make_clip, state):
    recording, _ = place.add(make_clip("stuck.mp4", count=4))
    job = place.ask("ingest", recording)
    stand(place, job, state)
    close(place, job, "succeeded")
    assert place.post(f"/work/{job}/retry").json["state"] == "queued"
    assert [status for _, status in queue_jobs(place, job)].count("todo") == 1
    stand(place, job, state)
    close(place, job, "failed")
    assert place.post(f"/work/{job}/cancel").json["state"] == "cancelled"
    assert place.work_now(job) == "cancelled"


def test_cancelling_and_trying_again_never_gives_a_row_to_two_workers(place, make_clip):
    recording, _ = place.add(make_clip("two.mp4", count=4))
    job = place.ask("ingest", recording)
    for _ in range(3):
        place.post(f"/work/{job}/cancel")
        place.post(f"/work/{job}/retry")
    assert [status for _, status in queue_jobs(place, job)] == ["todo"]
    place.post(f"/work/{job}/retry")  # under way already
    assert len(queue_jobs(place, job)) == 1
    assert place.work_now(job) == "done"
    assert (place.work(job).lost, place.work(job).attempt) == (0, 1)


def test_an_export_goes_before_takes_that_were_asked_for_earlier(place, make_clip):
    recording, clip = place.measured(make_clip("first.mp4", count=4))
    take = place.ask("take", recording, details={"take": "quay walk"})
    export = place.ask("export", recording, clip_id=clip)
    with psycopg.connect(place.url) as connection:
        order = connection.execute(
            "select queueing_lock from procrastinate_jobs where queue_name = 'slow'"
            " and queueing_lock = any(%s) order by priority desc, id",
            [[f"job-{take}", f"job-{export}"]],
        ).fetchall()
    assert [lock for (lock,) in order] == [f"job-{export}", f"job-{take}"]


def test_work_of_an_unknown_kind_fails_loudly(place, make_clip):
    recording, _ = place.add(make_clip("unknown.mp4", count=4))
    with place.database.session.begin() as session:
        rows = [
            Job(kind="glue", recording_id=recording),
            Job(kind="export", recording_id=recording),
        ]
        session.add_all(rows)
        session.flush()
        unknown, aimless = (row.id for row in rows)
    # A shelf that such work is on can be looked at, too.
    assert place.get("/shelf.json").status_code == 200
    assert place.work_now(unknown) == "failed"
    assert "no work of the kind 'glue'" in place.work(unknown).message
    assert place.work_now(aimless) == "failed"  # an export of nothing is not "done"
    # One that only the table has: the workers close it as well.
    with place.database.session.begin() as session:
        row = Job(kind="glue", recording_id=recording, queue_job=0)
        session.add(row)
        session.flush()
        stray = row.id
    place.queue.requeue_lost(place.database)
    assert (place.work(stray).state, "glue" in place.work(stray).message) == ("failed", True)


def test_two_pages_do_not_stop_each_others_work(place, make_clip):
    recording, clip = place.add(make_clip("pages.mp4", count=4))
    options = {"clip_id": clip}
    one = place.ask("solve", recording, details={"calm": 1}, asked_by="a", **options)
    other = place.ask("solve", recording, details={"calm": 2}, asked_by="b", **options)
    assert place.work(one).state == place.work(other).state == "queued"
    # Each of them replaces its own earlier wish only.
    newer = place.ask("solve", recording, details={"calm": 3}, asked_by="a", **options)
    assert place.work(one).state == "cancelled"
    assert place.work(other).state == place.work(newer).state == "queued"


def test_an_outage_in_the_middle_of_work_is_not_a_death(place, make_clip):
    recording, _ = place.add(make_clip("outage.mp4", count=6))
    work = place.ask("ingest", recording)
    with run_of(place.database, work) as claimed:
        assert claimed is not None
        raise OperationalError("select 1", {}, Exception("server closed the connection"))
    row = place.work(work)
    assert (row.state, row.lost, row.started) == ("queued", 0, None)
    assert place.work_now(work) == "done"


@pytest.mark.parametrize(
    ("attempt", "cause", "words"),
    [(30, Exception("gone"), "again and again"), (1, DiskFull("no space"), "disk is full")],
)
def test_an_outage_that_does_not_end_and_a_full_disk_are_failures_in_words(
    place, make_clip, attempt, cause, words
):
    recording, _ = place.add(make_clip("full.mp4", count=6))
    work = place.ask("ingest", recording)
    with place.database.session.begin() as session:
        session.get_one(Job, work).attempt = attempt
    with run_of(place.database, work):
        raise OperationalError("insert", {}, cause)
    row = place.work(work)
    assert row.state == "failed"
    assert words in row.message
