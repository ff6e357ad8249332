"""Lateral colour and halo: the rules, what edges tell, and pictures sampled colour by colour."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from keen_horizon.cli.commands import main
from keen_horizon.core.errors import BadSetting
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.lattice import lattice_points
from keen_horizon.core.media.decode import frame_at, frames, reference_frames
from keen_horizon.core.media.probe import scan
from keen_horizon.core.picture.painter import Painter
from keen_horizon.core.picture.radial import RadialField
from keen_horizon.core.picture.warp import Sampler
from keen_horizon.core.picture.working_space import working_space
from keen_horizon.core.pipeline import find_lateral
from keen_horizon.core.stations.glass import GlassSettings
from keen_horizon.core.stations.glass.by_hand import Parting, parted_by_hand, parting_of
from keen_horizon.core.stations.glass.colour_edges import (
    colours_of,
    fit_lateral,
)
from keen_horizon.core.stations.glass.fringe_map import strongest_fringe
from keen_horizon.core.stations.glass.halo import Halo
from keen_horizon.core.stations.glass.lateral import (
    Lateral,
    LateralColour,
    lateral_of,
    lateral_settings,
)
from keen_horizon.simulated.brindle_quay import SHED_FRINGES, engine_shed
from keen_horizon.simulated.record import record
from tools.glass import pictured, rims

CANVAS = Canvas(1280, 720)
SPACE = working_space({}, 8, 720)
TRUE = Lateral(RadialField(CANVAS), SHED_FRINGES.red, SHED_FRINGES.blue)
NONE = Lateral(RadialField(CANVAS), (0.0, 0.0), (0.0, 0.0))
SAME = Sampler(np.eye(3))


def off_by(one: Lateral, other: Lateral) -> tuple[float, float]:
    """How far apart two of them put red and blue, rms px over the picture."""
    places = lattice_points(CANVAS, 33, 19)
    apart = one.parted(places) - other.parted(places)
    red, blue = np.sqrt((apart**2).sum(axis=-1).mean(axis=(0, 1))).tolist()
    return red, blue


def parted(bgr: np.ndarray, glass: Lateral) -> np.ndarray:
    """A picture as glass puts it: each colour moved, by looking up where it came from."""
    height, width = bgr.shape[:2]
    places = np.stack(np.meshgrid(np.arange(width), np.arange(height)), axis=-1).astype(float)
    out = bgr.copy()
    for channel, k in ((2, 0), (0, 1)):
        came = places.copy()
        for _ in range(4):
            came = places - glass.parted(came)[..., k, :]
        out[..., channel] = cv2.remap(
            bgr[..., channel], came.astype(np.float32), None, cv2.INTER_CUBIC,
            borderMode=cv2.BORDER_REPLICATE,
        )  # fmt: skip
    return out


@pytest.fixture(scope="module")
def blocks() -> np.ndarray:
    """Dark and light blocks at all angles, of colours of their own; edges as cameras draw them."""
    rng = np.random.default_rng(6)
    picture = np.full((720, 1280, 3), 150, np.uint8)
    for _ in range(260):
        middle = rng.uniform([0, 0], [1280, 720])
        box = cv2.boxPoints((middle.tolist(), rng.uniform(30, 120, 2).tolist(), rng.uniform(0, 90)))
        grey = int(rng.choice([40, 70, 190, 215]))
        colour = np.clip(grey + rng.normal(0, 12, 3), 16, 235)
        cv2.fillConvexPoly(picture, box.astype(int), colour.tolist(), cv2.LINE_AA)
    return cv2.GaussianBlur(picture, (0, 0), 1.0)


def test_settings_say_what_was_found():
    told = GlassSettings(**lateral_settings(TRUE, 0.1))
    assert off_by(lateral_of(told, CANVAS), TRUE) == pytest.approx((0, 0), abs=1e-3)
    assert told.colour_found_by == "clip"


def test_by_hand_and_back():
    told = parted_by_hand(Parting(1.5, -0.75, 40), CANVAS.radius)
    lateral = Lateral(RadialField(CANVAS), told["red"], told["blue"])
    assert lateral.corners() == pytest.approx((1.5, -0.75))
    back = parting_of(lateral)
    assert (back.red, back.blue, back.outwards) == pytest.approx((1.5, -0.75, 40))
    for wrong in (Parting(13, 0, 0), Parting(0, 0, 101), Parting(0, 0, -1)):
        with pytest.raises(BadSetting):
            parted_by_hand(wrong, CANVAS.radius)


@pytest.mark.parametrize("form", ["yuv420p", "yuv444p"])
def test_edges_tell_where_colours_are(blocks: np.ndarray, form: str):
    seen = pictured(parted(blocks, TRUE), form)
    fit = fit_lateral([colours_of(seen, SPACE)], CANVAS)
    assert fit.lateral is not None
    assert max(off_by(fit.lateral, TRUE)) < 0.1
    assert max(off_by(fit.lateral, TRUE)) < 3 * max(fit.doubt)
    assert "outside green" in fit.words
    assert "inside green" in fit.words


def test_nothing_is_found_where_nothing_is(blocks: np.ndarray):
    fit = fit_lateral([colours_of(pictured(blocks), SPACE)], CANVAS)
    assert fit.lateral is None
    assert "no lateral colour" in fit.words


@pytest.mark.parametrize("grey", [0, 128, 255])
def test_a_plain_picture_tells_nothing(grey: int):
    plain = np.full((720, 1280, 3), grey, np.uint8)
    fit = fit_lateral([colours_of(pictured(plain), SPACE)], CANVAS)
    assert fit.lateral is None
    assert "sharp enough" in fit.words
    assert fit.settings is None
    assert strongest_fringe(colours_of(pictured(plain), SPACE)) is None


@pytest.mark.parametrize("form", ["yuv420p", "yuv444p"])
def test_most_of_the_fringes_goes(blocks: np.ndarray, form: str):
    clean, fringed = pictured(blocks, form), pictured(parted(blocks, TRUE), form)
    out = tuple(np.zeros_like(plane) for plane in fringed.planes)
    stage = LateralColour(TRUE, np.ones(1))
    Painter(SPACE, (stage,)).paint(fringed, SAME, out, bare=False)
    inner = np.s_[8:-8, 8:-8]
    for k in (1, 2):
        before = fringed.planes[k][inner].astype(float) - clean.planes[k][inner]
        after = out[k][inner].astype(float) - clean.planes[k][inner]
        assert (after**2).sum() < 0.15 * (before**2).sum()


def test_where_colours_agree_nothing_changes(blocks: np.ndarray):
    seen = pictured(blocks)
    through = Sampler(np.array([[1.02, 0, -4.3], [0, 1.02, -2.6], [0, 0, 1.0]]))
    grid = replace(through, grid=through.places(1280, 720).source)
    plain, by_colour = (tuple(np.zeros_like(p) for p in seen.planes) for _ in range(2))
    Painter(SPACE).paint(seen, grid, plain, bare=True)
    stage = LateralColour(NONE, np.ones(1))
    Painter(SPACE, (stage,)).paint(seen, grid, by_colour, bare=True)
    for mine, theirs in zip(by_colour, plain, strict=True):
        off = np.abs(mine.astype(int) - theirs)
        share = mine.shape[0] / 720
        inner = np.s_[int(12 * share) : int(690 * share), int(12 * share) : int(1240 * share)]
        assert off[inner].max() <= 1
        assert off.mean() < 0.5  # at the very edge black is mixed in by the one alone


def test_half_the_amount_moves_half_as_far():
    stage = LateralColour(TRUE, np.array([1.0, 0.5]))
    places = np.array([[1200.0, 700.0]])
    assert stage.parted(places, 1) == pytest.approx(stage.parted(places, 0) / 2)


# --- a recording ----------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def shed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("shed") / "shed.mp4"
    record(engine_shed(0.3), path, sound=False)
    return path


def test_key_frames_are_those_that_are_coded_whole(shed: Path):
    found = scan(shed)
    last = found.probe.frame_count - 1
    assert found.keys_within(0, last) == [0]
    assert found.keys_within(1, last) == []


def test_a_recording_tells_its_lateral_colour(shed: Path):
    found = scan(shed)
    fit = find_lateral(shed, found, 0, found.probe.frame_count - 1)
    assert fit.lateral is not None
    assert max(off_by(fit.lateral, TRUE)) < 0.2
    assert max(off_by(fit.lateral, TRUE)) < 3 * max(fit.doubt)


def test_an_export_finds_it_first_where_that_is_asked(shed: Path, tmp_path: Path):
    report = tmp_path / "report.json"
    order = ["correct", str(shed), str(tmp_path / "out.mp4"), "--report", str(report)]
    assert main([*order, "--set", "glass.find=true", "--set", "motion.on=false"]) == 0
    told = json.loads(report.read_text())
    assert told["treatment"]["glass"]["colour_found_by"] == "clip"
    assert told["treatment"]["glass"]["find"] is False
    assert told["colours"]["corner_px"]["red"] > 1
    assert told["colours"]["corner_px"]["blue"] < -0.7
    before, after = (frame_at(path, scan(path), 0) for path in (shed, tmp_path / "out.mp4"))
    assert not np.array_equal(before.planes[1], after.planes[1])


# --- halo -----------------------------------------------------------------------------------------


def test_a_halo_goes_and_flowers_stay():
    clean, glowing = rims()
    halo = Halo(np.ones(1), 0.008 * 720, (280, 130), 720, 1280)
    changed = halo.apply(glowing, SPACE, 0)
    assert np.array_equal(changed.planes[0], glowing.planes[0])
    before, after = (
        np.hypot(*(one.planes[k].astype(float) - clean.planes[k] for k in (1, 2)))
        for one in (glowing, changed)
    )
    rim = before > 4
    assert rim.mean() > 0.01
    assert after[rim].sum() < 0.3 * before[rim].sum()
    for k in (1, 2):
        assert np.array_equal(changed.planes[k][250:], glowing.planes[k][250:])


def test_a_halo_of_another_hue_is_left_alone():
    _, glowing = rims()
    halo = Halo(np.ones(1), 0.008 * 720, (130, 150), 720, 1280)
    changed = halo.apply(glowing, SPACE, 0)
    off = np.abs(changed.planes[2].astype(int) - glowing.planes[2])
    assert off.mean() < 0.05


def test_no_strength_is_no_change():
    _, glowing = rims()
    assert Halo(np.zeros(1), 6.0, (280, 130), 720, 1280).apply(glowing, SPACE, 0) is glowing


def test_reference_frames_are_some_of_all_frames(shed: Path):
    found = scan(shed)
    last = found.probe.frame_count - 1
    every = {p.index: p.planes[0].copy() for p in frames(shed, found, 0, last)}
    some = [(p.index, p.planes[0].copy()) for p in reference_frames(shed, found, 2, last)]
    assert 1 < len(some) < last
    assert [index for index, _ in some] == sorted({index for index, _ in some})
    assert all(np.array_equal(luma, every[index]) for index, luma in some)
    assert min(index for index, _ in some) >= 2
