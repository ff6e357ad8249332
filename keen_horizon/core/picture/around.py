"""Whether pictures go all around, as far as they show it themselves."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from ..media.decode import Plane

SHAPE = 0.02  # by which a picture may differ from twice as wide as high
SEAM = 2.5  # times as much as from column to column it may change from the last to the first
NOISE = 1.5  # code values that any columns differ by
POLE = 0.3  # of the changes along the middle row, that there may be along the first and the last
PLAIN = 4.0  # code values of changes below which a column, or a row, tells nothing


def has_shape_of_sphere(width: float, height: float) -> bool:
    """Whether a picture is twice as wide as high."""
    return abs(width / height / 2 - 1) < SHAPE


def goes_around(lumas: Iterable[Plane]) -> bool:
    """Whether pictures ``(height, width)`` go on at their left where they end at their right, and
    whether their first and last rows are a single place each, as poles are.

    >>> rng = np.random.default_rng(1)
    >>> flat = rng.integers(0, 255, (64, 128)).astype(np.uint8)
    >>> goes_around([flat])
    False
    """
    told = [_one(np.asarray(luma, float)) for luma in lumas]
    return bool(told) and all(told)


def _one(luma: np.ndarray) -> bool:
    if luma.max() > 255:
        luma = luma / 4  # 10 bits
    first, second, last = luma[:, 0], luma[:, 1], luma[:, -1]
    if first.std() < PLAIN:
        return False
    beside = np.median(np.abs(first - second))
    seam = np.median(np.abs(first - last))
    middle = luma[luma.shape[0] // 2].std()
    poles = max(luma[0].std(), luma[-1].std())
    return bool(seam <= SEAM * beside + NOISE and poles <= POLE * middle + NOISE)
