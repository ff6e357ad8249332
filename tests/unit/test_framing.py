"""What of the steadied picture is shown, and what a lock-off costs."""

import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.motion.camera_motion import CameraMotion
from keen_horizon.core.path.framing import drifting
from keen_horizon.core.path.tripod import tripod_cost
from keen_horizon.core.pipeline import solve
from keen_horizon.core.stations.frame.settings import FrameSettings
from keen_horizon.core.stations.frame.view import framing
from keen_horizon.core.treatment import Treatment, parse, with_settings

from ..motions import motion_of, steady_of

CANVAS = Canvas(1280, 720)
N = 150


def moved(shift: np.ndarray) -> CameraMotion:
    """A camera whose picture is shifted by ``shift`` ``(n,)``, complex px, against frame 0."""
    return motion_of(shift)


@pytest.fixture(scope="module")
def shaking() -> CameraMotion:
    t = np.arange(N) / 30
    return moved(9 * np.sin(11 * t) + 12j * np.sin(14 * t))


def solved(motion: CameraMotion, *settings: str):
    return solve(motion, CANVAS, with_settings(Treatment(), list(settings)))


def test_a_lock_off_that_a_travelling_camera_cannot_keep_says_what_it_costs():
    panning = moved(np.linspace(0, 900, N) + 0j)
    found = solved(panning, "motion.aim=lock_off")
    report = found.report
    assert report["locking"]["zoom"] > 1.25
    assert report["locking"]["picture_kept"] < 50
    assert any("Follow suits this clip" in note for note in found.notes)
    cost = tripod_cost(panning, CANVAS, None)
    # Least from the middle of the way: both ends are then equally far.
    assert cost.frame == pytest.approx(N / 2, abs=8)
    assert tripod_cost(panning, CANVAS, 0).zoom > cost.zoom


def test_the_cheapest_view_is_that_of_every_single_candidate(shaking):
    """All candidates are tried at once; asked for one by one, none costs less."""
    cost = tripod_cost(shaking, CANVAS, None)
    alone = [tripod_cost(shaking, CANVAS, frame) for frame in range(0, N, 5)]
    assert [one.frame for one in alone] == list(range(0, N, 5))
    assert cost.zoom == pytest.approx(tripod_cost(shaking, CANVAS, cost.frame).zoom, abs=1e-12)
    assert cost.zoom <= min(one.zoom for one in alone) + 0.01
    # By hand: corners of the view of frame 20, in every other frame.
    pose = np.cumsum(shaking.steps.b)
    off = np.abs(np.stack([(pose - pose[20]).real, (pose - pose[20]).imag]).max(axis=1))
    low = np.abs(np.stack([(pose - pose[20]).real, (pose - pose[20]).imag]).min(axis=1))
    half = np.array(CANVAS.half)
    assert alone[4].zoom == pytest.approx(float((half / (half - np.maximum(off, low))).max()))


def test_the_costliest_stretch_between_cuts_counts():
    shift = np.concatenate([np.linspace(0, 300, 50), np.linspace(0, 30, 50)]) + 0j
    both = motion_of(shift, cuts=np.array([50]))
    first = motion_of(shift[:50])
    assert tripod_cost(both, CANVAS, None).zoom == tripod_cost(first, CANVAS, None).zoom


def test_a_chosen_frame_gives_the_view_of_a_lock_off(shaking):
    for frame in (20, 90):
        view = f"motion.lock_frame={frame}"
        found = solved(shaking, "motion.aim=lock_off", view, "motion.calm=90")
        steady = steady_of(found.chain)
        assert found.report["locking"]["frame"] == frame
        assert abs(steady.b[frame]) < 1.0
        assert found.report["shake_after"] < 0.2


def test_slack_lets_a_locked_picture_drift(shaking):
    t = np.arange(N) / 30
    creeping = moved(8 * t + 3 * np.sin(12 * t) + 0j)
    tight = solved(creeping, "motion.aim=lock_off", "motion.calm=60")
    loose = solved(creeping, "motion.aim=lock_off", "motion.calm=60", "motion.slack=100")
    assert loose.report["picture_kept"] >= tight.report["picture_kept"] - 0.01
    assert loose.report["shake_after"] < 0.3


@pytest.mark.parametrize(("shape", "ratio"), [("source", 16 / 9), ("1:1", 1.0), ("9:16", 9 / 16)])
def test_trim_leaves_the_shape_that_is_asked_for(shaking, shape, ratio):
    report = solved(shaking, "frame.edge=trim", f"frame.trim_shape={shape}").report
    output = report["output"]
    assert output["width"] / output["height"] == pytest.approx(ratio, rel=0.01)
    assert report["zoom"] == 1.0


def test_a_free_trim_leaves_at_least_as_much(shaking):
    area = {}
    for shape in ("source", "free", "4:3"):
        output = solved(shaking, "frame.edge=trim", f"frame.trim_shape={shape}").report["output"]
        area[shape] = output["width"] * output["height"]
    assert area["free"] >= 0.995 * max(area.values())


@pytest.mark.parametrize(
    ("frame", "size"),
    [
        ({}, (1280, 720)),
        ({"width": 640}, (640, 360)),
        ({"height": 1080}, (1920, 1080)),
        ({"width": 1080, "height": 1920}, (1080, 1920)),
        ({"width": 101, "height": 55}, (100, 54)),
    ],
)
def test_an_output_of_any_size(frame, size):
    found = framing(FrameSettings(**frame), CANVAS)
    assert (found.output.width, found.output.height) == size


def test_wide_pixels_are_made_square_in_another_size():
    wide = Canvas(720, 576, 64 / 45)
    found = framing(FrameSettings(height=576), wide)
    assert found.output.width == pytest.approx(720 * 64 / 45, abs=2)
    assert found.output.pixel_aspect == 1.0
    kept = framing(FrameSettings(), wide)
    assert kept.output.pixel_aspect == wide.pixel_aspect


def test_a_drifting_zoom_stays_above_what_is_needed_and_below_its_speed():
    times = np.arange(300) / 30
    needed = 1 + 0.2 * np.exp(-(((times - 5) / 0.1) ** 2))
    zoom = drifting(needed, times, 0.04)
    assert (zoom >= needed - 1e-9).all()
    assert np.abs(np.diff(np.log(zoom))).max() * 30 <= np.log(1.04) + 1e-9
    assert zoom.mean() < needed.max() - 0.05


def test_the_position_gives_way_to_the_ceiling(shaking):
    shown = solved(shaking, "frame.offset_x=2").report
    assert shown["zoom"] > solved(shaking).report["zoom"]
    far = solved(shaking, "frame.offset_x=40")
    assert far.report["zoom"] <= 1.25 + 1e-6
    assert any("position offset fits" in note for note in far.notes)


def test_high_prices_name_the_frame_and_the_setting(shaking):
    treatment = parse({"frame": {"extra_zoom": 1.6, "zoom_ceiling": 4}})
    report = solve(shaking, CANVAS, treatment).told(treatment)
    kept, soft = report["warnings"]["frame"]
    assert f"Frame {report['tightest_frame']}" in kept
    assert "less extra zoom helps most" in kept
    assert "source pixels at frame" in soft
