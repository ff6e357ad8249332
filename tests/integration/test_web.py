"""The screens' answers, without a browser."""

import base64
import io
import re
import threading

import numpy as np
import pytest

from keen_horizon.core.media.sphere_boxes import write_sphere_tag
from keen_horizon.core.media.spherical import SphereTag
from keen_horizon.core.treatment import Treatment, with_settings
from keen_horizon.jobs import solutions
from keen_horizon.jobs.lifecycle import run_of
from keen_horizon.store.models import Job
from keen_horizon.web import SOLVING, edition

pytestmark = pytest.mark.integration


def test_pages_answer_with_a_strict_policy(place):
    answer = place.client.get("/")
    assert answer.status_code == 200
    policy = answer.headers["Content-Security-Policy"]
    assert "script-src 'self'" in policy
    assert "unsafe" not in policy
    assert answer.headers["X-Content-Type-Options"] == "nosniff"
    page = answer.get_data(as_text=True)
    assert "http://" not in page.replace("http://www.w3.org", "")
    assert "https://" not in page


def test_files_of_the_page_are_kept_by_the_browser_until_one_changes(place, tmp_path):
    page = place.client.get("/").get_data(as_text=True)
    linked = set(re.findall(r'(?:href|src)="(/static/[^"]+)"', page))
    assert len(linked) > 8
    for address in linked:
        answer = place.client.get(address)
        assert answer.status_code == 200
        assert "immutable" in answer.headers["Cache-Control"]
        assert "no-cache" not in answer.headers["Cache-Control"]
    assert place.client.get("/static/older/css/base.css").status_code == 404
    (tmp_path / "base.css").write_text("main { color: red }")
    before = edition(tmp_path)
    assert edition(tmp_path) == before
    (tmp_path / "base.css").write_text("main { color: blue }")
    assert edition(tmp_path) != before


def test_only_a_few_solve_at_once_and_the_others_wait_for_their_turn(place, make_clip):
    _, clip = place.measured(make_clip("turns.mp4"))
    turns = place.client.application.extensions["keen"].turns
    order = {"treatment": with_settings(Treatment(), ["motion.model=shift"]).as_data()}
    answered = []

    def slide():
        with place.client.application.test_client() as other:
            page = other.get("/").get_data(as_text=True)
            token = {"X-CSRFToken": re.search(r'csrf-token" content="([^"]+)"', page)[1]}
            answer = other.post(f"/clips/{clip}/treatment", json=order, headers=token)
            answered.append(answer.status_code)

    for _ in range(SOLVING):
        turns.acquire()
    waiting = threading.Thread(target=slide)
    waiting.start()
    waiting.join(1.0)
    assert not answered  # everybody else's page would be slower for it
    assert place.client.get("/shelf.json").status_code == 200
    for _ in range(SOLVING):
        turns.release()
    waiting.join(30)
    assert answered == [200]


def test_other_hosts_and_missing_tokens_are_turned_away(place):
    assert place.client.get("/", headers={"Host": "elsewhere.example"}).status_code == 400
    wants = {"Accept": "application/json"}
    answer = place.client.post("/shoots", json={"name": "x"}, headers=wants)
    assert answer.status_code == 400
    assert "out of date" in answer.json["error"]


def test_errors_are_pages_for_people_and_json_for_scripts(place):
    page = place.client.get("/clips/99999", headers={"Accept": "text/html"})
    assert page.status_code == 404
    assert "There is nothing here" in page.get_data(as_text=True)
    assert place.post("/clips/99999/open").json["error"].startswith("there is no such clip")
    assert place.client.get("/nowhere", headers={"Accept": "text/html"}).status_code == 404


def upload(place, shoot: int, name: str, content: bytes):
    return place.client.post(
        f"/shoots/{shoot}/recordings?name={name}",
        data=content,
        headers={"X-CSRFToken": place.token, "Accept": "application/json"},
    )


