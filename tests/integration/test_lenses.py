"""Lens tools over the web: looks, traces, fits, charts, and the cabinet."""

import cv2
import numpy as np
import pytest

from keen_horizon.core.media.photographs import is_photograph
from keen_horizon.jobs import charts
from keen_horizon.simulated.brindle_quay import engine_shed
from keen_horizon.simulated.charts import deck_camera, photographs
from keen_horizon.simulated.record import record

pytestmark = pytest.mark.integration


@pytest.fixture(scope="module")
def clip(place, tmp_path_factory) -> int:
    """A second of the engine shed, measured."""
    path = tmp_path_factory.mktemp("shed") / "shed.mp4"
    record(engine_shed(0.8), path, sound=False)
    return place.measured(path)[1]


def send(place, address: str, name: str, data: bytes):
    headers = {"X-CSRFToken": place.token, "Accept": "application/json"}
    return place.client.post(f"{address}?name={name}", data=data, headers=headers)


def looked_at(place, clip: int, frame: int) -> list:
    answer = place.post(f"/clips/{clip}/lens/look", {"frame": frame}).json
    if not answer["there"]:
        assert place.work_now(answer["work"]["id"]) == "done"
        answer = place.post(f"/clips/{clip}/lens/look", {"frame": frame}).json
    assert answer["there"]
    return answer["edges"]


def traced(place, clip: int, pins: list, frame: int = 5) -> dict:
    looked_at(place, clip, frame)
    return place.post(f"/clips/{clip}/lens/trace", {"frame": frame, "pins": pins}).json


def test_the_file_tells_its_camera(place, clip):
    assert place.get(f"/clips/{clip}/lenses").json["camera"] == "Skerrick Cockle pocket camera"


def test_edges_are_proposed_traced_and_give_a_lens(place, clip):
    proposed = looked_at(place, clip, 5)
    assert len(proposed) > 3
    longest = proposed[0]
    found = traced(place, clip, [longest[0], longest[-1]])
    assert found["seen"] > 0.5
    edges = [{"frame": 5, "points": points} for points in proposed]
    answer = place.post(f"/clips/{clip}/lens/fit", {"edges": edges}).json
    assert answer["settings"]["model"] == "brown"
    assert len(answer["residuals"]) == len(edges)
    assert answer["levels"] == []
    level = [edges[0] | {"runs": "level"}, *edges[1:]]
    levels = place.post(f"/clips/{clip}/lens/fit", {"edges": level}).json["levels"]
    assert levels[0]["frame"] == 5
    assert abs(levels[0]["turn"]) < 5


def test_a_lens_changes_the_picture_at_once_and_the_motion_by_a_worker(place, clip):
    treatment = place.get(f"/clips/{clip}/solution").json["treatment"]
    treatment["lens"] |= {"model": "brown", "k1": -0.54, "k2": 0.72, "found_by": "numbers"}
    treatment["motion"]["model"] = "rotation"
    sliding = place.post(f"/clips/{clip}/treatment", {"treatment": treatment, "sliding": True}).json
    assert sliding["solving"] is None  # nobody is asked while a slider moves
    assert sliding["lattice"]["columns"] == 33
    assert sliding["displacement"]["moved"][0] == 0
    kept = place.post(f"/clips/{clip}/treatment", {"treatment": treatment, "keep": True}).json
    assert kept["lattice"]["columns"] == 33
    assert place.work_now(kept["solving"]["id"]) == "done"
    solved = place.get(f"/clips/{clip}/solution").json
    assert solved["solving"] is None
    told = solved["report"]["lens"]
    assert told["bent_residual"] > 0
    assert "74°" in solved["stations"]["lens"]["summary"]
    assert "px straightened" in solved["stations"]["lens"]["details"]["fit"]


