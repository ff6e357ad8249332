"""The demo shoot is made once, and only what is missing of it."""

import pytest

from keen_horizon.demo import shoot
from keen_horizon.demo.shoot import ensure_demo
from keen_horizon.launch.__main__ import on_demand
from keen_horizon.simulated.brindle_quay import loft_doorway, quay_walk
from keen_horizon.store import library
from keen_horizon.store.models import Job

pytestmark = pytest.mark.integration


class InProcess:
    """Stands in for the pool of processes, whose children would not know of the short takes."""

    def __init__(self, count: int) -> None:
        pass

    def __enter__(self):
        return self

    def __exit__(self, *error: object) -> None:
        pass

    Pool = classmethod(lambda cls, count: cls(count))
    imap = staticmethod(map)


@pytest.fixture
def short_takes(monkeypatch):
    takes = {"quay walk": lambda: quay_walk(0.2), "loft doorway": lambda: loft_doorway(0.2)}
    monkeypatch.setattr(shoot, "TAKES", takes)
    monkeypatch.setattr(shoot, "ON_DEMAND", {"long haul": lambda: quay_walk(0.2)})
    monkeypatch.setattr(shoot.multiprocessing, "get_context", lambda method: InProcess)


@pytest.mark.usefixtures("short_takes")
def test_the_demo_shoot_is_made_once_and_mended(place):
    said: list[str] = []

    def clips() -> list[str]:
        with place.database.session() as session:
            found = next(s for s in library.shoots(session) if s.name == "Brindle Quay")
            return [clip.name for clip in library.clips_of(session, found)]

    ensure_demo(place.url, place.data, said.append)
    assert clips() == ["quay walk", "loft doorway"]
    assert any("quay walk is ready" in text for text in said)
    with place.database.session() as session:
        waiting = session.query(Job).filter_by(kind="ingest", state="queued").count()
    assert waiting == 2
    said.clear()
    ensure_demo(place.url, place.data, said.append)
    assert said == []
    # A shoot that was taken off the shelf comes back; nothing is made twice.
    with place.database.session.begin() as session:
        library.remove(next(s for s in library.shoots(session) if s.name == "Brindle Quay"))
    ensure_demo(place.url, place.data, said.append)
    assert clips() == ["quay walk", "loft doorway"]
    assert said == []
    # More is made when it is asked for.
    ensure_demo(place.url, place.data, said.append, ("long haul",))
    assert clips() == ["quay walk", "loft doorway", "long haul"]


def test_takes_on_demand_are_asked_for_by_name():
    assert on_demand([]) == ()
    assert on_demand(["long-haul"]) == ("long haul",)
    with pytest.raises(SystemExit, match="known: long-haul"):
        on_demand(["--help"])
