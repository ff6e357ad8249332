"""Fall-off where nothing moves; what a lens profile carries of its glass; fringes as a picture; and
clips that have nothing to tell."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
import pytest

from keen_horizon.cli.commands import main
from keen_horizon.core.media.photographs import read_photograph
from keen_horizon.core.picture.scopes import RINGS, scopes_of
from keen_horizon.core.picture.working_space import curve_words, working_space
from keen_horizon.core.pipeline import fall_off_of_photograph
from keen_horizon.core.pipeline.exact_view import _fringe_words
from keen_horizon.core.stations.glass import GlassSettings
from keen_horizon.core.stations.glass.colour_edges import colours_of
from keen_horizon.core.stations.glass.fall_off import FallOffGain, fall_off_of
from keen_horizon.core.stations.glass.fringe_map import Fringes, edges_apart, fringes_of
from keen_horizon.core.stations.glass.symmetry import fit_symmetry
from keen_horizon.core.stations.lens.settings import LensSettings
from keen_horizon.core.treatment.lens_profile import (
    glass_from,
    profile_of,
    read_profile,
    to_json,
)
from keen_horizon.simulated.brindle_quay import SHED_SHADE, engine_shed, loft_doorway, quay_walk
from keen_horizon.simulated.record import record
from keen_horizon.simulated.shade import Shade, to_light
from tests.motions import CANVAS
from tools.glass import pictured

HOME = Path(__file__).parents[2]
GLASS = GlassSettings(
    loss_r2=0.9, red_r=1.2, live=((0.1, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0), (0.0, 0.2)),
    doubt=0.05, found_by="clip", amount=80.0,
)  # fmt: skip
LENS = LensSettings(model="brown", k1=-0.1, focal=0.8)


def light_of(picture: np.ndarray) -> np.ndarray:
    light = to_light(picture) @ np.array([0.0722, 0.7152, 0.2126])
    return cv2.resize(light.astype(np.float32), (480, 270), interpolation=cv2.INTER_AREA)


# --- symmetry -------------------------------------------------------------------------------------


def test_the_symmetry_of_gradients_tells_of_much_that_was_lost():
    picture = quay_walk(0.2).frame(2)
    dark = Shade(1280, 720, 1.1).darken(picture)
    fit = fit_symmetry(light_of(dark), CANVAS)
    assert fit.fall_off is not None
    corner = fit.fall_off.lost(np.array([0.0, 0.0]))
    true = -np.log2(Shade(1280, 720, 1.1).passed[0, 0])
    assert corner == pytest.approx(true, abs=2 * 0.65)
    assert "symmetry" in fit.words
    assert fit.doubt > 0.2


@pytest.mark.parametrize("take", [quay_walk, engine_shed, loft_doorway])
def test_the_symmetry_of_gradients_claims_nothing_where_nothing_was_lost(take):
    fit = fit_symmetry(light_of(replace(take(0.2), shade=None).frame(1)), CANVAS)
    assert fit.fall_off is None


def test_a_black_picture_tells_nothing_of_its_symmetry():
    fit = fit_symmetry(np.zeros((270, 480), np.float32), CANVAS)
    assert fit.fall_off is None
    assert "black or white" in fit.words


# --- the wall that ships, and what a profile carries ----------------------------------------------


def test_the_wall_that_ships_tells_of_the_shed_s_glass():
    wall = HOME / "keen_horizon" / "demo" / "wall" / "wall.jpg"
    assert read_photograph(wall, wall.name).shape == (720, 1280)
    fit = fall_off_of_photograph(wall, wall.name, CANVAS)
    assert fit.fall_off is not None
    y, x = np.mgrid[0:720:40, 0:1280:40]
    off = fit.fall_off.lost(np.stack([x, y], -1)) + np.log2(SHED_SHADE.passed[y, x])
    assert np.std(off) < 0.02


def test_a_profile_carries_its_glass_and_nothing_of_the_clip():
    profile = profile_of("Shed", LENS, CANVAS, GLASS)
    again = read_profile(to_json(profile), "shed.json")
    assert again == profile
    told = glass_from(again)
    assert told is not None
    assert told["live"] == GLASS.live
    assert told["loss_r2"] == 0.9
    assert told["found_by"] == told["colour_found_by"] == "copy"
    assert "amount" not in told
    assert glass_from(profile_of("Even", LENS, CANVAS)) is None
    light_only = profile_of("Light", LENS, CANVAS, GlassSettings(loss_r2=0.5))
    assert (glass_from(light_only) or {})["colour_found_by"] == "nothing"


def test_a_profile_s_glass_is_used_and_reported(tmp_path: Path):
    clip, lens = tmp_path / "clip.mp4", tmp_path / "lens.json"
    record(quay_walk(0.3), clip, sound=False)
    lens.write_text(to_json(profile_of("Shed", LENS, CANVAS, GLASS)), "utf-8")
    told = tmp_path / "glass.json"
    assert main(["glass", str(clip), "--json", str(told), "--lens", str(lens)]) == 0
    found = json.loads(told.read_text())
    assert found["settings"]["found_by"] == "copy"
    assert np.array(found["gain"])[0, 0] == pytest.approx(2**0.9, rel=0.01)
    assert np.array(found["dead"])[0, 0] > 0.5
    assert "Shed" in found["words"][0]
    report, out = tmp_path / "report.json", tmp_path / "out.mp4"
    order = ["correct", str(clip), str(out), "--lens", str(lens), "--report", str(report)]
    assert main([*order, "--range", "0:4"]) == 0
    done = json.loads(report.read_text())
    assert done["treatment"]["glass"]["loss_r2"] == 0.9
    assert done["dead"]["share"] == pytest.approx(0.01, abs=0.002)


# --- fringes as a picture -------------------------------------------------------------------------


def parted(px: float) -> np.ndarray:
    """A walk whose red lies outside of green by ``px`` in the corners."""
    picture = quay_walk(0.2).frame(2)
    y, x = np.mgrid[0:720, 0:1280].astype(np.float32)
    away = 1 - px / 734.0
    x, y = 639.5 + (x - 639.5) * away, 359.5 + (y - 359.5) * away
    picture[..., 2] = cv2.remap(picture[..., 2], x, y, cv2.INTER_CUBIC)
    return picture


def test_a_map_shows_fringes_and_says_how_far_colours_lie_apart():
    space = working_space({}, 8, 720)
    clean, fringed = (
        fringes_of(colours_of(pictured(parted(px)), space), CANVAS) for px in (0.0, 3.0)
    )
    quiet, loud = (np.abs(one.drawn.astype(int) - 64).mean() for one in (clean, fringed))
    assert loud > 1.5 * quiet
    assert fringed.apart is not None
    assert fringed.apart[0] == pytest.approx(3.0 * 0.65, rel=0.35)  # rms over the picture
    assert clean.apart is not None
    assert clean.apart[0] < 0.3
    both = edges_apart([colours_of(pictured(parted(3.0)), space)], CANVAS)
    assert both is not None
    assert both[0] == pytest.approx(np.hypot(*fringed.apart), rel=0.01)


def test_a_picture_without_edges_has_no_map_worth_a_number():
    grey = np.full((720, 1280, 3), 120, np.uint8)
    told = fringes_of(colours_of(pictured(grey), working_space({}, 8, 720)), CANVAS)
    assert told.apart is None
    assert (told.drawn == 64).all()


def fringes(px: float | None) -> Fringes:
    drawn = np.zeros((1, 1, 3), np.uint8)
    return Fringes(drawn, None, None) if px is None else Fringes(drawn, (px, 0.0), (0.05, 0.0))


def test_what_is_gone_is_said_with_its_doubt():
    assert "96 % of it is gone, 91 % at the least" in _fringe_words(fringes(1.0), fringes(0.2))
    assert "none of it is gone" in _fringe_words(fringes(1.0), fringes(1.2))
    assert "no fringes that could be told" in _fringe_words(fringes(0.05), fringes(0.05))
    assert "Too few edges" in _fringe_words(fringes(None), fringes(0.1))
    assert "too few sharp edges to tell" in _fringe_words(fringes(1.0), fringes(None))


# --- light ----------------------------------------------------------------------------------------


def test_the_amount_that_blows_nothing_is_the_brightest_place_s():
    gain = FallOffGain(fall_off_of(GlassSettings(loss_r2=2.0), CANVAS), np.ones(1), 4.0)
    light = np.full((180, 320), 0.1)
    assert gain.unblown(light, 0.9, 0.0) > 1.5  # as much as an amount may be
    light[:20, :20] = 0.45  # a stop below white, where nearly two are lost
    most = gain.unblown(light, 0.9, 0.0)
    assert most == pytest.approx(0.5, abs=0.05)
    assert gain.unblown(light, 0.9, 0.02) > 1.5


def test_light_is_lost_against_the_middle_of_the_glass():
    grey = np.full((90, 160, 3), 200, np.uint8)
    dark = Shade(160, 90, 0.9).darken(grey)
    lost = scopes_of(dark).lost
    assert len(lost) == RINGS
    known = lost[np.isfinite(lost)]
    assert known[0] == 0
    assert known[-1] == pytest.approx(1.7, abs=0.3)
    assert np.nanmax(np.abs(scopes_of(grey).lost)) < 1e-6
    off = scopes_of(dark, glass=(0.4, 0.0, 1.0)).lost
    assert np.nanmin(off) < -0.1  # about a place to the side, the middle is brighter


@pytest.mark.parametrize(
    ("colour", "words"),
    [
        ({"transfer": 1}, "BT.709, as the clip's tag says"),
        ({"transfer": 18}, "HLG, as the clip's tag says"),
        ({"transfer": 2}, "has no tag"),
        ({}, "has no tag"),
        ({"transfer": 9}, "not known"),
        ({"transfer": 2, "primaries": 9}, "wrong if it is PQ or HLG"),
    ],
)
def test_by_which_curve_light_is_told_is_said(colour: dict[str, int], words: str):
    assert words in curve_words(colour)


# --- clips with nothing to tell -------------------------------------------------------------------


def film(path: Path, pictures: list[np.ndarray]) -> Path:
    height, width = pictures[0].shape[:2]
    with av.open(str(path), "w") as out:
        video = out.add_stream("libx264", rate=Fraction(30), options={"crf": "18"})
        video.width, video.height, video.pix_fmt = width, height, "yuv420p"
        for i, picture in enumerate(pictures):
            frame = av.VideoFrame.from_ndarray(picture, "bgr24")
            frame.pts = i
            out.mux(video.encode(frame))
        out.mux(video.encode(None))
    return path


def plain(level: tuple[int, int, int]) -> list[np.ndarray]:
    return [np.full((180, 320, 3), level, np.uint8)] * 8


BURNT = [np.where(np.hypot(*np.mgrid[-90:90, -160:160])[..., None] > 130, 255, p).astype(np.uint8)
         for p in plain((90, 120, 100))]  # fmt: skip


@pytest.mark.parametrize(
    ("pictures", "words"),
    [
        (plain((0, 0, 0)), ["black or white", "too dark", "Only 0 places"]),
        (plain((40, 160, 90)), ["tells of none", "Every corner", "Only 0 places"]),
        (BURNT, ["fall-off", "Every corner", "places"]),
    ],
)
def test_a_clip_with_nothing_to_tell_gets_its_sentences_and_is_left_alone(
    pictures: list[np.ndarray], words: list[str], tmp_path: Path, capsys
):
    clip, told = film(tmp_path / "clip.mp4", pictures), tmp_path / "told.json"
    assert main(["glass", str(clip), "--json", str(told)]) == 0
    found = json.loads(told.read_text())
    assert found["gain"] is None
    assert not (found["settings"] or {}).get("live")
    said = capsys.readouterr().err
    for sentence in words:
        assert sentence in said
    out, report = tmp_path / "out.mp4", tmp_path / "report.json"
    order = ["correct", str(clip), str(out), "--set", "glass.find=true", "--report", str(report)]
    assert main([*order, "--set", "finish.on=true"]) == 0
    done = json.loads(report.read_text())
    assert done["zoom"] == 1.0
    assert done["glass"] is None


def test_a_small_clip_is_sharpened_without_harm(tmp_path: Path):
    small = [cv2.resize(quay_walk(0.4).frame(k), (312, 176)) for k in range(8)]
    clip, out, told = film(tmp_path / "s.mp4", small), tmp_path / "o.mp4", tmp_path / "r.json"
    order = ["correct", str(clip), str(out), "--set", "finish.on=true", "--report", str(told)]
    assert main([*order, "--set", "finish.beyond=50"]) == 0
    assert json.loads(told.read_text())["sharpening"]["gain"] > 0.4
