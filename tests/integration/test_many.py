"""Shelves with very many clips and exports: how often the database is asked, and what for."""

from __future__ import annotations

from contextlib import contextmanager

import pytest
from sqlalchemy import event, insert

from keen_horizon.core.treatment import Treatment
from keen_horizon.store import library
from keen_horizon.store.models import Clip, Export, Job, Recording, Revision

pytestmark = pytest.mark.integration
COUNT = 300
PROBE = {"width": 1280, "height": 720, "rate": 30.0, "variable_rate": False,
         "frame_count": 90, "duration": 3.0}  # fmt: skip
SHAKE = {"shake_before": 5.0, "shake_after": 0.5, "shake_accuracy": 0.2, "picture_kept": 90.0}


@contextmanager
def statements(place):
    """What the database is asked inside."""
    asked: list[str] = []

    def note(connection, cursor, statement, *rest) -> None:
        asked.append(statement)

    engine = place.client.application.extensions["keen"].database.engine
    event.listen(engine, "before_cursor_execute", note)
    yield asked
    event.remove(engine, "before_cursor_execute", note)


@pytest.fixture(scope="module")
def crowded(place) -> int:
    """A shelf of many clips; the number of its shoot."""
    with place.database.session.begin() as session:
        shoot = library.add_shoot(session, "Many")
        recordings = session.scalars(
            insert(Recording).returning(Recording.id),
            [
                {"shoot_id": shoot.id, "name": f"{k}.mp4", "size": 9, "source_key": "k",
                 "probe": PROBE if k % 3 else None, "poster_key": "posters/p.jpg"}
                for k in range(COUNT)
            ],
        ).all()  # fmt: skip
        session.execute(
            insert(Clip),
            [
                {"recording_id": number, "name": f"clip {number}", "last_frame": 89,
                 "shake": SHAKE}
                for number in recordings
            ],
        )  # fmt: skip
        session.execute(
            insert(Job),
            [
                {"kind": "measure" if k % 3 else "ingest", "recording_id": number,
                 "state": ("failed", "running", "queued")[k % 2 + k % 5 // 4]}
                for k, number in enumerate(recordings) if k % 2
            ],
        )  # fmt: skip
        return shoot.id


def test_a_crowded_shelf_takes_a_handful_of_questions(place, crowded):
    with statements(place) as asked:
        shelf = place.get("/shelf.json").json["shoots"]
    assert sum(len(shoot["clips"]) for shoot in shelf) == COUNT
    assert len(asked) <= 6
    with statements(place) as asked:
        assert place.get("/work").json["work"]
    assert len(asked) <= 4


def test_listing_exports_reads_no_whole_reports(place, make_clip):
    _, number = place.measured(make_clip("exported.mp4", count=10))
    with place.database.session.begin() as session:
        clip = library.get_clip(session, number)
        for k in range(12):
            export = Export(
                clip_id=number, revision_id=clip.revision_id, first_frame=0, last_frame=9,
                quality="good", file_name=f"{k}.mp4", report={"frames": [1.0] * 100},
            )  # fmt: skip
            session.add(export)
            session.flush()
            session.add(Job(kind="export", recording_id=clip.recording_id, clip_id=number,
                            export_id=export.id, state="done"))  # fmt: skip
    address = f"/clips/{number}/exports/list"
    place.get(address)
    with statements(place) as asked:
        listed = place.get(address).json["exports"]
    assert len(listed) == 12
    assert len(asked) <= 12
    assert not any("exports.report," in text or "exports.report " in text for text in asked)


def test_copying_and_looking_ask_for_every_clip_at_once(place, crowded):
    with place.database.session() as session:
        number = next(iter(library.clips_by_shoot(session)[crowded])).id
    with statements(place) as asked:
        assert len(place.get(f"/clips/{number}/others").json["clips"]) == COUNT - 1
    assert len(asked) <= 4


def test_revisions_are_opened_once_each(place, make_clip):
    _, number = place.measured(make_clip("revised.mp4", count=10))
    with place.database.session.begin() as session:
        clip = library.get_clip(session, number)
        for k in range(30):
            session.add(Revision(clip_id=number, number=k + 2, name=f"v{k}", parent_id=None,
                                 treatment=Treatment().as_data()))  # fmt: skip
        assert clip.revision is not None
    with statements(place) as asked:
        told = place.get(f"/clips/{number}/solution").json
    assert len(told["versions"]) == 30
    assert len(asked) <= 10
