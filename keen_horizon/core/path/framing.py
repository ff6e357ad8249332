"""The output's canvas, and zoom over time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from ..geometry.canvas import Canvas
from ..geometry.chain import WarpChain
from ..types import Complex, Real
from .zoom import zoom_needed

DRIFT_EASE = 0.5  # seconds over which a drifting zoom takes up and ends its drift
AFFORD_ROUNDS = 12


@dataclass(frozen=True)
class Framing:
    """The output's canvas and scale, before any zoom."""

    output: Canvas
    scale: float
    offset: complex  # keeps pixels on pixels where a row or column is left out


def own_size(canvas: Canvas) -> Framing:
    """The source's own pixels; sizes even, as H.264 wants them."""
    output = Canvas(canvas.width // 2 * 2, canvas.height // 2 * 2, canvas.pixel_aspect)
    (cx, cy), (ox, oy) = canvas.centre, output.centre
    return Framing(output, 1.0, complex((ox - cx) * canvas.pixel_aspect, oy - cy))


def other_size(canvas: Canvas, width: int | None, height: int | None, *, whole: bool) -> Framing:
    """Square pixels, ``width`` by ``height``; one of them may be None, for the source's shape. The
    source covers the output at zoom 1, or lies ``whole`` within it."""
    shape = canvas.width * canvas.pixel_aspect / canvas.height
    width = width if width is not None else round((height or 0) * shape)
    height = height if height is not None else round(width / shape)
    output = Canvas(max(16, width // 2 * 2), max(16, height // 2 * 2))
    fits = output.width / (canvas.width * canvas.pixel_aspect), output.height / canvas.height
    return Framing(output, min(fits) if whole else max(fits), 0j)


def drifting(needed: Real, times: Real, speed: float | Real) -> Real:
    """The least zoom ``(n,)`` of a stretch that changes by at most ``speed`` a second.

    ``speed`` is a share, one or ``(n,)``: 0.05 for five percent a second. In the logarithm: the
    least function with that slope over ``needed``, taken over a window and then averaged over it,
    which rounds its corners, keeps its slope and stays above.
    """
    n = len(needed)
    if n < 2:
        return needed
    gap = np.diff(times)
    window = 2 * max(1, round(DRIFT_EASE / 2 / max(float(np.median(gap)), 1e-4))) + 1
    log = scipy.ndimage.maximum_filter1d(np.log(needed), window, mode="nearest")
    # The slowest of those over which the average below is taken.
    least = scipy.ndimage.minimum_filter1d(
        np.broadcast_to(speed, n).astype(float), window, mode="nearest"
    )
    slope = np.log1p(np.minimum(least[1:], least[:-1])) * gap
    # The average over a window is only as slow as the limit if frames are evenly apart.
    if gap.max() > 1.5 * gap.min():
        slope *= float(np.median(gap)) / max(float(gap.max()), 1e-9)
    rise = np.concatenate([[0.0], np.cumsum(slope)])
    ahead = np.maximum.accumulate(log + rise) - rise
    behind = (np.maximum.accumulate((log - rise)[::-1]))[::-1] + rise
    return np.asarray(
        np.exp(scipy.ndimage.uniform_filter1d(np.maximum(ahead, behind), window, mode="nearest"))
    )


def affordable(chain: WarpChain, rim: Complex, offset: Complex, ceiling: Real) -> float:
    """How much of a position ``offset`` ``(n,)`` can be had under a zoom ceiling, 0..1."""
    low, high = 0.0, 1.0
    for _ in range(AFFORD_ROUNDS):
        middle = (low + high) / 2
        if (zoom_needed(chain, rim, middle * offset) <= ceiling).all():
            low = middle
        else:
            high = middle
    return low
