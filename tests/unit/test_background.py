"""What the background does: seen by tracks alone, before and after, and what goes by it."""

from dataclasses import replace

import cv2
import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.core.motion.background_flow import background_flow
from keen_horizon.core.motion.pairwise import pairwise_motion
from keen_horizon.core.path.background_shake import background_shake, no_shakier
from keen_horizon.core.pipeline import Estimates, Solution, measured_again, motion_for, solve
from keen_horizon.core.pipeline.measure_again import no_background
from keen_horizon.core.quality import scores
from keen_horizon.core.tracking.features import FeatureTracker
from keen_horizon.core.tracking.tracks import Tracks
from keen_horizon.core.treatment import Treatment, with_settings

CANVAS = Canvas(1280, 720)
N = 90


def places(spacing: float = 60.0) -> np.ndarray:
    x, y = np.meshgrid(np.arange(20.0, 1260, spacing), np.arange(20.0, 700, spacing))
    return np.stack([x.ravel(), y.ravel()], axis=-1)


def swing(seed: int = 1, px: float = 4.0) -> np.ndarray:
    """``(n, 2)`` a shake of so many px rms a side."""
    return px * np.random.default_rng(seed).standard_normal((N, 2))


def seen(at: np.ndarray, noise: float = 0.05, seed: int = 2) -> Tracks:
    """Tracks ``(n, m, 2)`` as they are measured."""
    off = noise * np.random.default_rng(seed).standard_normal(at.shape)
    return Tracks.from_places(at + off, np.arange(len(at)) / 30)


def flow_of(tracks: Tracks):
    motion = pairwise_motion(tracks, CANVAS, "similarity")
    return background_flow(tracks, CANVAS, motion), motion


def test_the_shake_of_a_recording_is_what_it_shook_by():
    shake = swing()
    flow, motion = flow_of(seen(places() + shake[:, None]))
    found = background_shake(flow, motion.timeline)
    path = (shake[:, 0] + 1j * shake[:, 1])[:, None]
    true = np.abs(scores.fast_part(path - path[0], motion.timeline.times))
    assert found.px == pytest.approx(np.sqrt((true**2).mean()), rel=0.02)
    assert 0 < found.sure < 0.1
    assert found.wobble.max() < 0.2


def test_what_a_correction_does_not_know_is_in_the_figure():
    """A correction by half of what shakes leaves the other half, whatever it says itself."""
    shake = swing()
    flow, motion = flow_of(seen(places() + shake[:, None]))
    whole = background_shake(flow, motion.timeline).px
    shift = (shake - shake.mean(axis=0)) @ [1, 1j]
    for share in (0.5, 1.0):
        correction = Similarities(np.ones(N, complex), share * shift)
        chain = WarpChain(CANVAS, View(CANVAS), (correction,), N)
        left = background_shake(flow, motion.timeline, chain)
        assert left.px == pytest.approx((1 - share) * whole, abs=0.1)
        assert left.px - left.sure <= (1 - share) * whole + 0.01


def test_a_keystone_is_seen_that_no_similarity_has():
    at, middle = places(), np.array(CANVAS.centre)
    turn = 3e-5 * np.random.default_rng(4).standard_normal((N, 1, 1))
    keystone = middle + (at - middle) * (1 + turn * (at[:, :1] - middle[0]))
    flow, motion = flow_of(seen(keystone))
    found = background_shake(flow, motion.timeline)
    far = np.abs(np.array(scores.places_over(CANVAS)))
    assert found.px > 0.3 * 3e-5 * (far**2).mean()
    assert found.wobble.mean() > 0.4 * found.px


def test_one_subject_does_not_count_as_background():
    shake = swing()
    still = places() + shake[:, None]
    walker = places(40)[(np.abs(places(40) - CANVAS.centre) < [260, 300]).all(axis=1)]
    walk = np.stack([9.0 * np.arange(N) % 200, 12 * np.sin(np.arange(N) / 2)], axis=-1)
    inside = (np.abs(places() - CANVAS.centre) < [260, 300]).all(axis=1)
    both = np.concatenate([still[:, ~inside], (walker + walk[:, None])], axis=1)
    flow, motion = flow_of(seen(both))
    alone, _ = flow_of(seen(still))
    found = background_shake(flow, motion.timeline).px
    assert found == pytest.approx(background_shake(alone, motion.timeline).px, rel=0.1)
    assert motion.evidence.astray.mean() > 0.1


