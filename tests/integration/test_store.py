"""Shelf, revisions and vault on a real database."""

import io
from concurrent.futures import ThreadPoolExecutor

import psycopg
import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import select

from keen_horizon.core.errors import KeenError
from keen_horizon.core.treatment import Treatment, with_settings
from keen_horizon.store import library, treatments, undoing
from keen_horizon.store.database import migrate
from keen_horizon.store.media_store import TooLarge
from keen_horizon.store.models import Base, Clip, Recording, Revision

from .conftest import Place, fresh_database

pytestmark = pytest.mark.integration


def test_the_migrations_make_exactly_the_models_tables(place):
    ours = set(Base.metadata.tables)
    with place.database.engine.connect() as connection:
        context = MigrationContext.configure(
            connection,
            opts={
                "compare_type": True,
                "compare_server_default": True,
                "include_name": lambda name, kind, _: kind != "table" or name in ours,
            },
        )
        assert compare_metadata(context, Base.metadata) == []
    migrate(place.url)  # a second time changes nothing


def test_shake_figures_of_before_learn_how_sure_they_are(server_url):
    with fresh_database(server_url, to="0001") as url:
        with psycopg.connect(url, autocommit=True) as old:
            old.execute("insert into shoots (id, name, created) values (1, 'old', now())")
            old.execute(
                "insert into recordings (id, shoot_id, name, size, source_key, created, probe)"
                """ values (1, 1, 'a', 9, 'k', now(), '{"width": 1280, "height": 720}')"""
            )
            for number, shake in ((1, '{"shake_before": 4.0}'), (2, "null"), (3, None)):
                old.execute(
                    "insert into clips (id, recording_id, name, first_frame, created, shake)"
                    " values (%s, 1, 'a', 0, now(), %s)",
                    (number, shake),
                )
            migrate(url)
            rows = old.execute("select shake from clips order by id").fetchall()
    assert rows[0][0] == {"shake_before": 4.0, "shake_accuracy": pytest.approx(0.2)}
    assert [row[0] for row in rows[1:]] == [None, None]


def calm(value: float) -> Treatment:
    return with_settings(Treatment(), [f"motion.calm={value}"])


def test_a_first_treatment_that_came_meanwhile_is_not_replaced(place, make_clip):
    _, clip_id = place.add(make_clip("first.mp4"))
    with place.database.session() as looking:
        clip = library.get_clip(looking, clip_id)
        assert clip.revision is None
        with place.database.session.begin() as worker:
            treatments.change(worker, library.get_clip(worker, clip_id), calm(77))
        treatments.begin(looking, clip, Treatment())
        assert clip.revision.treatment["motion"]["calm"] == 77
        assert clip.revision.number == 1


def test_undo_redo_and_branches_lose_nothing(place, make_clip):
    _, clip_id = place.add(make_clip("rev.mp4"))
    with place.database.session() as session:
        clip = library.get_clip(session, clip_id)
        assert treatments.current(clip) == Treatment()
        for value in (10, 20, 30):
            treatments.change(session, clip, calm(value))
        assert clip.revision.number == 3
        assert treatments.change(session, clip, calm(30)).number == 3  # nothing changed
        assert undoing.undo(session, clip)
        assert undoing.undo(session, clip)
        assert treatments.current(clip).motion.calm == 10
        assert not undoing.undo(session, clip)
        assert undoing.redo(session, clip)
        assert treatments.current(clip).motion.calm == 20
        treatments.change(session, clip, calm(77))
        assert clip.revision.number == 4
        assert undoing.steps(session, clip) == {"undo": True, "redo": False}
        undoing.undo(session, clip)
        undoing.redo(session, clip)
        assert treatments.current(clip).motion.calm == 77  # the newest branch
        session.commit()


def test_undo_takes_back_ones_own_change_and_leaves_those_of_others(place, make_clip):
    """Two pages, each of which changes what it likes; the first opened the clip at revision 1."""
    _, clip_id = place.add(make_clip("two.mp4"))
    one, other = undoing.Author("one", 1), undoing.Author("other", 1)
    with place.database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatments.change(session, clip, Treatment())

        def set_to(author, *settings):
            now = treatments.current(clip)
            treatments.change(session, clip, with_settings(now, settings), author.page)

        def values():
            motion = treatments.current(clip).motion
            return motion.calm, motion.ease, motion.slack

        began = values()
        set_to(one, "motion.calm=61")
        set_to(one, "motion.ease=7")
        set_to(other, "motion.slack=3")
        assert undoing.undo(session, clip, one)
        assert values() == (61, began[1], 3)
        assert undoing.undo(session, clip, one)
        assert values() == (began[0], began[1], 3)
        assert undoing.steps(session, clip, one) == {"undo": False, "redo": True}
        assert not undoing.undo(session, clip, one)
        assert undoing.redo(session, clip, one)
        assert values() == (61, began[1], 3)
        assert undoing.undo(session, clip, one)
        assert undoing.undo(session, clip, other)  # theirs, which is not the last either
        assert values() == began
        assert undoing.redo(session, clip, other)
        # Who comes later finds it all as it is, and may take it back step by step.
        late = undoing.Author("late", clip.revision.number)
        assert undoing.steps(session, clip, late)["undo"]
        # What others have changed again cannot be taken back without taking theirs back, too.
        set_to(one, "motion.calm=50")
        set_to(other, "motion.calm=83")
        with pytest.raises(treatments.Overtaken, match="Calm has been changed elsewhere"):
            undoing.undo(session, clip, one)
        session.commit()