def test_dropping_a_file_ends_in_a_steady_clip_without_a_decision(place, make_clip):
    shoot = place.post("/shoots", {"name": "Drops"}).json["id"]
    content = make_clip("dropped.mp4").read_bytes()
    clip = upload(place, shoot, "dropped.mp4", content).json["clip"]
    state = place.post(f"/clips/{clip}/open").json
    assert state["phase"] == "taking in"
    film = place.client.get(state["file"])  # which the browser may play meanwhile
    assert (film.mimetype, film.get_data()) == ("video/mp4", content)
    assert place.work_now(state["work"]["id"]) == "done"
    state = place.post(f"/clips/{clip}/open").json
    assert state["phase"] == "ready"
    solved = place.get(f"/clips/{clip}/solution").json
    assert solved["report"]["shake_removed"] > 50
    nodes = np.frombuffer(base64.b64decode(solved["lattice"]["nodes"]), np.float32)
    assert nodes.shape == (24 * 2 * 2 * 2,)
    assert nodes.min() >= -1e-6
    assert nodes.max() <= 1 + 1e-6
    times = base64.b64decode(place.get(f"/clips/{clip}/timing").json["times"])
    assert np.frombuffer(times, np.float64).shape == (24,)
    listed = place.get("/shelf.json").json["shoots"]
    card = next(c for s in listed for c in s["clips"] if c["id"] == clip)
    assert card["state"] == "measured"
    assert card["format"] == "320 × 240 · 30 fps"
    assert place.client.get(card["poster"]).mimetype == "image/jpeg"


def test_a_sphere_is_taken_in_and_the_page_says_how_far_that_goes(place, make_clip, tmp_path):
    shoot = place.post("/shoots", {"name": "Spheres"}).json["id"]
    tagged = tmp_path / "around.mp4"
    write_sphere_tag(
        make_clip("around.mp4", width=320, height=160), tagged, SphereTag(), (320, 160)
    )
    clip = upload(place, shoot, "around.mp4", tagged.read_bytes()).json["clip"]
    state = place.post(f"/clips/{clip}/open").json
    assert place.work_now(state["work"]["id"]) == "done"
    state = place.post(f"/clips/{clip}/open").json
    assert "goes all around" in state["kind_words"]
    assert state["phase"] == "ready"


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("notes.txt", b"just words, nothing else", "not a video"),
        ("list.m3u8", b"#EXTM3U\nhttp://127.0.0.1/x.ts", "list of other files"),
        ("empty.mp4", b"", "empty"),
        (
            "cut.mp4",
            b"\x00\x00\x00\x18ftypisomisom" + bytes(8) + b"\x00\xff\x00\x00mdat",
            "missing",
        ),
    ],
)
def test_what_is_not_footage_is_refused_before_it_is_kept(place, name, content, words):
    shoot = place.shoot("refusals")
    before = sorted((place.store.root).rglob("*"))
    answer = upload(place, shoot, name, content)
    assert answer.status_code == 400
    assert answer.json["error"].startswith(f"{name}: ")
    assert words in answer.json["error"]
    assert sorted((place.store.root).rglob("*")) == before


def test_an_upload_over_the_limit_is_refused_unread(place):
    config = place.client.application.config
    shoot, limit = place.shoot("large"), config["UPLOAD_LIMIT"]
    config["UPLOAD_LIMIT"] = 1000
    try:
        answer = upload(place, shoot, "huge.mp4", bytes(1001))
    finally:
        config["UPLOAD_LIMIT"] = limit
    assert answer.status_code == 413
    assert "huge.mp4" in answer.json["error"]


@pytest.fixture(scope="module")
def clip(place, make_clip) -> int:
    return place.measured(make_clip("web.mp4", count=30))[1]


def test_treatments_are_solved_kept_and_undone(place, clip):
    address = f"/clips/{clip}"
    wanted = Treatment().model_dump(mode="json")
    wanted["motion"]["calm"] = 77
    tried = place.post(f"{address}/treatment", {"treatment": wanted, "keep": False}).json
    assert tried["revision"] == 1
    kept = place.post(f"{address}/treatment", {"treatment": wanted, "keep": True}).json
    assert kept["revision"] == 2
    assert kept["stations"]["motion"]["summary"].startswith("Follow · calm 77")
    assert kept["steps"] == {"undo": True, "redo": False}
    back = place.post(f"{address}/undo").json
    assert back["revision"] == 1
    assert place.post(f"{address}/redo").json["treatment"]["motion"]["calm"] == 77
    versions = place.post(f"{address}/versions", {"name": "strong"}).json["versions"]
    assert [v["name"] for v in versions] == ["strong"]
    place.post(f"{address}/undo")
    there = place.post(f"{address}/versions/{versions[0]['id']}").json
    assert there["treatment"]["motion"]["calm"] == 77


