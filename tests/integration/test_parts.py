"""One film, followed or drawn by several workers."""

from __future__ import annotations

import signal
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta

import numpy as np
import pytest
from sqlalchemy import event, select

from keen_horizon.core import pipeline
from keen_horizon.core.media import segments
from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.probe import scan
from keen_horizon.core.pipeline.sphere_film import sphere_film
from keen_horizon.core.pipeline.sphere_tracks import EdgesOnTheWay, measure_sphere
from keen_horizon.core.tracking.tracks import Tracks
from keen_horizon.core.treatment import parse
from keen_horizon.jobs import parts
from keen_horizon.jobs.lifecycle import run_of
from keen_horizon.jobs.parts import Helping, Parts
from keen_horizon.jobs.runner import JobRunner
from keen_horizon.jobs.sphere_solutions import SphereSolver
from keen_horizon.simulated.record import record
from keen_horizon.simulated.sphere import harbour_sphere
from keen_horizon.store.models import Export, Followed, Job, Measure, Part
from tests.integration.conftest import wait_for
from tests.integration.test_jobs import export_of

pytestmark = pytest.mark.integration
LENGTH = 20


def film_of(place, export_id: int) -> np.ndarray:
    """Lumas of an export's frames."""
    with place.database.session() as session:
        path = place.store.path(session.get_one(Export, export_id).file_key)
    found = scan(path)
    last = found.probe.frame_count - 1
    return np.stack([p.planes[0].astype(int) for p in frames(path, found, 0, last)])


@pytest.fixture
def done_by(monkeypatch) -> list[tuple[str, int]]:
    """Which parts were done, and by whom."""
    found: list[tuple[str, int]] = []
    done = Parts._done

    def noted(self, number):
        found.append((self._owner, number))
        done(self, number)

    monkeypatch.setattr(Parts, "_done", noted)
    monkeypatch.setattr(segments, "LENGTH", LENGTH)
    monkeypatch.setattr(segments, "LONGEST", LENGTH)
    return found


@contextmanager
def a_helper(place, work_id: int) -> Iterator[None]:
    """Somebody who helps with a piece of work as long as it goes on."""
    helper = JobRunner(place.database, place.store)

    def help_on():
        while place.work(work_id).state in ("queued", "running"):
            helper.help(work_id)
            time.sleep(0.05)

    helping = threading.Thread(target=help_on)
    helping.start()
    yield
    helping.join()


def test_several_workers_draw_one_film_and_no_frame_shows_it(place, make_clip, done_by):
    _, clip_id = place.measured(make_clip("shared.mp4", count=190))
    done_by.clear()
    alone, work_id = export_of(place, clip_id)
    assert place.work_now(work_id) == "done"
    assert [number for _, number in done_by] == list(range(10))
    done_by.clear()
    together, work_id = export_of(place, clip_id)
    with a_helper(place, work_id):
        assert place.work_now(work_id) == "done"
    assert sorted(number for _, number in done_by) == list(range(10))
    assert len({owner for owner, _ in done_by}) == 2
    one, other = film_of(place, alone), film_of(place, together)
    assert one.shape == other.shape
    assert np.abs(one - other).mean() < 0.5  # the encoder does not give the same bits every time
    with place.database.session() as session:
        assert session.query(Part).count() == 0


def test_several_workers_take_one_file_in_and_no_frame_or_mark_shows_it(
    place, make_clip, done_by, tmp_path
):
    path = make_clip("together.mp4", count=190)
    recording, clip = place.add(path)
    work_id = place.ask("ingest", recording, clip_id=clip)
    with a_helper(place, work_id):
        assert place.work_now(work_id) == "done"
    assert sorted(number for _, number in done_by) == list(range(10))
    assert len({owner for owner, _ in done_by}) == 2
    with place.database.session() as session:
        kept = session.scalar(select(Followed).where(Followed.recording_id == recording))
        assert session.query(Part).count() == 0
    shared = Tracks.read(place.store.path(kept.folder_key))
    alone = pipeline.measure(path, scan(path), 0, 189, tmp_path / "alone")
    assert (shared.records == alone.records).all()
    assert (shared.rows == alone.rows).all()
    row = place.recording(recording)
    proxy, found = place.store.path(row.proxy_key), scan(path)
    shown = np.stack([p.planes[0].astype(int) for p in frames(proxy, scan(proxy), 0, 189)])
    source = np.stack([p.planes[0].astype(int) for p in frames(path, found, 0, 189)])
    assert np.abs(shown - source).mean(axis=(1, 2)).max() < 4
    assert place.store.path(row.poster_key).exists()


def test_a_closer_measure_is_shared_too(place, make_clip, done_by):
    recording, clip = place.measured(make_clip("closer.mp4", count=100))
    done_by.clear()
    details = {"first": 0, "last": 99, "closer": True}
    work_id = place.ask("measure", recording, clip_id=clip, details=details)
    with a_helper(place, work_id):
        assert place.work_now(work_id) == "done"
    assert sorted(number for _, number in done_by) == list(range(5))
    assert len({owner for owner, _ in done_by}) == 2


