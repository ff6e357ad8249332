"""Dead corners: found by what a place was ever seen with, and kept out of what is shown."""

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
from keen_horizon.core.geometry.distortion import Distortion
from keen_horizon.core.geometry.lens import Lens
from keen_horizon.core.geometry.live_area import LiveArea
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.core.media.decode import Picture, frames
from keen_horizon.core.media.probe import scan
from keen_horizon.core.path.areas import shares_shown
from keen_horizon.core.path.rectangle import trimmed_view
from keen_horizon.core.path.zoom import covers, outline, room_left, zoom_needed
from keen_horizon.core.picture.warp import sampler_of, warp_mask
from keen_horizon.core.picture.working_space import working_space
from keen_horizon.core.pipeline import solve
from keen_horizon.core.stations.frame import FRAME
from keen_horizon.core.stations.glass import GLASS
from keen_horizon.core.stations.glass.dead_corners import (
    DeadCorners,
    LightSeen,
    dead_shares,
    fit_dead_corners,
)
from keen_horizon.core.stations.motion import MOTION
from keen_horizon.core.treatment import Treatment, parse
from keen_horizon.simulated.brindle_quay import loft_doorway, quay_walk
from keen_horizon.simulated.record import record
from keen_horizon.simulated.shade import Shade
from tests.motions import CANVAS, chain_of, shaky

# The upper left corner is cut off, to a quarter of the width and a third of the height.
CUT = ((0.25, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0), (0.0, 0.33))
AREA = LiveArea.within(CANVAS, np.array(CUT))


# --- the area -------------------------------------------------------------------------------------


def test_an_area_knows_its_share_and_its_sides():
    assert AREA.share == pytest.approx(1 - 0.25 * 0.33 / 2, abs=0.001)
    assert len(AREA.sides) == 1
    a, b, c = AREA.sides[0]
    assert a * 0.05 + b * 0.05 > c > a * 0.3 + b * 0.3
    assert (AREA.mask(1280, 720) == 0).mean() == pytest.approx(1 - AREA.share, abs=0.001)
    assert LiveArea.within(CANVAS, AREA.outline).share == pytest.approx(AREA.share, abs=1e-4)


def test_what_an_area_says_of_points_is_what_its_picture_shows():
    y, x = np.mgrid[0:720:40, 0:1280:40]
    inside = AREA.covers(CANVAS.to_scene(np.stack([x, y], -1).astype(float)))
    assert (inside == (AREA.mask(1280, 720)[y, x] > 0)).mean() > 0.99


def test_points_outside_are_pulled_to_the_edge():
    corner = AREA.pulled_in(np.array([CANVAS.corners[0], 40 + 3j]))
    assert AREA.room(corner)[0] == pytest.approx(0, abs=0.5)
    assert corner[1] == 40 + 3j


@pytest.mark.parametrize("outline", [[[0, 0], [1, 1]], [[0, 0], [0.5, 0.5], [1, 1]]])
def test_no_area_is_refused(outline: list[list[float]]):
    with pytest.raises(ValueError, match="not on a line"):
        LiveArea.within(CANVAS, np.array(outline))


# --- what the path and the frame make of it -------------------------------------------------------


def cut_chain(shift: complex = 0j, view: View | None = None):
    moved = Similarities(np.ones(2, complex), np.array([0, shift]))
    return replace(chain_of(moved, view=view), live=AREA)


def test_zoom_hides_a_corner_that_is_cut_off():
    chain = cut_chain(10 + 8j)
    rim = outline(CANVAS, 1.0, chain)
    need = zoom_needed(chain, rim)
    assert need[0] == pytest.approx(AREA.zoom(CANVAS.corners))
    assert 1.1 < need[0] < 1.4
    assert need[1] < need[0]  # the picture has moved away from the corner
    assert room_left(chain, rim, need) == pytest.approx(0, abs=1e-6)
    assert not covers(chain, rim, need * 0.999).any()


def test_through_a_lens_a_corner_is_hidden_all_the_same():
    lens = Lens(CANVAS, Distortion("brown", (-0.2, 0.05, 0.0, 0.0)), 900.0, scale=0.8)
    chain = replace(chain_of(Similarities.none(2), lens), live=AREA)
    rim = outline(CANVAS, 1.0, chain)
    need = zoom_needed(chain, rim)
    assert need.min() > zoom_needed(replace(chain, live=None), rim).max()
    assert covers(chain, rim, need).all()
    assert not covers(chain, rim, need * 0.99).any()
    kept, bare = shares_shown(chain)
    assert bare[0] > shares_shown(replace(chain, live=None))[1][0] + 0.005
    assert kept[0] < shares_shown(replace(chain, live=None))[0][0]


