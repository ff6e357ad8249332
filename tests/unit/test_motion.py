"""Marks and camera motion, against the simulated camera's truth."""

import cv2
import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.motion.camera_motion import CameraMotion
from keen_horizon.core.motion.pairwise import pairwise_motion
from keen_horizon.core.stored import load, save
from keen_horizon.core.tracking.features import FeatureTracker, picture_change
from keen_horizon.core.tracking.tracks import RECORD, Tracks, TracksWriter
from keen_horizon.simulated.truth import step_errors
from tests.conftest import texture


def test_camera_motion_is_true(walk, loft):
    for measured in (walk, loft):
        shift, roll = step_errors(measured)
        assert shift <= 0.25
        assert roll <= 0.02
        assert measured.motion.evidence.confidence.min() > 0.8


def test_marks_are_well_spread_and_long_lived(walk):
    records = walk.tracks.records
    first = walk.tracks.frame(0)
    # The sky is plain; everything below it should have marks in all quarters.
    below = first[first["y"] > 250]
    counts, *_ = np.histogram2d(below["x"], below["y"], bins=(4, 3), range=((0, 1280), (250, 720)))
    assert (counts > 3).all()
    lives = np.bincount(records["id"])
    assert np.median(lives[lives > 0]) >= 10


def test_a_subject_crossing_in_front_does_not_steer():
    """A third of the marks moving their own way must not pull the fit."""
    rng = np.random.default_rng(2)
    canvas = Canvas(1280, 720)
    before = rng.uniform([0, 0], [1280, 720], (300, 2))
    scene = canvas.to_scene(before)
    a, b = np.exp(0.01j), 6 - 2j
    moved = a * scene + b
    crossing = np.abs(scene.real - 200) < 210
    moved[crossing] += -14 + 1j
    assert 0.25 < crossing.mean() < 0.45
    after = canvas.to_pixels(moved) + 0.1 * rng.standard_normal((300, 2))
    motion = pairwise_motion(measure_of([before, after]), canvas, "similarity")
    assert abs(motion.steps.b[1] - b) < 0.1
    assert abs(motion.steps.a[1] - a) < 2e-4
    steering = motion.evidence.steering[300:]
    assert steering[~crossing].mean() > 0.95
    assert not steering[crossing].any()


def test_many_marks_in_a_small_place_do_not_outvote_the_rest():
    """Three marks of four are on a subject that fills a third of the picture."""
    rng = np.random.default_rng(7)
    canvas = Canvas(1280, 720)
    behind = rng.uniform([0, 0], [1280, 720], (130, 2))
    behind = behind[np.abs(behind[:, 0] - 640) > 220]
    subject = rng.uniform([420, 0], [860, 720], (3 * len(behind), 2))
    before = np.concatenate([behind, subject])
    moved = np.exp(-0.006j) * canvas.to_scene(before) + 3 + 1j
    moved[len(behind) :] += 9 - 2j
    after = canvas.to_pixels(moved) + 0.1 * rng.standard_normal(before.shape)
    motion = pairwise_motion(measure_of([before, after]), canvas, "similarity")
    assert abs(motion.steps.b[1] - (3 + 1j)) < 0.2
    assert motion.evidence.confidence[1] > 0.9
    assert motion.evidence.steering[len(before) :][len(behind) :].mean() < 0.05


def test_a_mark_that_moved_with_the_subject_before_is_not_trusted_later():
    """In three frames most of the background is out of sight. The subject's marks, which moved
    their own way until then, must not take over."""
    rng = np.random.default_rng(8)
    canvas = Canvas(1280, 720)
    behind = rng.uniform([0, 0], [1280, 720], (200, 2))
    subject = rng.uniform([300, 0], [900, 720], (150, 2))
    swing = 12 * np.sin(np.arange(30))[:, None, None] * np.array([1.0, 0.4])
    everything = np.concatenate([behind + 0 * swing, subject + swing], axis=1)
    ids = [np.arange(350) if not 14 <= t < 17 else np.arange(150, 350) for t in range(30)]
    motion = pairwise_motion(
        measure_of([marks[seen] for marks, seen in zip(everything, ids, strict=True)], ids=ids),
        canvas, "similarity",
    )  # fmt: skip
    assert np.abs(motion.steps.b).max() < 0.5


def measure_of(frames: list[np.ndarray], ids: list[np.ndarray] | None = None) -> Tracks:
    """A measure of marks; without ``ids``, of marks that are all seen in every frame."""
    records = np.empty(sum(len(f) for f in frames), RECORD)
    at = 0
    for t, points in enumerate(frames):
        part = records[at : at + len(points)]
        part["id"] = np.arange(len(points)) if ids is None else ids[t]
        part["x"], part["y"] = points[:, 0], points[:, 1]
        at += len(points)
    n = len(frames)
    counts = np.array([len(f) for f in frames])
    return Tracks(
        records=records,
        offsets=np.concatenate([[0], np.cumsum(counts)]),
        started=counts,
        followed=counts,
        change=np.zeros(n),
        sharpness=np.ones(n),
        times=np.arange(n) / 30,
        first=0,
    )


