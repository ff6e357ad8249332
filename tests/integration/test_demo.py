"""The demo shoot is made once, and only what is missing of it."""

import pytest

from keen_horizon.demo import shoot
from keen_horizon.demo.shoot import ensure_demo
from keen_horizon.launch.__main__ import on_demand
from keen_horizon.simulated import brindle_quay
from keen_horizon.simulated.brindle_quay import loft_doorway, quay_walk
from keen_horizon.store import library
from keen_horizon.store.models import Job

pytestmark = pytest.mark.integration


@pytest.fixture
def short_takes(monkeypatch):
    takes = {"quay walk": lambda: quay_walk(0.2), "loft doorway": lambda: loft_doorway(0.2)}
    every = takes | {"long haul": lambda: quay_walk(0.2)}
    monkeypatch.setattr(shoot, "TAKES", takes)
    monkeypatch.setattr(brindle_quay, "EVERY_TAKE", every)


@pytest.mark.usefixtures("short_takes")
def test_the_demo_shoot_is_made_once_and_mended(place):
    said: list[str] = []

    def clips() -> list[str]:
        with place.database.session() as session:
            found = next(s for s in library.shoots(session) if s.name == "Brindle Quay")
            return [clip.name for clip in library.clips_of(session, found)]

    def waiting() -> list[tuple[str, int]]:
        with place.database.session() as session:
            rows = session.query(Job).filter_by(state="queued").order_by(Job.id)
            return [(job.kind, job.id) for job in rows]

    ensure_demo(place.url, place.data, said.append)
    assert clips() == ["quay walk", "loft doorway"]
    assert "the first take of the demo shoot, quay walk" in said[0]
    assert "the workers record loft doorway" in said[1]
    assert [kind for kind, _ in waiting()] == ["ingest", "take"]
    said.clear()
    ensure_demo(place.url, place.data, said.append)
    assert said == []
    # A shoot that was taken off the shelf comes back; nothing is made twice.
    with place.database.session.begin() as session:
        library.remove(next(s for s in library.shoots(session) if s.name == "Brindle Quay"))
    ensure_demo(place.url, place.data, said.append)
    assert clips() == ["quay walk", "loft doorway"]
    assert said == []
    # More is made when it is asked for, by a worker.
    ensure_demo(place.url, place.data, said.append, ("long haul",))
    assert clips() == ["quay walk", "loft doorway", "long haul"]
    assert [kind for kind, _ in waiting()] == ["ingest", "take", "take"]


@pytest.mark.usefixtures("short_takes")
def test_a_worker_records_a_take_and_its_card_tells_of_it(place):
    ensure_demo(place.url, place.data, lambda text: None)

    def card() -> dict:
        shelf = place.get("/shelf.json").json["shoots"]
        return next(c for s in shelf for c in s["clips"] if c["name"] == "loft doorway")

    assert (card()["state"], card()["weight"], card()["work"]["state"]) == (
        "recording", "", "queued",
    )  # fmt: skip
    opened = place.post(f"/clips/{card()['id']}/open").json
    assert (opened["phase"], opened["work"]["title"]) == ("taking in", "Recording loft doorway")
    job = card()["work"]["id"]
    # Cancelled, its card offers to try again; that makes it.
    place.post(f"/work/{job}/cancel")
    assert card()["failed"]["state"] == "cancelled"
    place.post(f"/work/{job}/retry")
    assert place.work_now(job) == "done"
    assert (card()["format"], card()["state"]) == ("1280 × 720 · 30 fps", "measured")
    assert card()["weight"]


def test_a_take_that_there_is_not_fails_in_words(place, make_clip):
    recording, _ = place.add(make_clip("odd.mp4", count=2))
    job = place.ask("take", recording, details={"take": "moonlight"})
    assert place.work_now(job) == "failed"
    assert "no take 'moonlight'" in place.work(job).message


def test_takes_on_demand_are_asked_for_by_name():
    assert on_demand([]) == ()
    assert on_demand(["long-haul"]) == ("long haul",)
    with pytest.raises(SystemExit, match="known: long-haul"):
        on_demand(["--help"])
