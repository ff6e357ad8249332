"""What is reshaped by hand, what covers it, and lenses through solve, keeping and rendering."""

from pathlib import Path

import numpy as np
import pytest

from keen_horizon.core import pipeline, stored
from keen_horizon.core.errors import BadSetting
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.distortion import Distortion
from keen_horizon.core.geometry.lens import Lens, scale_to_cover
from keen_horizon.core.geometry.reshape import (
    Reshape,
    Swell,
    edge_stretch,
    edge_stretch_map,
    is_convex,
    mildest_pinch,
    square_up_homographies,
)
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.stage import Smoothness
from keen_horizon.core.geometry.view import View
from keen_horizon.core.media.probe import scan
from keen_horizon.core.path.areas import shares_shown
from keen_horizon.core.path.least_zoom import least_cover, widest_view
from keen_horizon.core.path.zoom import covers, outline, zoom_needed
from keen_horizon.core.pipeline import Solution, solve
from keen_horizon.core.pipeline.render_clip import drawing_of
from keen_horizon.core.pipeline.solve_clip import scene_of
from keen_horizon.core.stations.frame import FRAME
from keen_horizon.core.stations.frame.covering import cover_settings
from keen_horizon.core.stations.frame.reshape import reshape_of_scene
from keen_horizon.core.stations.frame.view import show
from keen_horizon.core.stations.station import Scene
from keen_horizon.core.treatment import Treatment, parse, with_settings
from keen_horizon.simulated.brindle_quay import tender_deck
from keen_horizon.simulated.truth import Measured, measure_take

from ..motions import chain_of, fitted, motion_of

CANVAS = Canvas(1280, 720)
FISHEYE = scale_to_cover(Lens(CANVAS, Distortion("fisheye"), 561.0))


def still(told: Treatment, n: int = 1) -> Scene:
    """A treatment's scene of ``n`` frames in which nothing moves."""
    return scene_of(motion_of(np.zeros(n, complex)), CANVAS, told)


@pytest.fixture(scope="module")
def deck(tmp_path_factory) -> Measured:
    """A second and a half through the fisheye, rows read at once, without the engine."""
    take = tender_deck(1.5, readout=0.0, buzzing=0.0)
    return measure_take(take, tmp_path_factory.mktemp("deck") / "m")


def lens_of_deck(deck: Measured) -> dict[str, object]:
    camera = deck.take.truth.camera
    k = camera.glass.coefficients
    return {"model": "fisheye", "focal": camera.focal / 1280, "k1": k[0], "k2": k[1]}


# --- square up, edge stretch, swell ---------------------------------------------------------------


def test_square_up_makes_a_quad_a_rectangle_of_its_own_area():
    quad = np.array([[-300 - 150j, 280 - 220j, 330 + 210j, -260 + 160j]])
    h = square_up_homographies(quad)[0]
    following = np.roll(quad[0], -1)
    area = 0.5 * abs((quad[0].conj() * following).imag.sum())
    # Backwards: the rectangle's corners come from the quad's.
    back = np.linalg.inv(h) @ np.stack([quad[0].real, quad[0].imag, np.ones(4)])
    corners = back[0] / back[2] + 1j * back[1] / back[2]
    sides = np.roll(corners, -1) - corners
    assert np.allclose((sides[[0, 2]]).imag, 0, atol=1e-6)
    assert np.allclose((sides[[1, 3]]).real, 0, atol=1e-6)
    assert abs(sides[0]) * abs(sides[1]) == pytest.approx(area)
    assert corners.mean() == pytest.approx(quad.mean())


def test_corners_that_cross_are_refused_with_their_order():
    assert is_convex(CANVAS.corners)
    with pytest.raises(BadSetting, match=r"corners of square up cross.*top left, top right"):
        parse({"frame": {"square_up": True, "top_left_x": 100.0, "top_right_x": 0.0}})
    # As long as nothing is squared up, corners may lie as they like.
    assert parse({"frame": {"top_left_x": 100.0, "top_right_x": 0.0}})


