"""Scores against motions whose score is known."""

import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.quality import scores
from tests.motions import output_steps

CANVAS = Canvas(1280, 720)
T = np.arange(300) / 30


def steps_of(path: np.ndarray) -> Similarities:
    return Similarities(np.ones(len(path), complex), np.diff(path, prepend=path[0]))


def shake(path: np.ndarray, times: np.ndarray = T) -> float:
    moved = scores.place_steps(steps_of(path), CANVAS)
    return scores.shake(moved, times, [(0, len(path))])


def test_shake_of_a_sine_is_its_rms():
    assert shake(10 * np.sin(2 * np.pi * 4 * T) + 0j) == pytest.approx(10 / np.sqrt(2), rel=0.03)


def test_slow_motion_is_no_shake():
    assert shake(300 * T + 200 * np.sin(2 * np.pi * 0.1 * T) + 0j) < 0.7
    assert shake(np.zeros(300) + 0j) == 0


def test_shake_does_not_depend_on_even_frame_times():
    rng = np.random.default_rng(1)
    uneven = np.sort(T + rng.uniform(-0.008, 0.008, len(T)))
    path = 10 * np.sin(2 * np.pi * 3 * uneven) + 0j
    assert shake(path, uneven) == pytest.approx(10 / np.sqrt(2), rel=0.06)


def test_a_few_frames_count_as_straight_motion_plus_shake():
    t = np.arange(8) / 30
    assert shake(100 * t + 0j, t) == pytest.approx(0, abs=1e-9)
    assert shake(100 * t + np.array([0, 1] * 4), t) > 0.3


def test_output_steps_are_the_source_steps_where_nothing_is_corrected():
    steps = steps_of(5 * np.sin(T) + 2j * T)
    same = output_steps(steps, Similarities.none(len(T)))
    assert np.allclose(same.b, steps.b)
    # A correction that undoes the motion leaves a picture that does not move.
    undone = Similarities(np.ones(len(T), complex), np.cumsum(steps.b))
    assert np.allclose(output_steps(steps, undone).b, 0)


def test_stability_score_tells_slow_from_fast():
    slow = np.sin(2 * np.pi * T / 10) * 40
    still_turn = 0j * T
    assert scores.stability_score(steps_of(slow + still_turn), [(0, 300)]) > 0.95
    fast = slow + 30 * np.sin(2 * np.pi * 5 * T)
    assert scores.stability_score(steps_of(fast + 0j), [(0, 300)]) < 0.7
    assert scores.stability_score(steps_of(0j * T), [(0, 300)]) == 1


def test_distortion_value_is_the_ratio_of_singular_values():
    turned = Similarities(np.array([1.2 * np.exp(0.4j)]), np.array([9 + 2j]))
    assert scores.distortion_value(turned.linear_parts) == pytest.approx(1)
    any_matrices = np.random.default_rng(3).standard_normal((20, 2, 2))
    values = np.linalg.svd(any_matrices, compute_uv=False)
    expected = (values[:, 1] / values[:, 0]).min()
    assert scores.distortion_value(any_matrices) == pytest.approx(expected)