def test_shares_count_what_is_cut_off_as_bare():
    kept, bare = shares_shown(cut_chain())
    assert kept == pytest.approx(AREA.share, abs=1e-4)
    assert bare == pytest.approx(1 - AREA.share, abs=1e-3)


def test_trimming_leaves_a_corner_out():
    chain = cut_chain(4 - 3j)
    view = trimmed_view(chain, None)
    shown = replace(chain, view=view)
    rim = outline(view.output, view.scale, shown)
    assert covers(shown, rim, view.zooms(2) * 1.002, view.offsets(2)).all()
    assert view.output.width * view.output.height > 0.7 * 1280 * 720


def test_a_neighbour_does_not_lend_what_it_never_saw():
    luma, chroma = np.full((720, 1280), 90, np.uint8), np.full((360, 640), 128, np.uint8)
    picture = Picture(0, 0, (luma, chroma, chroma), (2, 2), (0.0, 0.5), "yuv420p")
    mask = warp_mask(picture, sampler_of(cut_chain()[:1]), 1280, 720)
    assert (mask == 0).mean() == pytest.approx(1 - AREA.share, abs=0.003)


def dead(**frame: object) -> Treatment:
    treatment = Treatment().changed(GLASS, live=CUT).changed(MOTION, calm=40.0)
    return treatment.changed(FRAME, **frame)


@pytest.mark.parametrize("edge", ["fill", "trim"])
def test_a_steadied_clip_shows_nothing_of_a_dead_corner(edge: str):
    solution = solve(shaky(), CANVAS, dead(edge=edge, zoom_ceiling=1.6))
    assert solution.room.min() > -1.0
    assert solution.report["shake_after"] < 0.4 * solution.report["shake_before"]
    whole = solve(shaky(), CANVAS, dead(edge=edge, zoom_ceiling=1.6).changed(GLASS, live=()))
    assert solution.report["picture_kept"] < whole.report["picture_kept"]


def test_where_edges_stay_bare_a_dead_corner_is_counted_and_costs_no_calm():
    solution = solve(shaky(), CANVAS, dead(edge="leave"))
    whole = solve(shaky(), CANVAS, dead(edge="leave").changed(GLASS, live=()))
    assert solution.report["bare_edges"] > whole.report["bare_edges"] + 2
    assert solution.report["shake_after"] == whole.report["shake_after"]


def test_neighbours_that_see_what_lies_behind_a_dead_corner_lend_it():
    borrowed = solve(shaky(pan=20.0), CANVAS, dead(edge="borrow", borrow_reach=40))
    filled = solve(shaky(pan=20.0), CANVAS, dead(edge="fill"))
    assert borrowed.report["zoom"] <= filled.report["zoom"]


def test_a_dead_corner_beyond_the_ceiling_is_told():
    told = solve(shaky(), CANVAS, dead(zoom_ceiling=1.05)).told(dead(zoom_ceiling=1.05))
    assert any("Hiding the dead corners takes zoom" in said for said in told["notes"])
    assert told["dead"]["share"] == pytest.approx(0.041, abs=0.002)


@pytest.mark.parametrize(
    ("live", "reason"),
    [
        ([[0, 0], [0.2, 0.2], [1, 1]], "no area"),
        ([[0, 0], [0.3, 0], [0.3, 0.3], [0, 0.3]], "middle"),
    ],
)
def test_a_treatment_with_an_area_that_is_none_is_refused(live: list[list[float]], reason: str):
    with pytest.raises(BadSetting, match=reason):
        parse({"glass": {"live": live}})


# --- finding them ---------------------------------------------------------------------------------


def looked(pictures: list[np.ndarray]) -> LightSeen:
    seen = LightSeen(working_space({}, 8, 720))
    for picture in pictures:
        grey = cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY).astype(float)
        seen.look(np.rint(16 + grey * 219 / 255).astype(np.uint8))
    return seen


def overlap(found: DeadCorners, true: np.ndarray) -> float:
    assert found.live is not None, found.words
    mask = found.live.mask(1280, 720) == 0
    return float((mask & true).sum() / (mask | true).sum())


@pytest.mark.parametrize(
    ("middle", "ring", "soft"),
    [((0.03, -0.02), 0.9, 0.03), ((0.03, -0.02), 0.84, 0.03), ((-0.09, 0.04), 0.86, 0.07)],
)
def test_a_ring_is_found_where_it_is(middle: tuple[float, float], ring: float, soft: float):
    shade = Shade(1280, 720, 0.0, middle, ring, soft)
    walk = replace(quay_walk(2.0), shade=shade)
    found = fit_dead_corners(looked([walk.frame(k) for k in range(0, 60, 6)]), CANVAS, 2.0)
    assert overlap(found, shade.passed < 0.25) > 0.9
    assert "dead corners" in found.words