def test_corners_that_cross_between_keys_keep_the_last_good_ones():
    def keys(start, end):
        return [{"frame": 0, "value": start}, {"frame": 10, "value": end, "smooth": False}]

    told = parse(
        {
            "frame": {"square_up": True},
            "keys": {"frame.top_left_x": keys(0.0, 130.0), "frame.top_right_x": keys(100.0, -30.0)},
        }
    )
    shape, notes = reshape_of_scene(told.of(FRAME), still(told, 11))
    assert "cross at frame" in notes[0]
    assert np.isfinite(shape.homography).all()


def test_a_pulled_side_leaves_the_middle_and_stretches_the_edge():
    u = np.linspace(-1, 1, 401)
    none, much = np.zeros(1), np.full(1, 0.1)
    back = edge_stretch_map(u, none, much)
    assert np.allclose(back[u <= 0], u[u <= 0])
    assert back[-1] == pytest.approx(0.9)
    assert (np.diff(back) > 0).all()
    local = (u[-1] - u[-2]) / (back[-1] - back[-2])
    assert 100 * (local - 1) == pytest.approx(edge_stretch(0.1), abs=1.5)


@pytest.mark.parametrize("strength", [0.7, 1.6])
def test_a_swell_magnifies_its_middle_and_nothing_beyond_its_rim(strength):
    swell = Swell(np.array([-200 + 50j]), np.array([150.0]), np.array([strength]), 0.8, True)
    shape = Reshape(CANVAS, swell=swell)
    at = -200 + 50j
    z = at + np.linspace(0, 240, 241)[None] + 0j
    back = np.abs(shape.to_source(z)[0] - at)
    assert back[1] == pytest.approx(1 / strength, rel=0.01)
    assert np.allclose(back[151:], np.arange(151, 241))
    assert (np.diff(back) > 0).all()
    # The twin does the same across the centre.
    assert np.allclose(shape.to_source(-z), -shape.to_source(z))


def test_a_pinch_that_would_fold_is_held_and_said():
    told = parse({"frame": {"swell": 0.4, "swell_rim": 30.0}})
    shape, notes = reshape_of_scene(told.of(FRAME), still(told))
    assert "would fold" in notes[0]
    assert shape.swell.strength[0] == pytest.approx(mildest_pinch(0.3))
    plain = Treatment()
    assert reshape_of_scene(plain.of(FRAME), still(plain)) == (None, [])


def test_a_turn_is_clockwise_on_screen():
    told = parse({"frame": {"turn": 90.0}})
    shape, _ = reshape_of_scene(told.of(FRAME), still(told))
    # What is seen below the middle was right of it.
    assert shape.to_source(np.array([[100j]]))[0, 0] == pytest.approx(100)


# --- coverage -------------------------------------------------------------------------------------


def test_the_least_zoom_through_a_lens_is_just_enough():
    steady = Similarities(np.exp(1j * np.array([0.0, 0.02])), np.array([0j, 12 - 5j]))
    chain = chain_of(steady, FISHEYE)
    rim = outline(CANVAS, 1.0, chain)
    need = zoom_needed(chain, rim)
    assert need[0] == pytest.approx(1.0, abs=1e-3)
    assert need[1] > 1.01
    assert covers(chain, rim, need + 1e-4).all()
    assert not covers(chain, rim, need - 2e-3)[1]


def test_shares_through_a_lens():
    chain = chain_of(Similarities.none(1), FISHEYE)
    kept, bare = shares_shown(chain)
    assert bare[0] == 0
    # By counting source pixels that come out: the chain backwards.
    x, y = np.meshgrid(np.arange(0, 1280, 4), np.arange(0, 720, 4))
    z = FISHEYE.undistort(CANVAS.to_scene(np.stack([x, y], -1).reshape(-1, 2).astype(float))[None])
    hu, hv = CANVAS.half
    counted = ((np.abs(z.real) <= hu) & (np.abs(z.imag) <= hv)).mean()
    assert kept[0] == pytest.approx(counted, abs=0.005)
    wider = chain_of(Similarities.none(1), FISHEYE, view=View(CANVAS, 0.7))
    kept, bare = shares_shown(wider)
    assert 0 < bare[0] < 0.4
    assert kept[0] > counted


