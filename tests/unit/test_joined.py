"""Parts of a measure, joined: what moved is told as in one piece, across the seams, too."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import cv2
import numpy as np
import pytest

from keen_horizon.core.motion.pairwise import pairwise_motion
from keen_horizon.core.tracking.features import FeatureTracker, FrameFeatures
from keen_horizon.core.tracking.joined import join_tracks
from keen_horizon.core.tracking.tracks import Tracks, TracksWriter, places_of
from keen_horizon.simulated.truth import Measured

SEAMS = (17, 40, 41, 63)


def kept(folder: Path, frames: list[FrameFeatures], first: int) -> Path:
    with TracksWriter(folder) as writer:
        for one in frames:
            writer.add(one)
        writer.close(np.arange(first, first + len(frames)) / 30, first)
    return folder


def marks(ids: list[int], places: list[tuple[float, float]], told: int) -> FrameFeatures:
    points = np.array(places, np.float32).reshape(-1, 2)
    return FrameFeatures(np.array(ids, np.uint32), points, told, told, told / 10, float(told))


def test_marks_on_the_same_thing_go_on_and_others_begin_or_end(tmp_path: Path):
    one = kept(
        tmp_path / "one",
        [marks([0, 1], [(10, 10), (50, 50)], 1), marks([0, 1, 2], [(11, 10), (51, 50), (5, 5)], 2)],
        100,
    )
    other = kept(
        tmp_path / "other",
        [
            marks([0, 1, 2], [(51.5, 49), (90, 9), (11.2, 10)], 3),
            marks([0, 2], [(53, 50), (13, 10)], 4),
        ],
        101,
    )
    join_tracks([one, other], tmp_path / "both", np.arange(3.0), 100, 1.5)
    both = Tracks.read(tmp_path / "both")
    assert (len(both), both.first, both.times.tolist()) == (3, 100, [0, 1, 2])
    frames = [both.frame(t) for t in range(3)]
    # In the frame of the seam: those that were followed, where they were, and the new one.
    assert frames[1]["id"].tolist() == [0, 1, 2, 4]
    np.testing.assert_allclose(places_of(frames[1])[:3], [(11, 10), (51, 50), (5, 5)])
    # After it they move as the later part says, from where the earlier one had them.
    assert frames[2]["id"].tolist() == [0, 1]
    np.testing.assert_allclose(places_of(frames[2]), [(12.8, 10), (52.5, 51)], atol=1e-5)
    # What else is told of the seam's frame is what the part says that knew the one before.
    assert both.started.tolist() == [1, 2, 4]
    assert both.sharpness.tolist() == [1, 2, 4]


def test_parts_without_any_marks_are_joined(tmp_path: Path):
    plain = [marks([], [], 0), marks([], [], 0)]
    some = [marks([0], [(4, 4)], 1), marks([0], [(5, 4)], 1)]
    parts = [
        kept(tmp_path / name, frames, k)
        for k, (name, frames) in enumerate([("a", plain), ("b", some), ("c", plain)])
    ]
    join_tracks(parts, tmp_path / "all", np.arange(4.0), 0, 1.5)
    assert np.diff(Tracks.read(tmp_path / "all").offsets).tolist() == [0, 1, 1, 0]


@pytest.fixture(scope="module")
def in_parts(walk: Measured, tmp_path_factory: pytest.TempPathFactory) -> Tracks:
    """The walk, followed in parts."""
    room = tmp_path_factory.mktemp("parts")
    lumas = [cv2.cvtColor(frame, cv2.COLOR_BGR2GRAY) for frame in walk.take.frames()]
    bounds = [0, *SEAMS, len(lumas)]
    parts = []
    for start, stop in pairwise(bounds):
        follower = FeatureTracker(walk.canvas.width, walk.canvas.height)
        told = [follower.step(luma) for luma in lumas[start : stop + 1]]
        parts.append(kept(room / str(start), told, start))
    join_tracks(parts, room / "all", walk.tracks.times, 0, follower.near)
    return Tracks.read(room / "all")


def test_no_step_of_the_camera_shows_a_seam(walk: Measured, in_parts: Tracks):
    def off(tracks: Tracks) -> np.ndarray:
        steps = pairwise_motion(tracks, walk.canvas, "similarity").steps
        corner = np.array([complex(*walk.canvas.half)])
        there = steps.apply(np.repeat(corner[None], len(tracks), axis=0))
        true = walk.truth.apply(np.repeat(corner[None], len(tracks), axis=0))
        return np.abs(there - true)[:, 0]

    whole, parts = off(walk.tracks), off(in_parts)
    near = np.unique([seam + k for seam in SEAMS for k in (-1, 0, 1, 2)])
    assert parts[near].max() < 1.2 * whole.max()
    assert np.sqrt((parts**2).mean()) < 1.1 * np.sqrt((whole**2).mean())


def test_marks_are_followed_across_a_seam(walk: Measured, in_parts: Tracks):
    def go_on(tracks: Tracks, seam: int) -> int:
        """How many are seen five frames before and five frames after it."""
        before, after = tracks.frame(seam - 5)["id"], tracks.frame(seam + 5)["id"]
        return len(np.intersect1d(before, after))

    for seam in (17, 63):
        assert go_on(in_parts, seam) > 0.2 * go_on(walk.tracks, seam)
    assert (np.diff(in_parts.frame(40)["id"].astype(int)) > 0).all()
