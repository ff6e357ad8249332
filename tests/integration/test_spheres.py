"""Spheres from the shelf to the export, without a browser."""

from __future__ import annotations

from pathlib import Path

import pytest

from keen_horizon.core.media.probe import scan
from keen_horizon.core.treatment import Treatment, with_settings
from keen_horizon.simulated.record import record
from keen_horizon.simulated.sphere import harbour_sphere, twin_fisheye
from tests.integration.conftest import Place

pytestmark = pytest.mark.integration


@pytest.fixture(scope="module")
def boat(place: Place, tmp_path_factory: pytest.TempPathFactory) -> tuple[int, int]:
    path = tmp_path_factory.mktemp("boat") / "boat.mp4"
    record(harbour_sphere(0.8, (512, 256)), path)
    return place.measured(path)


def of(place: Place, clip: int, part: str) -> str:
    return f"/clips/{clip}/{part}"


def test_a_sphere_opens_as_one_with_a_first_treatment(place: Place, boat):
    recording, clip = boat
    assert place.recording(recording).kind == "sphere"
    opened = place.post(of(place, clip, "open")).json
    assert (opened["phase"], opened["kind"]) == ("ready", "sphere")
    assert "all around" in opened["kind_words"]
    answer = place.get(of(place, clip, "solution")).json
    assert answer["whole"]
    assert set(answer["stations"]) == {"motion", "view", "finish"}
    assert set(answer["strip"]["before"]) >= {"yaw", "pitch", "roll"}
    assert answer["report"]["output"] == {"width": 512, "height": 256, "pixel_aspect": 1}
    shelf = place.get("/shelf.json").json["shoots"]
    card = next(c for shoot in shelf for c in shoot["clips"] if c["id"] == clip)
    assert card["shake"]["before"].endswith("°")
    assert card["state"] == "measured"


def test_what_flat_clips_alone_have_is_refused_in_words(place: Place, boat):
    _, clip = boat
    treatment = {"treatment": Treatment().as_data()}
    asked: list[tuple[str, dict]] = [
        ("cost", treatment),
        ("finished", treatment),
        ("cover", treatment),
        ("exact", {**treatment, "frame": 0}),
        ("glass/find", {}),
        ("closer", {"wanted": True}),
    ]
    for part, data in asked:
        answer = place.post(of(place, clip, part), data)
        assert answer.status_code == 400, part
    assert place.get(of(place, clip, "groups")).status_code == 400
    assert "as a sphere" in place.get(of(place, clip, "groups")).json["error"]


def test_a_point_that_nobody_has_followed_yet_is_a_workers_work(place: Place, boat):
    _, clip = boat
    treatment = with_settings(Treatment(), ["motion.aim=hold"]).as_data()
    treatment["motion"]["hold"] = [{"frame": 3, "at": [0.4, 0.47], "pattern": 0.1}]
    answer = place.post(of(place, clip, "treatment"), {"treatment": treatment, "keep": True}).json
    assert answer["whole"] is False
    assert place.work_now(answer["solving"]["id"]) == "done"
    assert place.get(of(place, clip, "solution")).json["whole"]
    back = place.post(of(place, clip, "undo")).json
    assert back["whole"]
    assert back["treatment"]["motion"]["aim"] == "follow"


def test_uprights_that_an_earlier_version_kept_are_looked_for_again(place: Place, boat):
    _, clip = boat
    treatment = with_settings(Treatment(), ["motion.calm=33"]).as_data()
    for kept in (place.store.path("uprights")).rglob("*.npz"):
        kept.unlink()
    answer = place.post(of(place, clip, "treatment"), {"treatment": treatment, "keep": True}).json
    assert answer["whole"] is False
    assert place.work_now(answer["solving"]["id"]) == "done"
    assert list(place.store.path("uprights").rglob("*.npz"))
    assert place.get(of(place, clip, "solution")).json["whole"]


