"""What a house with one more station shows of it, without having been told anything else.

Run by ``test_new_station``, in a process where the station is declared.
"""

from __future__ import annotations

import json

import cv2
import numpy as np
import pytest

from keen_horizon.cli.commands import main
from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.probe import scan
from keen_horizon.core.treatment import Treatment, schema, with_settings
from keen_horizon.core.treatment.digest import digest
from keen_horizon.core.treatment.schema import settings_table
from tests.integration.conftest import place, server_url, url  # noqa: F401
from tests.integration.test_web import treated


@pytest.fixture(scope="module")
def clips(place, make_clip):  # noqa: F811
    """Two measured clips of one shoot."""
    shoot = place.shoot("Quay")
    return [place.measured(make_clip(name, count=12), shoot)[1] for name in ("one.mp4", "two.mp4")]


def test_schema_and_table_of_settings():
    told = schema()
    depth = next(d for d in told["$defs"].values() if "depth" in d.get("properties", {}))
    assert (depth["properties"]["depth"]["minimum"], depth["properties"]["depth"]["maximum"]) == (
        0,
        80,
    )
    assert "haze.depth" in settings_table()
    with pytest.raises(Exception, match="less than or equal to 80"):
        Treatment.model_validate({"haze": {"depth": 81.0}})


def test_cache_keys_are_changed_where_it_has_an_effect():
    plain, deep = Treatment(), with_settings(Treatment(), ["haze.depth=20"])
    off = with_settings(deep, ["haze.on=false"])
    assert digest(plain, "motion") == digest(deep, "motion")
    assert digest(plain, "path") != digest(deep, "path")
    assert digest(off, "path") == digest(with_settings(plain, ["haze.on=false"]), "path")


def test_light_path_tools_and_copies(place, clips):  # noqa: F811
    one, two = clips
    page = place.client.get(f"/clips/{one}").get_data(as_text=True)
    for told in ('<span class="station-name">Haze</span>', 'aria-label="Haze on"', "Depth",
                 "Keyframe of Depth here", "How much light is lost"):  # fmt: skip
        assert told in page, told
    answer = treated(place, one, haze={"depth": 60.0})
    haze = answer["stations"]["haze"]
    assert haze["summary"] == "60 %"
    assert haze["warnings"] == ["It is dark; less depth helps."]
    assert haze["figures"][0]["text"] == "60 %"
    assert any(item["label"] == "Haze" and item["amber"] for item in answer["price"])
    assert answer["report"]["haze_most"] == 60.0
    (stage,) = answer["pixels"]
    assert "vec3 haze(" in stage["shader"]
    place.post(f"/clips/{one}/copy", {"to": [two], "stations": ["haze"]})
    copied = place.get(f"/clips/{two}/solution").json["treatment"]
    assert copied["haze"]["depth"] == 60.0
    plain = treated(place, two, haze={"depth": 0.0})
    assert plain["stations"]["haze"]["warnings"] == []


def test_the_command_line_warps_dims_keys_and_reports(tmp_path, make_clip):
    source = make_clip("line.mp4", count=12, shake=0.0, sound=None)
    said = tmp_path / "said.json"
    still = ["--set", "motion.on=false", "--set", "frame.on=false"]
    pictures = []
    for depth in (0, 20):
        film = tmp_path / f"{depth}.mp4"
        order = ["correct", str(source), str(film), *still, "--quality", "fine"]
        order += ["--set", f"haze.depth={depth}", "--report", str(said)]
        assert main(order) == 0
        found = scan(film)
        luma = next(frames(film, found, 0, 0)).planes[0]
        pictures.append((luma.astype(np.float32) - 16) / 219)
    assert json.loads(said.read_text())["haze_most"] == 20
    light = [((p + 0.099) / 1.099) ** (1 / 0.45) for p in pictures]  # ITU-R BT.709
    # Down by 20 pixels the source is looked up: what was there moves up, at 0.8 of its light.
    plain, deep = light[0][40:200, 40:280], light[1][20:180, 40:280]
    grey = [cv2.GaussianBlur(p, (0, 0), 2).ravel() for p in (plain, deep)]
    assert np.corrcoef(*grey)[0, 1] > 0.98
    assert grey[1].mean() / grey[0].mean() == pytest.approx(0.8, abs=0.04)
