"""The house seen from outside, its bin, and what is given back."""

from __future__ import annotations

import os
from datetime import timedelta
from pathlib import Path

import pytest
from sqlalchemy import select

from keen_horizon.store import bin as removed
from keen_horizon.store import media_store
from keen_horizon.store.media_store import MediaStore
from keen_horizon.store.models import Clip, Export, Job, Recording, now
from tests.integration.conftest import Place

pytestmark = pytest.mark.integration


@pytest.fixture
def any_age(monkeypatch: pytest.MonkeyPatch) -> None:
    """Files may go however young they are."""
    monkeypatch.setattr(removed, "JUST_NOW", timedelta(0))


def files(place: Place, recording: Recording) -> list[Path]:
    keys = recording.source_key, recording.proxy_key, recording.poster_key, recording.timing_key
    return [place.store.path(key) for key in keys if key]


def test_what_is_removed_gives_its_disk_back_after_a_while_and_not_before(
    place: Place, make_clip, any_age
):
    number, clip = place.measured(make_clip("gone.mp4", count=7, width=160, height=120))
    kept, other = place.measured(make_clip("kept.mp4", count=8, width=160, height=120))
    gone, stays = files(place, place.recording(number)), files(place, place.recording(kept))
    assert len(gone) == 4
    assert place.post(f"/clips/{clip}", method="DELETE").status_code == 200
    with place.database.session() as session:
        assert removed.empty_bin(session, place.store).clips == 0
    assert all(path.exists() for path in gone)
    told = place.get("/house.json").json["bin"]
    assert told["count"] >= 1
    assert place.post(f"/clips/{clip}/put-back").status_code == 200
    assert place.post(f"/clips/{clip}/open").json["phase"] == "ready"
    place.post(f"/clips/{clip}", method="DELETE")
    answer = place.post("/house/empty").json["words"]
    assert "gone for good" in answer
    assert not any(path.exists() for path in gone)
    assert all(path.exists() for path in stays)
    with place.database.session() as session:
        assert session.get(Clip, clip) is None
        assert session.get(Recording, number) is None
        assert session.scalars(select(Job).where(Job.recording_id == number)).all() == []
        assert session.scalars(select(Export).where(Export.clip_id == clip)).all() == []
    assert place.post(f"/clips/{other}/open").json["phase"] == "ready"
    assert place.post(f"/clips/{clip}/put-back").status_code == 404


def test_the_same_file_on_another_shelf_keeps_what_it_needs(place: Place, make_clip, any_age):
    path = make_clip("twice.mp4", count=9, width=160, height=120)
    (first, clip), (second, other) = place.measured(path), place.measured(path)
    assert place.recording(first).source_key == place.recording(second).source_key
    place.post(f"/clips/{clip}", method="DELETE")
    place.post("/house/empty")
    assert all(path.exists() for path in files(place, place.recording(second)))
    assert place.get(f"/clips/{other}/solution").status_code == 200


def test_what_is_being_worked_on_is_not_let_go(place: Place, make_clip, any_age):
    number, clip = place.measured(make_clip("busy.mp4", count=10, width=160, height=120))
    with place.database.session.begin() as session:
        session.add(Job(kind="measure", recording_id=number, clip_id=clip, state="running"))
    place.post(f"/clips/{clip}", method="DELETE")
    place.post("/house/empty")
    with place.database.session.begin() as session:
        assert session.get(Clip, clip) is not None
        for job in session.scalars(select(Job).where(Job.recording_id == number)):
            job.state = "done"
    place.post("/house/empty")
    with place.database.session() as session:
        assert session.get(Clip, clip) is None


def test_files_that_no_row_names_go_and_those_that_came_just_now_stay(place: Place):
    lost = place.store.path("sources/ab/abcd.mp4")
    lost.parent.mkdir(parents=True, exist_ok=True)
    lost.write_bytes(b"left by a broken upload")
    place.post("/house/empty")
    assert lost.exists()  # its row may be on its way
    os.utime(lost, (0, 0))
    place.post("/house/empty")
    assert not lost.exists()


def test_what_a_killed_process_was_writing_goes_at_once(tmp_path: Path, monkeypatch):
    store = MediaStore(tmp_path)
    with store.workspace() as mine:
        dead = mine.with_name(media_store._owner(2**22 + 5) + "x")
        dead.mkdir()
        elsewhere = mine.with_name("of-00000000-17-x")
        elsewhere.mkdir()
        store.clear_stale_workspaces()
        assert mine.exists()
        assert elsewhere.exists()  # of another machine, which may be alive
        assert not dead.exists()


def test_the_house_tells_workers_work_room_and_what_failed(place: Place, make_clip, tmp_path):
    broken = tmp_path / "broken.mp4"
    data = make_clip("whole.mp4", count=11, width=160, height=120).read_bytes()
    broken.write_bytes(data[:-400] + bytes(400))
    place.measured(make_clip("fine.mp4", count=12, width=160, height=120))
    number, clip = place.add(broken)
    with place.database.session.begin() as session:
        session.add(Job(kind="ingest", recording_id=number, clip_id=clip, state="failed",
                        message="broken.mp4: it is damaged.", attempt=2, started=now(),
                        finished=now()))  # fmt: skip
        session.add(Job(kind="cost", recording_id=number, clip_id=clip, state="done", done=8,
                        total=8, started=now() - timedelta(seconds=4), finished=now()))  # fmt: skip
    told = place.get("/house.json").json
    assert told["room"]["free"].endswith("GB")
    assert any(shoot["size"] for shoot in told["room"]["shoots"])
    failed = told["failures"][0]
    assert failed["message"] == "broken.mp4: it is damaged."
    assert "begun 2 times" in failed["story"]
    assert any("frames a second" in one["words"] for one in told["pace"])
    priced = next(one["words"] for one in told["pace"] if one["title"] == "Pricing clips")
    assert priced.endswith("2.0 points a second")
    numbers = place.get("/metrics").get_data(as_text=True)
    assert 'keen_jobs{kind="ingest",state="failed"}' in numbers
    assert "keen_store_free_bytes" in numbers
    assert 'keen_frames_per_second{kind="measure"}' in numbers
    assert 'keen_frames_per_second{kind="cost"}' not in numbers


def test_health_says_what_is_missing(place: Place, monkeypatch):
    answer = place.get("/healthz")  # no worker is at work in these tests
    assert answer.status_code == 503
    assert answer.json["database"] is True
    assert answer.json["workers"] == 0
    monkeypatch.setattr("keen_horizon.store.house.workers_heard", lambda session: [1.0])
    assert place.get("/healthz").status_code == 200