def test_wrong_settings_are_refused_with_the_allowed_range(place, clip):
    answer = place.post(f"/clips/{clip}/treatment", {"treatment": {"motion": {"calm": 101}}})
    assert answer.status_code == 400
    assert answer.json["error"] == "motion.calm cannot be 101; allowed: a number from 0 to 100."
    assert place.post(f"/clips/{clip}/treatment", {"treatment": None}).status_code == 400
    assert place.post(f"/clips/{clip}/range", {"first": "a", "last": 3}).status_code == 400
    assert place.post(f"/clips/{clip}/range", {"first": 3, "last": 900}).status_code == 400


def test_marks_of_frames(place, clip):
    answer = place.get(f"/clips/{clip}/marks?from=3&to=5").json
    table = np.frombuffer(base64.b64decode(answer["marks"]), np.float32).reshape(-1, 4)
    assert len(table) == sum(answer["counts"])
    assert len(answer["counts"]) == 3
    assert (table[:, :2] > 0).all()
    assert (table[:, :2] < 1).all()
    assert set(np.unique(table[:, 2])) <= {0, 1, 2}
    assert place.get(f"/clips/{clip}/marks?from=5&to=3").status_code == 400
    assert place.get(f"/clips/{clip}/marks?from=0&to=300").status_code == 400


def test_range_changes_ask_for_a_measure_of_that_range_only(place, clip):
    given_up = place.post(f"/clips/{clip}/range", {"first": 0, "last": 20}).json["work"]
    state = place.post(f"/clips/{clip}/range", {"first": 5, "last": 20}).json
    states = {job["id"]: job["state"] for job in place.get("/work").json["work"]}
    assert states[given_up["id"]] == "cancelled"
    assert state["phase"] == "measuring"
    assert state["work"]["state"] == "queued"
    assert place.get(f"/clips/{clip}/solution").status_code == 400
    assert place.work_now(state["work"]["id"]) == "done"
    solved = place.get(f"/clips/{clip}/solution").json
    assert solved["report"]["frame_count"] == 16
    assert 5 <= solved["report"]["tightest_frame"] <= 20
    assert place.post(f"/clips/{clip}/range", {"first": 0, "last": 29}).json["phase"] == "ready"


def test_exports_are_listed_with_their_numbers_and_downloaded(place, clip):
    choices = place.get(f"/clips/{clip}/exports/list").json["choices"]
    assert choices["full"] == {"width": 320, "height": 240, "pixel_aspect": 1.0}
    asked = {"revision": choices["revisions"][0]["id"], "quality": "small", "lines": 120}
    export = place.post(f"/clips/{clip}/exports", asked).json
    assert export["file"] is None
    assert place.client.get(f"/exports/{export['id']}/file").status_code == 404
    assert place.work_now(export["work"]["id"]) == "done"
    listed = place.get(f"/clips/{clip}/exports/list").json["exports"][0]
    assert {"Output": "160 × 120 px"}.items() <= {
        f["label"]: f["text"] for f in listed["figures"]
    }.items()
    whole = place.client.get(listed["file"])
    assert "attachment" in whole.headers["Content-Disposition"]
    part = place.client.get(listed["file"], headers={"Range": "bytes=0-99"})
    assert (part.status_code, len(part.data)) == (206, 100)
    assert part.data == whole.data[:100]
    report = place.client.get(listed["report_file"]).json
    assert len(report["frames"]) == 30
    for wrong in ({"quality": "huge"}, {"lines": 5}, {"lines": "x"}, {"revision": 10**6}):
        assert place.post(f"/clips/{clip}/exports", asked | wrong).status_code == 400


