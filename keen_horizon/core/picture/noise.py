"""How noisy a picture is, by how bright it is."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.decode import Plane
from ..types import Real
from .working_space import WorkingSpace

PART = 16  # px of the parts whose roughness is looked at
PLAIN = 20  # percent of the parts of a level that are plain enough
LEVELS = np.array([0.15, 0.4, 0.7])  # black 0, white 1: dark, middling and light parts
EDGES = np.array([0.28, 0.55])  # between them
FEW = 24  # parts, fewer of which tell nothing of their level
DARKEST, BRIGHTEST = 0.03, 0.94  # beyond which noise is cut off
MASK = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32) * np.sqrt(np.pi / 2) / 6


def roughness(luma: Plane) -> NDArray[np.float32]:
    """``(h // 16, w // 16)`` about the standard deviation, in codes, of what a pixel differs by
    from those about it, mean of each part (Immerkær, *Fast noise variance estimation*, CVIU
    1996)."""
    rows, columns = (n // PART for n in luma.shape)
    rough = np.abs(cv2.filter2D(luma.astype(np.float32), -1, MASK))
    return _means(rough, rows, columns)


def noise_by_level(luma: Plane, space: WorkingSpace) -> Real:
    """``(3,)`` the standard deviation of noise, in codes, at :data:`LEVELS`, told by the plainest
    parts of each; what cannot be told is as the others are, 0 if none can.

    >>> from .working_space import working_space
    >>> rng = np.random.default_rng(0)
    >>> grey = np.linspace(30, 220, 640)[None] + rng.normal(0, 3, (360, 640))
    >>> noise_by_level(np.rint(grey).astype(np.uint8), working_space({}, 8, 720)).round().tolist()
    [3.0, 3.0, 3.0]
    """
    rows, columns = (n // PART for n in luma.shape)
    if not rows or not columns:
        return np.zeros(len(LEVELS))
    level = space.grey_value(_means(luma.astype(np.float32), rows, columns).astype(float)).ravel()
    rough = roughness(luma).ravel()
    band = np.digitize(level, EDGES)
    told = np.full(len(LEVELS), np.nan)
    for k in range(len(LEVELS)):
        own = rough[(band == k) & (level > DARKEST) & (level < BRIGHTEST)]
        if len(own) >= FEW:
            told[k] = np.percentile(own, PLAIN)
    known = np.isfinite(told)
    if not known.any():
        return np.zeros(len(LEVELS))
    return np.interp(LEVELS, LEVELS[known], told[known])


def _means(plane: NDArray[np.float32], rows: int, columns: int) -> NDArray[np.float32]:
    whole = plane[: rows * PART, : columns * PART]
    return np.asarray(cv2.resize(whole, (columns, rows), interpolation=cv2.INTER_AREA), np.float32)