def test_cover_finds_the_best_place_for_a_picture_off_its_centre():
    off = Similarities(np.ones(3, complex), np.array([40 - 20j, 44 - 18j, 36 - 22j]))
    chain = chain_of(off)
    found = least_cover(chain)
    # In closed form: the three rectangles' common part, 8 px narrower, centred at their mean.
    assert found.zoom == pytest.approx(1 / (1 - 4 / CANVAS.half[0]), rel=0.002)
    assert found.offset_x == pytest.approx(100 * 40 / 1280, abs=0.1)
    settings = [f"frame.{name}={value}" for name, value in cover_settings(found).items()]
    shown = with_settings(Treatment(), ["frame.edge=leave", *settings])
    view = show(shown.of(FRAME), still(shown, 3), chain).view
    assert shares_shown(chain_of(off, view=view))[1].max() < 1e-3


def test_keep_view_shows_all_of_a_straightened_picture():
    chain = chain_of(Similarities.none(1), FISHEYE)
    whole = widest_view(chain)
    assert whole.width > 2500
    assert whole.shrunk == 1.0
    assert whole.frame_bytes == whole.width * whole.height * 3 // 2
    small = widest_view(chain, 1024)
    assert max(small.width, small.height) <= 1024
    assert small.shrunk < 0.5


# --- through the whole pipeline -------------------------------------------------------------------


def test_a_turning_camera_is_measured_exactly_once_its_lens_is_known(deck):
    told = parse({"lens": lens_of_deck(deck), "motion": {"model": "rotation"}})
    motion = fitted(deck.tracks, CANVAS, told)
    truth = deck.take.truth
    ahead = np.array([0, 0, 1.0])
    focal = motion.steps.camera.focal
    off = []
    for t in range(1, len(motion)):
        c = truth.rotation[t] @ truth.rotation[t - 1].T @ ahead
        middle = motion.steps[t : t + 1].apply(np.full((1, 1), motion.steps.camera.centre))[0, 0]
        off.append(middle - motion.steps.camera.centre - focal * (c[0] + 1j * c[1]) / c[2])
    assert np.sqrt(np.mean(np.abs(off) ** 2)) < 0.06
    assert motion.lens is not None
    report = solve(motion, CANVAS, told).report
    assert report["weak_frames"] == 0
    assert report["lens"]["residual"] < report["lens"]["bent_residual"]
    assert report["lens"]["bent"]["diagonal"] == pytest.approx(150.0, abs=0.1)
    assert report["wobble_after"] < 0.3 * report["wobble_before"]


def test_what_is_kept_of_a_solution_draws_the_same(deck, tmp_path):
    told = parse(
        {
            "lens": lens_of_deck(deck) | {"squeeze": 1.2},
            "frame": {"swell": 1.2, "pull_left": 5.0, "turn": 1.0, "zoom_ceiling": 1.6},
            "motion": {"model": "rotation"},
            "shutter": {"readout": 10.0},
        }
    )
    motion = fitted(deck.tracks, CANVAS, told)
    solution = solve(motion, CANVAS, told)
    stored.save(solution, tmp_path / "s.npz")
    again = stored.load(tmp_path / "s.npz", Solution)
    assert again.chain.source.pixel_aspect == pytest.approx(1.2)
    assert np.array_equal(again.chain.lattice(), solution.chain.lattice())
    assert again.motion.lens.distortion == solution.motion.lens.distortion


def test_a_treatment_without_a_lens_is_solved_as_ever(deck):
    plain = with_settings(Treatment(), ["motion.model=similarity"])
    solution = solve(fitted(deck.tracks, CANVAS, plain), CANVAS, plain)
    assert solution.report["lens"] is None
    assert solution.chain.smoothness == Smoothness.AFFINE


def test_a_clip_is_straightened_in_one_go(make_clip, tmp_path):
    path: Path = make_clip("wide.mp4", width=320, height=180, count=12)
    found = scan(path)
    canvas = found.probe.canvas
    lens = {"model": "fisheye", "focal": 0.45, "squeeze": 1.25}
    told = parse({"lens": lens, "motion": {"on": False}})
    measured = pipeline.measure(path, found, 0, 11, tmp_path / "m")
    solution = solve(fitted(measured, canvas, told), canvas, told)
    target = tmp_path / "out.mp4"
    pipeline.render(path, found, drawing_of(solution, told), 0, target)
    after = scan(target)
    assert after.probe.frame_count == 12
    assert after.probe.pixel_aspect == pytest.approx(1.25, abs=0.01)