def test_shelf_names_removal_and_putting_back(place, clip):
    renamed = place.post(f"/clips/{clip}", {"name": "  The  quay "}, method="PATCH")
    assert renamed.json["name"] == "The quay"
    assert place.post(f"/clips/{clip}", {"name": " "}, method="PATCH").status_code == 400
    assert place.post(f"/clips/{clip}", method="DELETE").json["removed"] == "The quay"
    assert place.post(f"/clips/{clip}/open").status_code == 404
    assert place.post(f"/clips/{clip}/put-back").status_code == 200
    assert place.post(f"/clips/{clip}/open").status_code == 200
    shoot = place.shoot("Old name")
    assert place.post(f"/shoots/{shoot}", {"name": "New"}, method="PATCH").json["name"] == "New"
    place.post(f"/shoots/{shoot}", method="DELETE")
    assert shoot not in [s["id"] for s in place.get("/shelf.json").json["shoots"]]
    place.post(f"/shoots/{shoot}/put-back")
    assert shoot in [s["id"] for s in place.get("/shelf.json").json["shoots"]]
    assert place.post("/shoots", {"name": ""}).status_code == 400


def test_the_tray_shows_cancels_and_repeats(place, make_clip):
    recording, clip_id = place.add(make_clip("tray.mp4"))
    work_id = place.ask("ingest", recording, clip_id=clip_id)
    shown = place.get("/work").json["work"][0]
    assert (shown["id"], shown["state"], shown["title"]) == (work_id, "queued", "Taking in tray")
    assert place.post(f"/work/{work_id}/cancel").json["state"] == "cancelled"
    assert place.post(f"/work/{work_id}/retry").json["state"] == "queued"
    with place.database.session.begin() as session:
        session.get_one(Job, work_id).state = "done"
    assert place.post("/work/999999/cancel").status_code == 404


def test_fields_are_asked_of_interlaced_recordings_alone(place, clip):
    for told in ({"each": "field"}, {"each": "third"}, {}):
        answer = place.post(f"/clips/{clip}/fields", told)
        assert answer.status_code == 400
    assert "not interlaced" in place.post(f"/clips/{clip}/fields", {"each": "field"}).json["error"]
    assert place.post(f"/clips/{clip}/open").json["fields"] is None


def test_what_was_stopped_is_not_begun_again_by_the_next_look(place, make_clip):
    recording, clip = place.add(make_clip("stopped.mp4"))
    assert place.work_now(place.ask("ingest", recording)) == "done"
    assert place.post(f"/clips/{clip}/range", {"first": 3, "last": 20}).status_code == 200
    job = place.post(f"/clips/{clip}/open").json["work"]["id"]
    with run_of(place.database, job) as run:  # a worker is at it
        assert place.post(f"/work/{job}/cancel").json["state"] == "stopping"
        seen = place.post(f"/clips/{clip}/open").json["work"]
        assert (seen["id"], seen["state"], seen["open"]) == (job, "stopping", True)
        place.runner.do(run)
    seen = place.post(f"/clips/{clip}/open").json["work"]
    assert (seen["id"], seen["state"], seen["open"]) == (job, "cancelled", False)
    place.post(f"/work/{job}/retry")
    assert place.work_now(job) == "done"
    assert place.post(f"/clips/{clip}/open").json["phase"] == "ready"


def test_a_broken_off_upload_is_refused(place):
    answer = place.client.post(
        f"/shoots/{place.shoot('broken')}/recordings?name=half.mp4",
        input_stream=io.BytesIO(b"abc"),
        content_length=10,
        headers={"X-CSRFToken": place.token, "Accept": "application/json"},
    )
    assert answer.status_code == 400


def treated(place, clip, **stations):
    """The answer to a treatment with some settings changed, kept."""
    whole = Treatment().model_dump(mode="json")
    for station, settings in stations.items():
        whole[station] |= settings
    answer = place.post(f"/clips/{clip}/treatment", {"treatment": whole, "keep": True})
    assert answer.status_code == 200, answer.json
    return answer.json


def test_a_lasso_sets_marks_aside_until_it_is_put_back(place, clip):
    lasso = {"kind": "lasso", "frame": 4, "outline": [[0.0, 0.0], [0.5, 0.0], [0.5, 1], [0, 1]]}
    solved = treated(place, clip, motion={"aside": [lasso]})
    listed = place.get(f"/clips/{clip}/groups").json["aside"]
    assert listed[0]["words"].startswith("Lasso at frame 4")
    answer = place.get(f"/clips/{clip}/marks?from=4&to=4").json
    table = np.frombuffer(base64.b64decode(answer["marks"]), np.float32).reshape(-1, 4)
    left = table[:, 0] < 0.45
    assert (table[left, 2] == 2).all()
    assert (table[table[:, 0] > 0.55, 2] != 2).all()
    put_back = treated(place, clip)
    assert put_back["keys"]["motion"] != solved["keys"]["motion"]
    assert place.get(f"/clips/{clip}/groups").json["aside"] == []


