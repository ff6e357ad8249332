"""What may not steer: groups, lassos, and the subject that alone steers."""

import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.motion.pairwise import pairwise_motion
from keen_horizon.core.quality.scores import places_over, without_similarity
from keen_horizon.core.tracking.exclusion import inside
from keen_horizon.core.tracking.groups import group_at, groups_of, pull
from keen_horizon.core.tracking.tracks import RECORD, Tracks
from keen_horizon.core.treatment import Treatment, digest, parse
from tests.motions import fitted

N = 60
CANVAS = Canvas(960, 540)


def footage(subject: int = 70, speed: float = 3.0) -> Tracks:
    """Marks of a still background under a shaking camera, and of a subject that crosses it.

    Marks 0 to 199 are the background's; the subject's come from 1000 on, each a life of 25 frames.
    """
    rng = np.random.default_rng(2)
    back = rng.uniform([20, 20], [940, 520], (200, 2))
    body = rng.uniform([-70, -120], [70, 120], (subject, 2))
    born = rng.integers(0, N, subject)
    rows, counts = [], []
    for t in range(N):
        sway = np.array([6 * np.sin(t / 3), 4 * np.cos(t / 4)])
        now = np.empty(200 + subject, RECORD)
        now["id"][:200] = np.arange(200)
        now["id"][200:] = 1000 + np.arange(subject) + subject * ((t + born) // 25)
        at = np.concatenate([back, body + [200 + speed * t, 270]]) + sway
        at += 0.05 * rng.standard_normal(at.shape)
        now["x"], now["y"] = at.T
        seen = (at > 0).all(1) & (at < [960, 540]).all(1)
        rows.append(np.sort(now[seen], order="id"))  # as a measure has them
        counts.append(int(seen.sum()))
    flat = np.full(N, 200)
    return Tracks(
        np.concatenate(rows), np.concatenate([[0], np.cumsum(counts)]), flat, flat, np.zeros(N),
        np.full(N, 500.0), np.arange(N) / 30.0, first=0,
    )  # fmt: skip


@pytest.fixture(scope="module")
def measure() -> Tracks:
    return footage()


@pytest.fixture(scope="module")
def whole(measure):
    return pairwise_motion(measure, CANVAS, "similarity")


def test_the_subject_is_a_group_and_the_background_is_not(measure, whole):
    groups = groups_of(measure, CANVAS, whole.steps, whole.evidence.steering)
    assert groups
    assert (groups[0].track_ids >= 1000).all()
    assert groups[0].speed == pytest.approx(3.0, abs=0.3)
    assert 0.02 < groups[0].share < 0.4
    near = group_at(groups, measure, CANVAS, 20, groups[0].place)
    assert near is groups[0]


def test_a_group_that_does_not_steer_does_not_pull(measure, whole):
    subject = groups_of(measure, CANVAS, whole.steps, whole.evidence.steering)[0]
    assert pull(subject, measure, CANVAS, whole.steps, whole.evidence.steering) < 0.05
    fooled = np.ones_like(whole.evidence.steering)
    assert pull(subject, measure, CANVAS, whole.steps, fooled) > 0.2


def lassoed(frame: int, outline) -> Treatment:
    return parse({"motion": {"aside": [{"kind": "lasso", "frame": frame, "outline": outline}]}})


def box(x0: float, y0: float, x1: float, y1: float):
    return [[x0 / 960, y0 / 540], [x1 / 960, y0 / 540], [x1 / 960, y1 / 540], [x0 / 960, y1 / 540]]


def test_one_lasso_takes_marks_that_are_born_on_the_subject_later(measure):
    treatment = lassoed(5, box(130, 140, 300, 410))
    motion = fitted(measure, CANVAS, treatment)
    ids = measure.records["id"]
    frame = np.repeat(np.arange(N), np.diff(measure.offsets))
    subject = ids >= 1000
    late = subject & (frame > 40)
    assert motion.evidence.excluded[late].mean() > 0.85
    far = (ids < 200) & (measure.records["x"] > 700)
    assert not motion.evidence.excluded[far].any()
    assert not motion.evidence.steering[motion.evidence.excluded].any()


def test_a_group_is_set_aside_by_a_click_and_can_be_the_only_one_that_steers(measure, whole):
    subject = groups_of(measure, CANVAS, whole.steps, whole.evidence.steering)[0]
    at = (CANVAS.to_pixels(np.array([subject.place]))[0] + 0.5) / [960, 540]
    click = {"kind": "group", "frame": subject.frame, "at": at.tolist()}
    aside = fitted(measure, CANVAS, parse({"motion": {"aside": [click]}}))
    ids = measure.records["id"]
    assert aside.evidence.excluded[ids >= 1000].mean() > 0.8
    assert not aside.evidence.excluded[ids < 200].any()
    only = fitted(measure, CANVAS, parse({"motion": {"steer_by": click}}))
    moved = only.steps.b[5:50] - aside.steps.b[5:50]
    assert np.median(moved.real) == pytest.approx(3.0, abs=0.4)


def test_nothing_in_a_lasso_and_a_frame_outside_are_said(measure):
    empty = fitted(measure, CANVAS, lassoed(5, [[-0.4, -0.4], [-0.3, -0.4], [-0.3, -0.3]]))
    assert "no marks in it" in empty.notes[0]
    late = fitted(measure, CANVAS, lassoed(500, box(0, 0, 100, 100)))
    assert "Frame 500 is not in this clip" in late.notes[0]


def test_a_point_in_a_polygon():
    square = np.array([0, 4, 4 + 4j, 4j])
    points = np.array([1 + 1j, 5 + 1j, -1 + 2j, 3.9 + 3.9j])
    assert inside(square, points).tolist() == [True, False, False, True]


def test_the_motion_is_named_by_what_it_depends_on():
    def named(motion=None, **stations):
        settings = {"model": "similarity"} | (motion or {})
        return digest(parse({"motion": settings} | stations), "motion")

    base = named()
    assert named({"calm": 90}, frame={"edge": "trim"}) == base
    assert named({"stiffness": 10}) == base
    assert named({"model": "mesh", "stiffness": 10}) != base
    assert named(shutter={"readout": 12}) != base
    assert named(shutter={"readout": 12, "on": False}) == base


def test_a_crossing_subject_hardly_disturbs_the_background(measure):
    motion = pairwise_motion(measure, CANVAS, "similarity")
    alone = pairwise_motion(footage(subject=1), CANVAS, "similarity")
    off = np.abs(motion.steps.b - alone.steps.b)[1:]
    assert np.sqrt((off**2).mean()) < 0.05


def test_wobble_leaves_out_what_the_whole_picture_does():
    places = places_over(CANVAS)
    moved = (0.02 + 0.01j) * places[None, :] + 3 - 2j
    assert np.abs(without_similarity(moved, places)).max() < 1e-9
    bent = moved + (0.5 * np.sign(places.real))[None, :]
    assert np.abs(without_similarity(bent, places)).max() > 0.1


def test_a_window_of_a_motion_is_the_motion_of_those_frames(measure, whole):
    part = whole.window(10, 30)
    assert len(part) == 20
    assert part.timeline.first == whole.timeline.first + 10
    assert np.array_equal(part.steps.b[1:], whole.steps.b[11:30])
    assert part.steps.b[0] == 0
    piece = measure.window(10, 30)
    assert len(piece) == 20
    assert np.array_equal(piece.frame(0), measure.frame(10))
    assert piece.first == 10
