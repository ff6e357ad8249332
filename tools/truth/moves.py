"""How hands, steps and jolts move a camera."""

from __future__ import annotations

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.ndimage import gaussian_filter1d
from scipy.spatial.transform import Rotation

from .scene import Array, Poses

MARGIN = 8  # frames before and after, that rows may reach into


def smooth(random: np.random.Generator, n: int, width: float, size: float) -> Array:
    """``(n, 3)`` noise of so many frames' width, each column with a spread of ``size``."""
    wide = gaussian_filter1d(random.standard_normal((n + 80, 3)), width, axis=0)[40:-40]
    return (wide - wide.mean(axis=0)) / wide.std(axis=0) * size


def poses(
    n: int, seed: int, *, turn: float = 1.2, tremor: float = 0.25, sway: float = 0.0,
    steps: float = 0.0, pan: float = 0.0, ahead: float = 0.0, jolt: float = 0.0,
    rate: float = 30.0,
) -> Poses:  # fmt: skip
    """A hand's turns of ``turn`` degrees rms below about 1.5 Hz and ``tremor`` degrees up to 6 Hz;
    ``sway`` metres of travel; ``steps`` metres of footfall at 1.8 Hz, that nod and roll too;
    ``pan`` degrees a second; ``ahead`` metres a second; a ``jolt`` of degrees half way."""
    random = np.random.default_rng(seed)
    m = n + 2 * MARGIN
    t = (np.arange(m) - MARGIN) / rate
    turns = np.radians(smooth(random, m, 7.0, turn) + smooth(random, m, 1.9, tremor))
    turns[:, 2] *= 0.5
    places = smooth(random, m, 9.0, sway) if sway else np.zeros((m, 3))
    if steps:
        beat = 2 * np.pi * 1.8 * t + 0.4 * np.sin(2 * np.pi * 0.23 * t)
        places[:, 1] += steps * np.cos(beat)
        places[:, 0] += 0.8 * steps * np.sin(beat / 2)
        turns[:, 0] += np.radians(0.35) * np.sin(beat + 0.6)
        turns[:, 2] += np.radians(0.4) * np.sin(beat / 2 + 0.3)
    places[:, 2] += ahead * t
    turns[:, 1] += np.radians(pan) * t
    if jolt:
        hit = np.exp(-0.5 * ((t - n / rate / 2) / 0.06) ** 2)
        turns[:, 0] += np.radians(jolt) * hit
        turns[:, 1] += np.radians(0.6 * jolt) * np.gradient(hit) / np.abs(np.gradient(hit)).max()
    when = np.arange(m) - MARGIN
    turned, placed = CubicSpline(when, turns), CubicSpline(when, places)

    def at(times: Array) -> tuple[Array, Array]:
        return Rotation.from_rotvec(turned(times)).as_matrix(), placed(times)

    return at