def test_what_cannot_be_done_is_said_and_something_sensible_done_instead(place, clip):
    nowhere = {"kind": "lasso", "frame": 4, "outline": [[-0.4, -0.4], [-0.3, -0.4], [-0.3, -0.3]]}
    notes = treated(place, clip, motion={"aside": [nowhere]})["report"]["notes"]
    assert any("no marks in it" in note for note in notes)
    around = [[-0.1, -0.1], [1.1, -0.1], [1.1, 1.1], [-0.1, 1.1]]
    whole = {"kind": "lasso", "frame": 4, "outline": around}
    report = treated(place, clip, motion={"aside": [whole]})["report"]
    assert any("Put something back" in note for note in report["notes"])
    assert report["picture_kept"] == pytest.approx(100, abs=0.1)
    report = treated(place, clip, motion={"calm": 100.0}, frame={"zoom_ceiling": 1.0})["report"]
    assert any("no room" in note for note in report["notes"])
    assert report["zoom"] == 1.0
    refused = Treatment().model_dump(mode="json")
    refused["frame"]["trim_shape"] = "0:9"
    answer = place.post(f"/clips/{clip}/treatment", {"treatment": refused})
    assert answer.status_code == 400
    assert "width:height" in answer.json["error"]
    treated(place, clip)


def test_a_lens_that_the_motion_does_not_tell_is_not_made_up(place, clip):
    found = place.post(f"/clips/{clip}/lens/motion").json
    assert found["settings"] is None  # a camera that slides, for two seconds
    assert "cannot be told from this clip" in found["words"]


def test_the_readout_is_looked_for_and_remembered_for_a_camera(place, clip):
    found = place.post(f"/clips/{clip}/readout").json
    assert found["ms"] == 0  # a clip of under two seconds tells nothing
    assert found["words"]
    place.post("/cameras", {"name": "Deck camera", "readout": 22.0})
    known = place.post("/cameras", {"name": "Deck camera", "readout": 21.5}).json["cameras"]
    assert [c["words"] for c in known] == ["Deck camera: 21.5 ms"]
    assert place.get("/cameras").json["cameras"] == known
    answer = place.post("/cameras", {"name": "Deck camera", "readout": 500})
    assert answer.status_code == 400
    assert "0 to 60" in answer.json["error"]


def test_a_point_is_followed_by_a_worker_and_then_held(place, clip):
    wanted = {"aim": "hold", "hold": [{"frame": 10, "at": [0.5, 0.5], "pattern": 0.2}]}
    answer = treated(place, clip, motion=wanted)
    assert answer["solving"]["kind"] == "solve"
    assert place.work_now(answer["solving"]["id"]) == "done"
    report = treated(place, clip, motion=wanted)["report"]
    assert report["hold"]["points"] == 1
    assert report["hold"]["known_frames"] >= 20
    treated(place, clip)


def test_a_version_can_be_looked_at_beside_another(place, clip):
    treated(place, clip, motion={"calm": 10.0})
    versions = place.post(f"/clips/{clip}/versions", {"name": "hardly"}).json["versions"]
    number = next(v["id"] for v in versions if v["name"] == "hardly")
    treated(place, clip)
    seen = place.post(f"/clips/{clip}/versions/{number}/look").json
    assert seen["name"] == "hardly"
    assert seen["report"]["output"]["width"] == 320
    assert len(base64.b64decode(seen["lattice"]["nodes"])) % (4 * 8) == 0
    assert place.post(f"/clips/{clip}/versions/999999/look").status_code == 400


