"""The bed of truth is only as good as its own judge: held against what is known exactly."""

import cv2
import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.motion.background_flow import background_flow
from keen_horizon.core.motion.pairwise import pairwise_motion
from keen_horizon.core.motion.readout import estimate_readout
from keen_horizon.core.tracking.tracks import Tracks
from tools.truth.judge import grid, registered
from tools.truth.moves import poses
from tools.truth.scene import Camera, Face, Scene

SIZE = (640, 360)
EVERY, LIFE = 12, 24  # frames between marks that are found, and that one lives


def texture(seed: int = 1) -> np.ndarray:
    random = np.random.default_rng(seed)
    fine, broad = (
        cv2.GaussianBlur(random.standard_normal((420, 720)).astype(np.float32), (0, 0), s)
        for s in (1.6, 9)
    )
    return np.clip(128 + 45 * fine / fine.std() + 25 * broad / broad.std(), 0, 255).astype(np.uint8)


def scene(readout: float = 0.0, k1: float = 0.0) -> Scene:
    wall = np.repeat(texture()[..., None], 3, axis=2)
    face = Face(wall, np.array([-4.0, -3, 4]), np.array([8.0, 0, 0.6]), np.array([0.0, 6, 0]))
    return Scene(Camera(*SIZE, 60, k1, readout), (face,), poses(30, 3, sway=0.02), 30, noise=0)


def test_a_known_correction_is_read_from_the_pixels():
    source = texture()[:360, :640]
    h = np.array([[0.93, 0.02, 21.0], [-0.02, 0.93, 14.0], [1.5e-5, -1e-5, 1.0]])
    output = cv2.warpPerspective(source, h, SIZE, flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP)
    found = registered(output, source, None)
    at = grid(SIZE)
    true = np.concatenate([at, np.ones((25, 1))], axis=1) @ h.T
    true = true[:, :2] / true[:, 2:]
    assert np.abs(found.to_source(at) - true).max() < 0.1
    assert np.abs(found.to_output(true, at) - at).max() < 0.1


@pytest.mark.parametrize(("readout", "k1"), [(0.0, 0.0), (0.66, 0.0), (0.3, -0.1)])
def test_a_point_is_recorded_where_it_is_looked_up(readout, k1):
    made = scene(readout, k1)
    at = grid(SIZE)
    for frame in (4, 17):
        points = made.behind(at, frame)
        assert np.isfinite(points).all()
        assert np.abs(made.recorded(points, frame) - at).max() < 1e-3


def test_pictures_show_what_the_geometry_says():
    """A point of the wall looks the same in two frames, wherever they have it."""
    made = scene(0.5)
    first, *_, last = made.pictures()
    at = grid(SIZE)
    there = made.recorded(made.behind(at, 0), 29)
    inside = ((there > 8) & (there < np.array(SIZE) - 8)).all(axis=1)
    assert inside.sum() > 8

    def shown(picture: np.ndarray, places: np.ndarray) -> np.ndarray:
        x, y = places.astype(np.float32).T
        return cv2.remap(picture[..., 0], x, y, cv2.INTER_LINEAR).ravel().astype(float)

    apart = np.abs(shown(first, at[inside]) - shown(last, there[inside]))
    assert np.median(apart) < 8


def tracks_of(made: Scene, seed: int) -> Tracks:
    """What a tracker would see of a scene: marks found every so often, sure to 0.08 px."""
    random = np.random.default_rng(seed)
    n, (width, height) = made.frames, SIZE
    x, y = np.meshgrid(np.linspace(15, width - 15, 14), np.linspace(15, height - 15, 10))
    at = np.stack([x.ravel(), y.ravel()], axis=-1)
    births = range(0, n, EVERY)
    places = np.full((n, len(births) * len(at), 2), np.nan)
    for k, start in enumerate(births):
        points = made.behind(at + random.uniform(-9, 9, at.shape), start)
        alive = np.isfinite(points[:, 0])
        for t in range(start, min(n, start + LIFE)):
            seen = made.recorded(np.nan_to_num(points), t)
            alive &= ((seen > 4) & (seen < np.array(SIZE) - 5)).all(axis=1)
            seen = seen + 0.08 * random.standard_normal(seen.shape)
            places[t, k * len(at) : (k + 1) * len(at)][alive] = seen[alive]
    return Tracks.from_places(places, np.arange(n) / 30)


@pytest.mark.parametrize("ms", [0.0, 10.0, 22.0])
@pytest.mark.parametrize("sway", [0.0, 0.02])
def test_the_readout_of_a_turning_camera_lies_within_what_it_is_sure_to(ms, sway):
    """Rows drawn at their own poses: to the side a turn moves the picture more."""
    wall = scene().faces[0]
    path = poses(120, 5, turn=1.0, sway=sway, pan=3)
    made = Scene(Camera(*SIZE, 70, 0.0, ms * 30 / 1000), (wall,), path, 120)
    tracks, canvas = tracks_of(made, 8), Canvas(*SIZE)
    motion = pairwise_motion(tracks, canvas, "similarity")
    found = estimate_readout(tracks, motion, background_flow(tracks, canvas, motion))
    assert abs(found.ms - ms) <= found.sure
    assert found.sure < 2
    assert abs(found.ms - ms) <= 0.05 * ms