def test_a_correction_that_would_shake_gives_way_where_it_would():
    shake = swing(px=0.4)
    flow, motion = flow_of(seen(places() + shake[:, None]))
    wrong = np.where(np.arange(N) < 45, 0, swing(7)[:, 0])
    chain = WarpChain(
        CANVAS, View(CANVAS), (Similarities(np.ones(N, complex), wrong + 0j),), N
    )  # fmt: skip
    share = no_shakier(flow, motion.timeline, chain)
    assert share[0] == 1.0
    assert share[60:].max() < 0.3
    assert (no_shakier(flow, motion.timeline, replace(chain, stages=())) == 1).all()


def test_the_report_says_how_sure_it_is_and_the_finished_file_agrees(make_clip, tmp_path):
    path = make_clip("shaken.mp4", width=640, height=360, count=45)
    from keen_horizon.core.media.probe import scan
    from keen_horizon.core.pipeline import measure, render
    from keen_horizon.core.pipeline.render_clip import drawing_of

    found = scan(path)
    treatment = with_settings(Treatment(), ["motion.calm=60"])
    estimates = Estimates(measure(path, found, 0, 44, tmp_path / "m"), found.probe.canvas)
    solution = solve(motion_for(estimates, treatment), found.probe.canvas, treatment)
    report = solution.report
    assert report["shake_after_sure"] > 0
    target = tmp_path / "out.mp4"
    render(path, found, drawing_of(solution, treatment), 0, target)
    again = measured_again(target, solution, estimates.tracks, tmp_path / "again")
    assert again.px < 0.3 * report["shake_before"]
    assert abs(again.px - report["shake_after"]) < report["shake_after_sure"] + again.sure
    assert again.words.endswith(" px")


def test_what_was_no_background_of_the_source_is_none_of_the_output():
    x, y = np.meshgrid(np.arange(20.0, 1260, 40), np.arange(20.0, 700, 40))
    at = np.stack([x.ravel(), y.ravel()], axis=-1)
    source = Tracks.from_places(np.stack([at, at]), np.arange(2) / 30)
    motion = pairwise_motion(source, CANVAS, "similarity")
    left_half = source.records["x"] < 640
    apart = replace(motion, evidence=replace(motion.evidence, astray=left_half))
    # The output shows what lies 100 px further to the right in the source, at half the size.
    moved = Similarities(np.ones(2, complex), np.full(2, 100 + 0j))
    chain = WarpChain(CANVAS, View(CANVAS), (moved,), 2)
    solution = Solution(chain, apart, (moved,), np.ones(2), np.zeros(2))
    small = Canvas(640, 360)
    seen = Tracks.from_places(np.stack([at / 2, at / 2]), np.arange(2) / 30)
    out = no_background(seen, small, solution, source)
    x = 2 * seen.records["x"] + 100
    assert out[x < 600].all()
    assert not out[(x > 680) & (x < 1270)].any()
    assert out[x > 1290].all()  # bare


def test_a_plain_wall_is_followed_by_its_shades():
    random = np.random.default_rng(3)
    wall = cv2.GaussianBlur(random.standard_normal((500, 760)).astype(np.float32), (0, 0), 9)
    wall = 120 + 1.6 * wall / wall.std()
    follower = FeatureTracker(640, 400)
    moved = []
    for step in range(12):
        x, y = 3.0 * step, 1.0 * step
        shown = wall[20 + int(y) : 420 + int(y), 20 + int(x) : 660 + int(x)]
        noisy = shown + 0.6 * random.standard_normal(shown.shape)
        found = follower.step(np.clip(noisy, 0, 255).astype(np.uint8))
        moved.append(dict(zip(found.ids.tolist(), found.points, strict=True)))
    common = moved[0].keys() & moved[9].keys()
    assert len(common) > 12
    went = np.array([moved[9][k] - moved[0][k] for k in common])
    assert np.median(went, axis=0) == pytest.approx([-27, -9], abs=1.5)


@pytest.mark.parametrize(
    ("value", "sure", "words"),
    [
        (8.1, 0.002, "8.10 px"),
        (0.71, 0.03, "0.71 ± 0.03 px"),
        (0.05, 0.15, "under 0.2 px"),
        (0.0, 0.2, "under 0.2 px"),
    ],
)
def test_a_figure_carries_its_doubt(value, sure, words):
    assert scores.in_pixels(value, sure) == words