def test_versions_have_unique_names_and_can_be_gone_back_to(place, make_clip):
    _, clip_id = place.add(make_clip("ver.mp4"))
    with place.database.session() as session:
        clip = library.get_clip(session, clip_id)
        with pytest.raises(KeenError, match="nothing to keep"):
            treatments.name_version(session, clip, "too early")
        treatments.change(session, clip, calm(10))
        kept = treatments.name_version(session, clip, "  quiet   one ")
        assert kept.name == "quiet one"
        treatments.change(session, clip, calm(90))
        with pytest.raises(KeenError, match="already"):
            treatments.name_version(session, clip, "quiet one")
        treatments.go_to(session, clip, kept.id)
        assert treatments.current(clip).motion.calm == 10
        with pytest.raises(KeenError, match="no such version"):
            treatments.go_to(session, clip, 10**6)


def test_removing_can_be_undone(place, make_clip):
    shoot_id = place.shoot("to be removed")
    _, clip_id = place.add(make_clip("rem.mp4"), shoot_id)
    with place.database.session.begin() as session:
        shoot = library.get_shoot(session, shoot_id)
        clip = library.get_clip(session, clip_id)
        library.remove(clip)
        assert library.clips_of(session, shoot) == []
        with pytest.raises(library.NotFound):
            library.get_clip(session, clip_id)
        library.put_back(clip)
        assert [c.id for c in library.clips_of(session, shoot)] == [clip_id]


@pytest.mark.parametrize("name", ["", "   ", None, "x" * 121])
def test_names_that_are_none(place, name):
    with pytest.raises(KeenError):
        library.clean_name(name)


def test_a_range_must_lie_in_the_recording(place):
    clip = Clip(recording=Recording(probe={"frame_count": 50}), first_frame=0, last_frame=49)
    treatments.set_range(clip, 10, 20)
    assert (clip.first_frame, clip.last_frame) == (10, 20)
    for first, last in ((20, 20), (-1, 5), (0, 50)):
        with pytest.raises(KeenError, match="0 to 49"):
            treatments.set_range(clip, first, last)


def test_the_vault_keeps_the_same_content_once(place):
    keys = []
    for _ in range(2):
        with place.store.workspace() as room:
            path = room / "x.MP4"
            path.write_bytes(b"the same")
            keys.append(place.store.adopt("sources", path))
    assert keys[0] == keys[1]
    assert keys[0].endswith(".mp4")
    assert place.store.path(keys[0]).read_bytes() == b"the same"
    with pytest.raises(ValueError):
        place.store.path("../../etc/passwd")


def test_an_upload_over_the_limit_is_not_kept(place):
    with place.store.workspace() as room:
        path, size = place.store.receive(io.BytesIO(b"12345"), "a.mp4", room, 5)
        assert size == 5
        with pytest.raises(TooLarge, match=r"big\.mp4"):
            place.store.receive(io.BytesIO(b"123456"), "big.mp4", room, 5)
    assert not path.exists()


def test_what_two_people_change_is_put_together_unless_it_is_the_same(place: Place, make_clip):
    _, clip = place.measured(make_clip("two people.mp4", count=6, width=160, height=120))

    def keep(revision: int, **motion):
        treatment = Treatment().as_data()
        treatment["motion"] |= motion
        asked = {"treatment": treatment, "keep": True, "revision": revision}
        return place.post(f"/clips/{clip}/treatment", asked)

    place.post(f"/clips/{clip}/open")
    place.post(f"/clips/{clip}/treatment", {"treatment": Treatment().as_data(), "keep": True})
    start = place.get(f"/clips/{clip}/solution").json["revision"]
    first = keep(start, calm=71.0)
    assert first.status_code == 200
    # Another page has not seen that, and changes something else: both stay.
    second = keep(start, slack=12.0).json
    assert (second["treatment"]["motion"]["calm"], second["treatment"]["motion"]["slack"]) == (
        71,
        12,
    )
    assert "Changed elsewhere meanwhile: Calm" in second["notes"][0]
    # The same, to another value: nothing is lost silently.
    third = keep(start, calm=20.0)
    assert third.status_code == 409
    assert "Calm has been changed elsewhere meanwhile" in third.json["error"]
    assert place.get(f"/clips/{clip}/solution").json["treatment"]["motion"]["calm"] == 71
    # To the same value, there is nothing to lose.
    assert keep(start, calm=71.0).status_code == 200
    assert keep(9999).status_code == 400
    assert keep("seven").status_code == 400
    undone = place.post(f"/clips/{clip}/undo").json["treatment"]["motion"]
    assert (undone["calm"], undone["slack"]) == (71, 0)


def test_changes_at_the_same_moment_follow_each_other(place: Place, make_clip):
    _, clip = place.measured(make_clip("moment.mp4", count=6, width=160, height=120))
    place.post(f"/clips/{clip}/open")

    def change(value: float) -> None:
        with place.database.session() as session:
            own = library.get_clip(session, clip)
            treatments.current(own)  # what it is then is read before it is locked
            treatments.change(session, own, calm(value))
            session.commit()

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(change, range(20)))
    with place.database.session() as session:
        rows = session.scalars(select(Revision).where(Revision.clip_id == clip)).all()
        parents = [row.parent_id for row in rows]
        assert len(set(parents)) == len(parents)  # one line, no branches
