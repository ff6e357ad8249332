"""The harbour's sound, synthesised: water against stone, now and then a gull."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, sosfilt

RATE = 48_000


def harbour(seconds: float, seed: int) -> NDArray[np.int16]:
    """``(2, samples)`` stereo."""
    rng = np.random.default_rng(seed)
    count = round(seconds * RATE)
    t = np.arange(count) / RATE
    low = butter(2, [180, 900], "bandpass", fs=RATE, output="sos")
    hiss = butter(2, [1500, 5000], "bandpass", fs=RATE, output="sos")
    sides = []
    for _ in range(2):
        lap = sosfilt(low, rng.standard_normal(count))
        spray = sosfilt(hiss, rng.standard_normal(count))
        swell = 0.55 + 0.45 * np.sin(2 * np.pi * 0.31 * t + rng.uniform(0, 6))
        sides.append(0.5 * lap * swell + 0.10 * spray * swell**3)
    sound = np.stack(sides)
    for _ in range(max(1, round(seconds / 4))):
        start = rng.uniform(0.3, max(0.4, seconds - 1.2))
        sound += _gull(t - start, rng)[None, :] * np.array([[rng.uniform(0.3, 1)], [0.6]])
    return np.asarray(np.clip(sound * 6500, -32000, 32000), np.int16)


def _gull(t: NDArray[np.float64], rng: np.random.Generator) -> NDArray[np.float64]:
    """Three falling cries starting at ``t = 0``."""
    cry = np.zeros_like(t)
    for i in range(3):
        u = (t - 0.34 * i) / 0.28
        inside = (u > 0) & (u < 1)
        pitch = 1250 * (1 + 0.35 * np.sin(np.pi * np.clip(u, 0, 1))) * (1 - 0.1 * i)
        wave = np.sin(2 * np.pi * np.cumsum(np.where(inside, pitch, 0)) / RATE)
        wave += 0.4 * np.sin(4 * np.pi * np.cumsum(np.where(inside, pitch, 0)) / RATE)
        cry += np.where(inside, wave * np.sin(np.pi * np.clip(u, 0, 1)) ** 2, 0)
    return np.asarray(0.35 * cry * rng.uniform(0.5, 1))