def test_shift_model_is_the_mean_move_and_turns_nothing():
    rng = np.random.default_rng(4)
    canvas = Canvas(640, 360)
    points = rng.uniform([0, 0], [640, 360], (100, 2))
    motion = pairwise_motion(measure_of([points, points + [3.25, -1.5]]), canvas, "shift")
    assert motion.steps.a[1] == 1
    assert abs(motion.steps.b[1] - (3.25 - 1.5j)) < 1e-4


def test_roll_is_a_roll_with_pixels_that_are_not_square():
    rng = np.random.default_rng(5)
    canvas = Canvas(720, 576, 1.4587)
    points = rng.uniform([0, 0], [720, 576], (200, 2))
    turned = canvas.to_pixels(np.exp(0.05j) * canvas.to_scene(points))
    motion = pairwise_motion(measure_of([points, turned]), canvas, "similarity")
    assert abs(np.angle(motion.steps.a[1]) - 0.05) < 1e-6
    assert abs(abs(motion.steps.a[1]) - 1) < 1e-6


def follow(pictures: list[np.ndarray], folder) -> Tracks:
    height, width = pictures[0].shape
    follower = FeatureTracker(width, height)
    with TracksWriter(folder) as writer:
        for picture in pictures:
            writer.add(follower.step(picture))
        writer.close(np.arange(len(pictures)) / 30, 0)
    return Tracks.read(folder)


def grey(seed: int) -> np.ndarray:
    return cv2.cvtColor(texture(480, 360, seed), cv2.COLOR_BGR2GRAY)


def shifted(picture: np.ndarray, x: float, y: float) -> np.ndarray:
    m = np.array([[1, 0, x], [0, 1, y]], float)
    return cv2.warpAffine(picture, m, (320, 240), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP)


def test_a_hard_cut_is_found_and_splits_the_motion(tmp_path):
    one, two = grey(1), grey(2)
    pictures = [shifted(one, 60 + i, 60) for i in range(8)]
    pictures += [shifted(two, 60, 60 + i) for i in range(8)]
    motion = pairwise_motion(follow(pictures, tmp_path / "m"), Canvas(320, 240), "similarity")
    assert motion.timeline.cuts.tolist() == [8]
    assert motion.segments == [(0, 8), (8, 16)]
    assert motion.steps.a[8] == 1
    assert motion.steps.b[8] == 0
    assert abs(motion.steps.b[4] - -1) < 0.05


@pytest.mark.parametrize("size", [(720, 540), (960, 540), (1920, 960), (33, 19), (16, 16)])
def test_thumbnails_tell_a_cut_whatever_the_picture_s_shape(size):
    one, two = (cv2.resize(grey(seed), size, interpolation=cv2.INTER_AREA) for seed in (1, 2))
    change, thumb = picture_change(one, None)
    assert change == 0.0
    again, _ = picture_change(np.roll(one, size[0] // 320, axis=1), thumb)
    cut, other = picture_change(two, thumb)
    assert thumb.shape == other.shape == (18, 32)
    assert 2 * again < cut
    assert picture_change(two, other)[0] == 0.0


def test_a_whip_pan_is_no_cut(tmp_path):
    wide = cv2.cvtColor(texture(2400, 360, 3), cv2.COLOR_BGR2GRAY)
    places = np.concatenate([np.arange(6) * 2.0, 12 + np.arange(1, 7) * 150.0, 912 + np.arange(6)])
    pictures = []
    for x in places:
        still = shifted(wide, x, 40)
        pictures.append(cv2.blur(still, (61, 1)) if 12 < x < 912 else still)
    motion = pairwise_motion(follow(pictures, tmp_path / "m"), Canvas(320, 240), "similarity")
    assert not len(motion.timeline.cuts)
    # Where it is believed, it went as far as the camera did.
    sure = motion.evidence.confidence > 0.5
    assert sure.sum() > 12
    assert np.abs(motion.steps.b[1:] + np.diff(places))[sure[1:]].max() < 6


def test_black_frames_have_no_marks_and_no_confidence(tmp_path):
    rng = np.random.default_rng(6)
    dark = [(16 + rng.normal(0, 1.2, (240, 320))).astype(np.uint8) for _ in range(6)]
    motion = pairwise_motion(follow(dark, tmp_path / "m"), Canvas(320, 240), "similarity")
    assert motion.evidence.confidence[1:].max() < 0.3
    assert np.abs(motion.trusted.b).max() < 0.5


def test_motion_survives_being_kept(walk, tmp_path):
    save(walk.motion, tmp_path / "m.npz")
    again = load(tmp_path / "m.npz", CameraMotion)
    assert (again.steps.a == walk.motion.steps.a).all()
    assert (again.evidence.steering == walk.motion.evidence.steering).all()
    assert again.segments == walk.motion.segments


def test_ten_bit_luma_gives_the_same_marks():
    picture = shifted(grey(1), 60, 60)
    eight, ten = FeatureTracker(320, 240), FeatureTracker(320, 240)
    a = eight.step(picture)
    b = ten.step(picture.astype(np.uint16) * 4)
    assert (a.points == b.points).all()
    assert len(a.points) > 60
