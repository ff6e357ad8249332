"""Fall-off from a picture of an even surface: a wall, the sky.

What is not even in the picture is the glass', but for the lighting: a surface is brighter on the
side of the window. That is as good as flat or evenly bent over a picture, and is fitted along and
taken out; the glass goes by the radius, and falls off faster than the lighting can.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ...geometry.canvas import Canvas
from ...geometry.lattice import cell_middles, lattice_points
from ...types import AnyArray, Points, Real
from .brightness import OFF, SIZE
from .fall_off import TERMS
from .radial_fit import (
    FARTHEST,
    LATTICE,
    FallOffFit,
    faded,
    fall_off_at,
    field_at,
    lost_doubt,
    radial_slopes,
)

BLOCKS = (48, 27)  # parts of the picture whose light is averaged
DARKEST, BRIGHTEST = 0.01, 0.93  # linear light of a part that can be trusted
ENOUGH = 0.5  # share of the parts that have to be
UNEVEN = 0.06  # stops that neighbouring parts of a surface may differ by, robust
TILT = 1.0  # stops by which lighting may well change over the picture
NOISE = 0.01  # stops by which parts differ anyway
STEPS, TUKEY = 12, 4.0


def fit_even(light: NDArray[np.float32], canvas: Canvas) -> FallOffFit:
    """The fall-off in a picture of an even surface: ``light`` ``(height, width)`` linear, 1 is
    white, of a picture of size ``canvas``."""
    mean = cv2.resize(light, BLOCKS, interpolation=cv2.INTER_AREA).astype(float)
    spots = cv2.resize(light, BLOCKS, interpolation=cv2.INTER_LINEAR).astype(float)
    places = cell_middles(canvas, *BLOCKS).reshape(-1, 2)
    good = ((mean > DARKEST) & (np.maximum(mean, spots) < BRIGHTEST)).ravel()
    if good.mean() < ENOUGH:
        bright = bool((mean >= BRIGHTEST).mean() > 0.3)
        return _nothing(
            f"Most of it is too {'bright' if bright else 'dark'} to tell; an even surface should "
            "be about half as bright as white."
        )
    stops = np.log2(np.maximum(mean, DARKEST / 4))
    rough = float(1.4826 * np.median(np.abs(np.diff(stops, 2, axis=1))))
    if rough > UNEVEN:
        return _nothing(
            f"This is no even surface: parts beside each other differ by {rough:.2f} stops. A "
            "plain wall or the sky, out of focus, does."
        )
    return _solve(stops.ravel()[good], places[good], canvas)


def _nothing(words: str) -> FallOffFit:
    return FallOffFit(None, np.inf, np.inf, 0, words)


def _solve(stops: Real, places: Points, canvas: Canvas) -> FallOffFit:
    """Gauss-Newton over: brightness, lighting across and down, the glass' terms and its middle."""
    lighting = _lighting(places, canvas)
    losses, middle = np.zeros(TERMS), np.zeros(2)
    lit = np.zeros(lighting.shape[1])
    lit[0] = stops.mean()
    prior = np.array([0.0] + [TILT**-2] * 2 + [SIZE**-2] * TERMS + [OFF**-2] * 2) * NOISE**2
    weight = np.ones(len(stops))
    for _ in range(STEPS):
        field = field_at(canvas, middle)
        glass = fall_off_at(field, losses)
        columns = np.concatenate([lighting, -radial_slopes(field, places, losses)], axis=1)
        lost = columns[:, lighting.shape[1] :][:, :TERMS] @ losses
        left = stops - lighting @ lit - lost
        spread = max(float(1.4826 * np.median(np.abs(left))), NOISE)
        weight = faded(left, TUKEY * spread)
        now = np.concatenate([lit, losses, middle])
        normal = (columns.T * weight) @ columns + np.diag(prior)
        step = np.linalg.solve(normal, columns.T @ (weight * left) - prior * now)
        lit = lit + step[: len(lit)]
        losses = losses + step[len(lit) : len(lit) + TERMS]
        middle = np.clip(middle + step[len(lit) + TERMS :], -FARTHEST, FARTHEST)
    covariance = np.linalg.inv(normal) * spread**2
    own = covariance[len(lit) :, len(lit) :]
    over = lost_doubt(field, losses, own, lattice_points(canvas, *LATTICE))
    doubt = float(np.sqrt((over**2).mean()))
    corner = float(glass.lost(canvas.to_pixels(canvas.corners)).max())
    tilt = float(np.abs(lit[1:]).max())
    words = (
        f"Up to {corner:.2f} ± {2 * doubt:.2f} stops lost in the corners, as the even surface "
        f"tells; the lighting itself changes by {tilt:.2f} stops over it."
    )
    if corner < max(2 * doubt, 0.03):
        words = f"The even surface tells of no fall-off: {corner:.2f} ± {2 * doubt:.2f} stops."
        return FallOffFit(None, doubt, spread, len(stops), words)
    return FallOffFit(glass, doubt, spread, len(stops), words, "even")


def _lighting(places: Points, canvas: Canvas) -> AnyArray:
    """``(m, 3)`` what lighting adds to: all, from left to right, from top to bottom."""
    size = np.array([canvas.width, canvas.height])
    across, down = ((places + 0.5) / size - 0.5).T
    return np.stack([np.ones(len(places)), across, down], axis=-1)