def test_stations_are_copied_to_other_clips_of_the_shoot(place, clip, make_clip):
    shoot = place.post("/shoots", {"name": "Copies"}).json["id"]
    one, two = (
        upload(place, shoot, name, make_clip(name, count=count).read_bytes()).json["clip"]
        for name, count in (("one.mp4", 12), ("two.mp4", 14))
    )
    lasso = {"kind": "lasso", "frame": 4, "outline": [[0.0, 0.0], [0.5, 0.0], [0.5, 1]]}
    for other in (one, two):
        place.work_now(place.post(f"/clips/{other}/open").json["work"]["id"])
    treated(place, one, motion={"calm": 77.0, "aside": [lasso]}, frame={"edge": "leave"})
    assert [c["id"] for c in place.get(f"/clips/{one}/others").json["clips"]] == [two]
    before = place.get(f"/clips/{two}/solution").json["treatment"]
    answer = place.post(f"/clips/{one}/copy", {"to": [two], "stations": ["motion"]})
    assert len(answer.json["names"]) == 1
    after = place.get(f"/clips/{two}/solution").json["treatment"]
    assert after["motion"]["calm"] == 77.0
    assert after["motion"]["aside"] == []  # a lasso belongs to its own clip
    assert after["frame"] == before["frame"]
    assert place.post(f"/clips/{one}/copy", {"to": [], "stations": ["motion"]}).status_code == 400
    assert place.post(f"/clips/{one}/copy", {"to": [two], "stations": ["glue"]}).status_code == 400


def test_a_closer_measure_is_made_beside_the_usual_one_and_used_when_it_is_there(place, clip):
    before = place.post(f"/clips/{clip}/open").json["closer"]
    assert not before["wanted"]
    assert before["seconds"] > 0
    usual = place.get(f"/clips/{clip}/solution").json["keys"]["motion"]
    price = place.get(f"/clips/{clip}/solution").json["keys"]["cost"]
    asked = place.post(f"/clips/{clip}/closer", {"wanted": True}).json
    assert asked["wanted"]
    assert not asked["there"]
    assert place.get(f"/clips/{clip}/solution").json["keys"]["motion"] == usual  # still in use
    assert place.work_now(asked["work"]["id"]) == "done"
    assert place.post(f"/clips/{clip}/open").json["closer"]["there"]
    answer = place.get(f"/clips/{clip}/solution").json
    assert answer["keys"]["motion"] != usual
    assert answer["keys"]["cost"] != price  # what calm costs is asked for anew
    assert answer["report"]["shake_removed"] > 50
    place.post(f"/clips/{clip}/closer", {"wanted": False})
    assert place.get(f"/clips/{clip}/solution").json["keys"]["motion"] == usual


def test_a_long_clip_answers_with_what_is_near_the_playhead(place, clip, monkeypatch):
    monkeypatch.setattr(solutions, "SOLVED_AT_ONCE", 10)
    monkeypatch.setattr(solutions, "WINDOW", 12)
    whole = Treatment().model_dump(mode="json")
    whole["motion"]["calm"] = 33.0
    address = f"/clips/{clip}/treatment?near=11"
    answer = place.post(address, {"treatment": whole}).json
    assert answer["solving"]["open"]
    assert answer["first"] == 5
    assert len(base64.b64decode(answer["strip"]["zoom"])) == 4 * 12
    assert place.work_now(answer["solving"]["id"]) == "done"
    answer = place.post(address, {"treatment": whole}).json
    assert answer["solving"] is None
    assert answer["first"] == 0
    assert len(base64.b64decode(answer["strip"]["zoom"])) == 4 * 30
    assert place.get(f"/clips/{clip}/lattice?near=3").json["lattice"]["start"] == 0


def test_a_finished_picture_is_measured_by_a_worker_and_stays_known(place, clip):
    address = f"/clips/{clip}"
    treatment = place.get(f"{address}/solution").json["treatment"]
    asked = place.post(f"{address}/finished", {"treatment": treatment}).json
    assert asked["work"]["doing"] == "Measuring the finished"
    assert place.work_now(asked["work"]["id"]) == "done"
    work = place.work(asked["work"]["id"])
    assert work.done == work.total > 0
    known = place.post(f"{address}/finished", {"treatment": treatment}).json
    assert known["work"] is None
    assert known["words"].startswith("Measured in the finished picture: ")
    assert place.get(f"{address}/solution").json["finished"] == known["words"]
    treatment["motion"]["calm"] = 77.0
    other = place.post(f"{address}/treatment", {"treatment": treatment}).json
    assert other["finished"] == ""
    assert place.post(f"{address}/finished", {"treatment": {"motion": 3}}).status_code == 400