@pytest.mark.parametrize(
    ("what", "body", "words"),
    [
        ("trace", {"frame": 5, "pins": [[0.1, 0.1]]}, "takes two points"),
        ("trace", {"frame": 5, "pins": "here"}, "points of the picture"),
        ("trace", {"frame": -1, "pins": [[0, 0], [1, 1]]}, "by its number"),
        ("look", {"frame": 9999}, "does not exist"),
        ("fit", {"edges": []}, "no edge yet"),
        ("fit", {"edges": [{"frame": 1, "points": [[0.1, 0.1]]}]}, "at least two"),
        ("fit", {"edges": [{"frame": 1, "points": [[0.1, 0.1], [0.5, 0.2]]}]}, "with 2 points"),
        ("fit", {"edges": [], "model": "wavy"}, "brown, fisheye or division"),
    ],
)
def test_what_makes_no_sense_is_answered_in_words(place, clip, what, body, words):
    answer = place.post(f"/clips/{clip}/lens/{what}", body)
    assert answer.status_code == 400
    assert words in answer.json["error"]


def test_a_dial_gives_a_focal_length(place, clip):
    this = place.get(f"/clips/{clip}/lens/angle?degrees=150&shape=this").json["settings"]["focal"]
    tall = place.get(f"/clips/{clip}/lens/angle?degrees=150&shape=4:3").json["settings"]["focal"]
    assert this == pytest.approx(np.hypot(1, 9 / 16) / 2 / np.radians(75), abs=1e-4)
    assert tall == pytest.approx(1.25 / 2 / np.radians(75), abs=1e-4)
    refused = place.get(f"/clips/{clip}/lens/angle?degrees=180&shape=this")
    assert refused.status_code == 400
    assert "from 20 to 179" in refused.json["error"]


def test_charts_are_read_from_photographs_and_made_a_lens(place, clip):
    photos = []
    for k, photo in enumerate(list(photographs(deck_camera()))[:7]):
        done, data = cv2.imencode(".jpg", photo)
        assert done
        answer = send(place, f"/clips/{clip}/photos", f"view {k}.jpg", data.tobytes())
        photos.append(answer.json)
    refused = send(place, f"/clips/{clip}/photos", "x.jpg", b"GIF89a....")
    assert "neither a PNG nor a JPEG" in refused.json["error"]
    asked = {"columns": 9, "rows": 6, "photos": photos}
    answer = place.post(f"/clips/{clip}/chart", asked).json
    assert place.work_now(answer["work"]["id"]) == "done"
    found = place.post(f"/clips/{clip}/chart", asked).json
    assert found["settings"]["model"] == "fisheye"
    assert found["residual"] < 0.2
    assert found["refusal"] == ""
    assert np.array(found["covered"]).sum() > 0
    missing = [view for view in found["views"] if view["fault"]]
    assert all("no whole chart of 9 × 6" in view["fault"] for view in missing)
    wrong = place.post(f"/clips/{clip}/chart", asked | {"columns": 2})
    assert "2 × 6 inner corners" in wrong.json["error"]


def test_a_clip_without_charts_says_so(place, clip, monkeypatch):
    monkeypatch.setattr(charts, "LOOKED_AT", 6)
    asked = {"columns": 9, "rows": 6, "photos": []}
    answer = place.post(f"/clips/{clip}/chart", asked).json
    assert place.work_now(answer["work"]["id"]) == "done"
    found = place.post(f"/clips/{clip}/chart", asked).json
    assert "no whole chart" in found["problem"]
    assert "settings" not in found