def test_a_sphere_is_shared_too(place, done_by, tmp_path):
    path = tmp_path / "boat.mp4"
    record(harbour_sphere(1.5, (512, 256)), path)
    count = scan(path).probe.frame_count
    several = list(range(len(segments.plan(tmp_path, scan(path), 0, count - 1))))
    assert len(several) > 1
    recording, clip = place.add(path)
    work_id = place.ask("ingest", recording, clip_id=clip)
    with a_helper(place, work_id):
        assert place.work_now(work_id) == "done"
    assert sorted(number for _, number in done_by) == several
    assert len({owner for owner, _ in done_by}) == 2
    edges = EdgesOnTheWay(scan(path), count)
    alone = measure_sphere(path, scan(path), 0, count - 1, tmp_path / "alone", edges=edges)
    with place.database.session() as session:
        measure = session.scalar(select(Measure).where(Measure.recording_id == recording))
    shared = Tracks.read(place.store.path(measure.folder_key))
    assert (shared.records == alone.records).all()
    assert (shared.rows == alone.rows).all()
    kept = dict(SphereSolver(place.store).edges(measure))
    assert sorted(kept) == sorted(edges.found) == edges.wanted
    assert all((kept[at].normals == own.normals).all() for at, own in edges.found.items())

    done_by.clear()
    export_id, work_id = export_of(place, clip)
    with a_helper(place, work_id):
        assert place.work_now(work_id) == "done"
    assert sorted(number for _, number in done_by) == several
    assert len({owner for owner, _ in done_by}) == 2
    film = film_of(place, export_id)
    assert len(film) == count
    with place.database.session() as session:
        row = session.get_one(Export, export_id)
        solution = SphereSolver(place.store).solve(
            place.recording(recording), measure, parse(row.revision.treatment)
        )
        assert scan(place.store.path(row.file_key)).probe.sphere is not None
        whole = sphere_film(path, scan(path), solution, parse(row.revision.treatment))
        whole.render(tmp_path / "alone.mp4", room=tmp_path / "alone")
    found = scan(tmp_path / "alone.mp4")
    single = [p.planes[0].astype(int) for p in frames(tmp_path / "alone.mp4", found, 0, count - 1)]
    assert np.abs(film - np.stack(single)).mean() < 0.5


def test_a_part_whose_owner_falls_silent_is_drawn_by_another(
    place, make_clip, done_by, monkeypatch
):
    _, clip_id = place.measured(make_clip("silent.mp4", count=90))
    done_by.clear()
    export_id, work_id = export_of(place, clip_id)
    monkeypatch.setattr(parts, "SILENT", timedelta(seconds=0.5))
    listed = Parts.list_all

    def and_one_is_taken(self, planned):
        listed(self, planned)
        gone = Parts(place.database, Helping(place.database, work_id, 1))
        assert gone._claim() == 0  # and is never heard of again

    monkeypatch.setattr(Parts, "list_all", and_one_is_taken)
    assert place.work_now(work_id) == "done"
    done = [number for _, number in done_by]
    assert sorted(done) == [0, 1, 2, 3, 4]
    assert done[0] == 1  # the first one was anybody's only after a while
    assert len(film_of(place, export_id)) == 90


def test_a_part_at_a_time_is_taken_however_the_database_looks_for_it(place, make_clip, tmp_path):
    _, clip_id = place.measured(make_clip("one.mp4", count=30))
    _, work_id = export_of(place, clip_id)
    run = Helping(place.database, work_id, 1)
    mine, other = Parts(place.database, run), Parts(place.database, run)
    mine.list_all([segments.Segment(tmp_path / f"{k}", k, k) for k in range(4)])

    def row_by_row(connection):
        """As it plans by itself where it takes the table for tiny."""
        for way in ("hashjoin", "mergejoin", "hashagg", "sort", "material"):
            connection.exec_driver_sql(f"SET LOCAL enable_{way} = off")

    event.listen(place.database.engine, "begin", row_by_row)
    try:
        assert (mine._claim(), other._claim()) == (0, 1)
    finally:
        event.remove(place.database.engine, "begin", row_by_row)
    with place.database.session() as session:
        owners = session.scalars(select(Part.owner).order_by(Part.number)).all()
    assert owners == [mine._owner, other._owner, None, None]
    mine.forget()


def test_whoever_helps_stops_once_the_work_is_not_wanted_any_more(place, make_clip):
    _, clip_id = place.measured(make_clip("unwanted.mp4", count=30))
    _, work_id = export_of(place, clip_id)
    helper = JobRunner(place.database, place.store)
    helper.help(work_id)  # nobody is at it yet
    with run_of(place.database, work_id) as run:
        helping = Helping(place.database, work_id, run.attempt)
        assert helping.is_going_on()
        place.post(f"/work/{work_id}/cancel")
        assert not helping.is_going_on()
        helper.help(work_id)
        with pytest.raises(parts.Superseded):
            helping.progress(1, 30)
    helper.help(10**6)  # which there is not


def test_workers_that_are_asked_help_and_one_that_dies_at_it_costs_nothing(
    place, make_clip, workers
):
    path = make_clip("hard.mp4", width=640, height=480, count=600, sound=None)
    _, clip_id = place.measured(path)
    export_id, work_id = export_of(place, clip_id)
    first, second = workers(patient=True), workers(patient=True)

    def owners() -> int:
        with place.database.session() as session:
            return session.query(Part).filter(Part.owner.is_not(None), ~Part.done).count()

    wait_for(lambda: owners() == 2, seconds=90)
    second.send_signal(signal.SIGKILL)  # one of the two; the other, or who comes, goes on
    second.wait()
    third = workers(patient=True)
    wait_for(lambda: place.work(work_id).state == "done", seconds=180)
    assert len(film_of(place, export_id)) == 600
    assert first.poll() is None
    assert third.poll() is None
    with place.database.session() as session:
        assert session.get_one(Job, work_id).attempt <= 2