def test_corners_cut_off_straight_are_not_taken_for_a_ring():
    mask = np.full((720, 1280), 255, np.uint8)
    for x, y in ((0, 0), (1279, 0), (0, 719), (1279, 719)):
        inward = 1 if x == 0 else -1, 1 if y == 0 else -1
        corner = [[x, y], [x + inward[0] * 330, y], [x, y + inward[1] * 150]]
        cv2.fillPoly(mask, [np.array(corner)], 0)
    passed = cv2.GaussianBlur(mask, (0, 0), 6)[..., None] / 255
    walk = quay_walk(2.0)
    pictures = [np.uint8(walk.frame(k) * passed**0.45) for k in range(0, 60, 6)]
    found = fit_dead_corners(looked(pictures), CANVAS, 2.0)
    assert overlap(found, passed[..., 0] < 0.25) > 0.9


def test_a_hood_on_one_side_is_found_there_alone():
    mask = np.full((720, 1280), 255, np.uint8)
    cv2.fillPoly(mask, [np.array([[-40, -40], [280, -40], [-40, 240]])], 0)
    passed = cv2.GaussianBlur(mask, (0, 0), 6)[..., None] / 255
    walk = quay_walk(2.0)
    pictures = [np.uint8(walk.frame(k) * passed**0.45) for k in range(0, 60, 6)]
    found = fit_dead_corners(looked(pictures), CANVAS, 2.0)
    assert overlap(found, passed[..., 0] < 0.25) > 0.85
    shares = np.array(dead_shares(found.live, CANVAS, 17, 11))
    assert shares[0, 0] > 0.9
    assert shares[-1].max() == shares[:, -1].max() == 0


def test_the_dark_frame_of_a_door_is_no_dead_corner():
    loft = replace(loft_doorway(2.0), shade=None)
    found = fit_dead_corners(looked([loft.frame(k) for k in range(0, 60, 6)]), CANVAS, 2.0)
    assert found.live is None


@pytest.mark.parametrize(
    ("level", "radius", "words"),
    [(2, None, "too dark"), (150, None, "Every corner"), (150, 0.45, "more than corners")],
)
def test_what_is_no_matter_of_corners_is_said(level: int, radius: float | None, words: str):
    picture = np.full((720, 1280, 3), level, np.uint8)
    if radius is not None:
        picture = Shade(1280, 720, 0.0, ring=radius, soft=0.02).darken(picture)
    found = fit_dead_corners(looked([picture]), CANVAS, 2.0)
    assert found.live is None
    assert words in found.words


def test_a_clip_that_does_not_move_is_told_with_its_doubt():
    picture = Shade(1280, 720, 0.0, ring=0.9).darken(np.full((720, 1280, 3), 150, np.uint8))
    found = fit_dead_corners(looked([picture]), CANVAS, 2.0)
    assert found.live is not None
    assert "hardly moves" in found.words


def test_an_export_of_a_clip_with_a_ring_has_no_black_corners(tmp_path: Path):
    shade = Shade(1280, 720, 0.3, (0.02, -0.01), 0.88, 0.03)
    source, out, told = tmp_path / "ring.mp4", tmp_path / "out.mp4", tmp_path / "told.json"
    record(replace(quay_walk(1.0), shade=shade), source, sound=False)
    order = ["correct", str(source), str(out), "--report", str(told), "--quality", "fine"]
    assert main([*order, "--set", "glass.find=true"]) == 0
    report = json.loads(told.read_text())
    assert report["dead"]["share"] == pytest.approx((shade.passed < 0.25).mean(), rel=0.2)
    darkest = {}
    corners = [np.s_[:12, :12], np.s_[:12, -12:], np.s_[-12:, :12], np.s_[-12:, -12:]]
    for name, path in (("before", source), ("after", out)):
        lumas = [p.planes[0] for p in frames(path, scan(path), 0, 29)]
        brightest = np.max([cv2.blur(luma, (9, 9)) for luma in lumas], axis=0)
        darkest[name] = min(float(brightest[at].mean()) for at in corners)
    assert darkest["before"] < 24
    assert darkest["after"] > 40


def test_no_canvas_is_too_small():
    assert LiveArea.whole(Canvas(16, 16)).share == 1.0