def test_a_lens_is_kept_used_elsewhere_and_followed_when_it_changes(place, clip, make_clip):
    treatment = place.get(f"/clips/{clip}/solution").json["treatment"]
    treatment["lens"] |= {"model": "brown", "k1": -0.5, "found_by": "numbers"}
    place.post(f"/clips/{clip}/treatment", {"treatment": treatment, "keep": True})
    told = {"name": "Pocket wide", "camera": "Skerrick Cockle pocket camera", "mode": "720p"}
    listed = place.post(f"/clips/{clip}/lenses", told).json["lenses"]
    lens = next(one for one in listed if one["name"] == "Pocket wide")
    assert lens["suggested"]
    assert lens["refusal"] == ""
    # Another crop of the sensor: refused, with the reason.
    other = place.measured(make_clip("square.mp4", width=320, height=240))[1]
    there = place.get(f"/clips/{other}/lenses").json["lenses"]
    assert "another crop of the sensor" in there[0]["refusal"]
    # The same crop, smaller: fits, and says when the profile has changed.
    small = place.measured(make_clip("small.mp4", width=320, height=180))[1]
    mine = place.get(f"/clips/{small}/solution").json["treatment"]
    mine["lens"] |= lens["settings"]
    answer = place.post(f"/clips/{small}/treatment", {"treatment": mine, "keep": True}).json
    assert answer["newer"] is None
    treatment["lens"]["k1"] = -0.4
    place.post(f"/clips/{clip}/treatment", {"treatment": treatment, "keep": True})
    place.post(f"/clips/{clip}/lenses", {"instead_of": lens["id"]})
    newer = place.get(f"/clips/{small}/solution").json["newer"]
    assert "has changed in the cabinet since (edition 2)" in newer["words"]
    assert newer["settings"]["k1"] == -0.4
    # As files.
    text = place.client.get(f"/lenses/{lens['id']}.yml").get_data()
    assert text.startswith(b"%YAML")
    back = send(place, f"/clips/{clip}/lenses/import", "house.yml", text).json["lenses"]
    assert len(back) == len(listed) + 1
    assert place.client.get(f"/lenses/{lens['id']}.json").json["optics"]["k1"] == -0.4
    refused = send(place, f"/clips/{clip}/lenses/import", "house.yml", b"nothing")
    assert "house.yml: is neither a lens profile" in refused.json["error"]
    gone = place.post(f"/clips/{clip}/lenses/{lens['id']}", method="DELETE").json["lenses"]
    assert lens["id"] not in [one["id"] for one in gone]
    assert place.get(f"/clips/{small}/solution").json["newer"] is None


def test_a_chart_can_be_printed(place):
    pdf = place.client.get("/chart.pdf?columns=9&rows=6&paper=A4")
    assert pdf.mimetype == "application/pdf"
    assert place.client.get("/chart.svg?columns=9&rows=6").get_data().startswith(b"<svg")
    assert place.client.get("/chart.pdf?columns=1&rows=6").status_code == 400
    assert place.client.get("/chart.pdf?columns=9&rows=6&paper=A9").status_code == 404


def test_cover_and_keep_view_give_settings(place, clip):
    treatment = place.get(f"/clips/{clip}/solution").json["treatment"]
    treatment["lens"] |= {"model": "brown", "k1": -0.5, "k2": 0.6}
    covered = place.post(f"/clips/{clip}/cover", {"treatment": treatment}).json
    assert covered["settings"]["extra_zoom"] > 0.9
    assert "no edge is bare" in covered["words"]
    treatment["frame"] |= covered["settings"]
    kept = place.post(f"/clips/{clip}/treatment", {"treatment": treatment, "keep": True}).json
    if kept["solving"]:
        assert place.work_now(kept["solving"]["id"]) == "done"
        kept = place.get(f"/clips/{clip}/solution").json
    assert kept["report"]["bare_edges"] < 0.6
    whole = place.post(f"/clips/{clip}/keep-view", {"treatment": treatment, "ceiling": 4096}).json
    assert whole["settings"]["width"] > 1280
    assert "MB a frame" in whole["words"]
    refused = place.post(f"/clips/{clip}/keep-view", {"treatment": treatment, "ceiling": 90_000})
    assert refused.status_code == 400


def test_kinds_of_photographs():
    assert is_photograph(b"\x89PNG\r\n\x1a\n....")
    assert not is_photograph(b"%PDF-1.4")