def test_another_kind_is_another_measure_and_both_stay(place: Place, boat):
    recording, clip = boat
    assert place.post(of(place, clip, "kind"), {"kind": "round"}).status_code == 400
    assert place.post(of(place, clip, "kind"), {"kind": "flat"}).status_code == 200
    opened = place.post(of(place, clip, "open")).json
    assert (opened["phase"], opened["kind"]) == ("measuring", "flat")
    assert place.work_now(opened["work"]["id"]) == "done"
    assert place.post(of(place, clip, "open")).json["phase"] == "ready"
    assert "lattice" in place.get(of(place, clip, "solution")).json
    assert place.post(of(place, clip, "kind"), {"kind": "sphere"}).status_code == 200
    assert place.post(of(place, clip, "open")).json["phase"] == "ready"
    assert "sphere" in place.get(of(place, clip, "solution")).json


def test_two_fisheyes_are_a_sphere_and_taken_in_anew_as_a_flat_clip(place: Place, tmp_path: Path):
    path = tmp_path / "twin.mp4"
    record(twin_fisheye(0.8, 256), path)
    recording, clip = place.measured(path)
    opened = place.post(of(place, clip, "open")).json
    assert (opened["phase"], opened["kind"]) == ("ready", "sphere")
    assert "two fisheyes" in opened["kind_words"]
    twin = place.recording(recording).twin
    assert twin["size"] == [512, 256]
    assert (opened["width"], opened["height"]) != (512, 256)
    assert opened["width"] == 2 * opened["height"]
    assert "512 × 256" in opened["source_words"].replace("\u00a0", " ")
    proxy = place.recording(recording).proxy_key
    assert place.post(of(place, clip, "kind"), {"kind": "flat"}).status_code == 200
    opened = place.post(of(place, clip, "open")).json
    assert opened["phase"] == "taking in"
    assert place.work_now(opened["work"]["id"]) == "done"
    opened = place.post(of(place, clip, "open")).json
    assert (opened["kind"], opened["width"], opened["height"]) == ("flat", 512, 256)
    flat = place.recording(recording).proxy_key
    assert flat != proxy
    assert place.recording(recording).twin == twin
    assert place.post(of(place, clip, "kind"), {"kind": "sphere"}).status_code == 200
    opened = place.post(of(place, clip, "open")).json
    assert place.work_now(opened["work"]["id"]) == "done"
    assert place.post(of(place, clip, "open")).json["phase"] == "ready"  # measured before
    assert place.recording(recording).proxy_key != flat


def test_a_clip_whose_kind_is_no_question_has_no_other(place: Place, make_clip):
    _, clip = place.measured(make_clip("plain.mp4", count=6))
    assert place.post(of(place, clip, "open")).json["kind_words"] == ""
    answer = place.post(of(place, clip, "kind"), {"kind": "sphere"})
    assert answer.status_code == 400


def test_a_sphere_is_exported_with_its_numbers(place: Place, boat, tmp_path: Path):
    _, clip = boat
    listed = place.get(of(place, clip, "exports/list")).json
    assert listed["choices"]["heights"] == []
    assert listed["choices"]["full"]["width"] == 512
    revision = listed["choices"]["revisions"][0]["id"]
    asked = place.post(of(place, clip, "exports"), {"revision": revision, "quality": "small"}).json
    assert place.work_now(asked["work"]["id"]) == "done"
    row = place.get(of(place, clip, "exports/list")).json["exports"][0]
    told = {figure["label"]: figure["text"] for figure in row["figures"]}
    assert "°" in told["Shake left"]
    assert "°" in told["Shake left, measured in the file"]
    report = place.get(f"/clips/{clip}/exports/{row['id']}/report").json
    assert report["projection"] == "equirectangular"
    film = tmp_path / "film.mp4"
    film.write_bytes(place.client.get(row["file"]).data)
    assert scan(film).probe.sphere is not None
