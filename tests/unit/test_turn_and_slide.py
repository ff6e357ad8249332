"""A camera that turns and travels: both are told apart, and steadied together."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.pinhole import Pinhole
from keen_horizon.core.geometry.rotation import Rotations
from keen_horizon.core.geometry.turn_and_slide import Slides, TurnsAndSlides
from keen_horizon.core.motion.pairwise import pairwise_motion
from keen_horizon.core.motion.refit import refit
from keen_horizon.core.path.steady_path import FOLLOW, Bounds, steady_path
from keen_horizon.core.pipeline import Estimates, motion_for, solve
from keen_horizon.core.pipeline.decide_model import choose_model, judged_at
from keen_horizon.core.tracking.tracks import Tracks
from keen_horizon.core.treatment import Treatment, with_settings
from tests.unit.test_angle_of_view import CANVAS, filmed

N = 60
CAMERA = Pinhole(900.0)


def travelling(turned: float = 0.006, slid: float = 4.0) -> TurnsAndSlides:
    """Steps of a camera that turns by so many radians and slides by so many pixels, rms."""
    random = np.random.default_rng(4)
    turns = Rotation.from_rotvec(turned * random.standard_normal((N, 3))).as_matrix()
    size = slid / 800 * random.standard_normal(N)
    moved = slid * (random.standard_normal(N) + 1j * random.standard_normal(N))
    steps = TurnsAndSlides(Rotations(turns, CAMERA), Slides(np.exp(size) + 0j, moved))
    return steps.still(np.arange(N) < 1)


def seen_by(steps: TurnsAndSlides, exact: float = 0.1) -> Tracks:
    """Tracks of a wall that moves so, each seen in two frames only."""
    random = np.random.default_rng(5)
    x, y = np.meshgrid(np.linspace(-560, 560, 20), np.linspace(-310, 310, 12))
    grid = (x + 1j * y).ravel()
    places = np.full((N, N * grid.size, 2), np.nan)
    for t in range(1, N):
        own = slice(t * grid.size, (t + 1) * grid.size)
        after = steps[t : t + 1].apply(grid[None])[0]
        noise = random.standard_normal((2, grid.size)) + 1j * random.standard_normal((2, grid.size))
        places[t - 1, own] = CANVAS.to_pixels(grid + exact * noise[0])
        places[t, own] = CANVAS.to_pixels(after + exact * noise[1])
    return Tracks.from_places(places, np.arange(N) / 30)


def test_turn_and_slide_are_told_apart_by_what_a_turn_does_to_the_sides():
    true = travelling()
    tracks = seen_by(true)
    motion = pairwise_motion(tracks, CANVAS, "similarity")
    start = TurnsAndSlides.of_turns(Rotations.none(N, CAMERA))
    found, evidence = refit(tracks, CANVAS, motion, start, (8.0, 4.0, 2.0, 1.0))
    slid = found.slides.b[1:] - true.slides.b[1:]
    assert np.sqrt((np.abs(slid) ** 2).mean()) < 0.5 * np.abs(true.slides.b[1:]).mean()
    # What they do together is known better than what each does.
    places = np.array([0j, 400 + 200j, -400 + 200j, 300 - 250j])
    off = found.apply(places[None])[1:] - true.apply(places[None])[1:]
    assert np.sqrt((np.abs(off) ** 2).mean()) < 0.1
    assert np.median(evidence.residual[1:]) < 0.3


def test_a_camera_that_only_turns_is_not_said_to_slide():
    true = travelling(slid=0.0)
    tracks = seen_by(true)
    motion = pairwise_motion(tracks, CANVAS, "similarity")
    start = TurnsAndSlides.of_turns(Rotations.none(N, CAMERA))
    found, _ = refit(tracks, CANVAS, motion, start, (8.0, 4.0, 2.0, 1.0))
    turned = np.abs(found.turns.log()[1:, 1:]).mean()
    assert np.abs(found.slides.b[1:]).mean() < 0.1 * turned


def test_half_of_the_tracks_gives_nearly_the_same_steps():
    true = travelling()
    tracks = seen_by(true)
    motion = pairwise_motion(tracks, CANVAS, "similarity")
    start = TurnsAndSlides.of_turns(Rotations.none(N, CAMERA))
    one, other = (
        refit(tracks, CANVAS, motion, start, (8.0, 4.0, 2.0, 1.0), half)[0] for half in (0, 1)
    )
    places = np.array([0j, 400 + 200j, -400 + 200j])
    off = np.abs(one.apply(places[None]) - other.apply(places[None]))[1:]
    assert 0 < off.mean() < 0.15


@pytest.mark.parametrize("across", [1.0, 0.0])
def test_coordinates_of_one_name_share_the_room_and_the_freedom(across):
    true = travelling(turned=0.004, slid=3.0)
    motion = pairwise_motion(seen_by(true), CANVAS, "similarity")
    moving = replace(motion, model="travel", steps=true)
    steady = steady_path(moving, CANVAS, FOLLOW, Bounds(0.9, {"across": across}))
    corner = np.array([complex(*CANVAS.half) * 0.9])
    reach = np.abs((steady.apply(corner[None]) - corner).real)
    assert reach.max() <= 0.1 * CANVAS.half[0] * 1.1 + 2
    moved = steady.log()
    sideways = np.abs(moved[:, [1, 4]])
    assert (sideways.max() > 1) == (across > 0)
    assert np.abs(moved[:, [2, 5]]).max() > 1


def test_a_walking_clip_is_treated_for_both():
    tracks = filmed(8, turn=1.0, walk=0.03)
    estimates = Estimates(tracks, CANVAS)
    roomy = with_settings(Treatment(), ["motion.calm=80", "frame.zoom_ceiling=1.5"])
    left = choose_model(estimates, judged_at(roomy)).left
    assert left["travel"] < left["rotation"]
    named = with_settings(roomy, ["motion.model=travel", "motion.angle_of_view=60"])
    solution = solve(motion_for(estimates, named), Canvas(1280, 720), named)
    assert solution.chain.find(TurnsAndSlides) is not None
    assert solution.report["shake_after"] < 0.5 * solution.report["shake_before"]


def test_without_an_angle_of_view_the_plain_model_stands_in_and_says_so():
    still = filmed(3, turn=0.0)
    named = with_settings(Treatment(), ["motion.model=travel"])
    motion = motion_for(Estimates(still, CANVAS), named)
    assert motion.model == "similarity"
    assert any("stand in for turn and slide" in note for note in motion.notes)
