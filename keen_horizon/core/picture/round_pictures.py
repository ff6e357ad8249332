"""Round pictures on black: whether a picture is two of them, and which circles they end on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
import scipy

from ..geometry.canvas import Canvas
from ..types import Luma, Points, Real

ANGLES = 720  # ways from the middle of a picture along which its end is looked for
DARK = 12.0  # code values above its corners, from which on a picture shows something
DARKEST = 48  # code values, that anything counts as dark
CORNERS = 0.06  # of its side: how large they are that must be dark
ROUND, OFF = 0.6, 0.015  # of the ways that have to end on a circle; to so much of its radius
RADII = (0.33, 0.62)  # of a picture's side


@dataclass(frozen=True)
class Circle:
    """Its centre and radius, pixels."""

    x: float
    y: float
    radius: float


def halves_of(canvas: Canvas) -> tuple[tuple[slice, slice], tuple[slice, slice]] | None:
    """Rows and columns of each of two square pictures in one; None for another shape."""
    width, height = canvas.width, canvas.height
    if abs(width / height - 2) < 0.02:
        half = width // 2
        return (slice(0, height), slice(0, half)), (slice(0, height), slice(half, width))
    if abs(height / width - 2) < 0.02:
        half = height // 2
        return (slice(0, half), slice(0, width)), (slice(half, height), slice(0, width))
    return None


def may_be_twin(luma: Luma) -> bool:
    """Whether one picture leaves room for the thought: what lies outside both circles is dark."""
    halves = halves_of(Canvas(luma.shape[1], luma.shape[0]))
    return halves is not None and all(_corners(luma[half])[1] <= DARKEST for half in halves)


def looks_like_twin(lumas: Sequence[Luma]) -> bool:
    """Whether pictures are two round ones on black."""
    return circles_of(lumas) is not None


def circles_of(lumas: Sequence[Luma]) -> tuple[Circle, Circle] | None:
    """The circles that both pictures end on, of frames ``(height, width)``; None for others."""
    height, width = lumas[0].shape
    halves = halves_of(Canvas(width, height))
    if halves is None:
        return None
    brightest = np.max(np.stack(lumas), axis=0)
    found = [_circle(brightest[half], half) for half in halves]
    if found[0] is None or found[1] is None:
        return None
    return found[0], found[1]


def _corners(luma: Luma) -> tuple[Luma, float]:
    """The pixels in the corners of a picture, and how bright half of them are at the most."""
    corner = max(4, round(CORNERS * min(luma.shape)))
    ends = np.s_[:corner], np.s_[-corner:]
    pixels = np.concatenate([luma[rows, columns].ravel() for rows in ends for columns in ends])
    return pixels, float(np.median(pixels))


def _circle(luma: Luma, half: tuple[slice, slice]) -> Circle | None:
    """The circle that a picture ends on, in pixels of the whole; None for one that does not."""
    side = min(luma.shape)
    corners, dark = _corners(luma)
    if np.percentile(corners, 90) > dark + DARK or dark > DARKEST:
        return None
    soft = cv2.GaussianBlur(luma, (0, 0), max(1.0, side / 700))
    middle = np.array([luma.shape[1] - 1, luma.shape[0] - 1]) / 2
    around = np.linspace(0, 2 * np.pi, ANGLES, endpoint=False)
    way = np.stack([np.cos(around), np.sin(around)], axis=-1)
    reach = np.arange(0.25 * side, 0.72 * side, 0.5)
    at = (middle + reach[None, :, None] * way[:, None]).astype(np.float32)
    seen = cv2.remap(soft, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT,
                     borderValue=(dark,))  # fmt: skip
    lit = seen > dark + DARK
    last = lit.shape[1] - 1 - np.argmax(lit[:, ::-1], axis=1)
    ends_at = middle + reach[last][:, None] * way
    inside = ((ends_at > 1.5) & (ends_at < np.array(luma.shape[::-1]) - 2.5)).all(axis=1)
    known = lit.any(axis=1) & inside
    if known.sum() < ANGLES // 3:
        return None
    x, y, radius = _fitted_circle(ends_at[known])
    off = np.abs(np.hypot(*(ends_at[known] - [x, y]).T) - radius)
    if (off < OFF * radius).sum() < ROUND * ANGLES or not RADII[0] < radius / side < RADII[1]:
        return None
    return Circle(x + half[1].start, y + half[0].start, radius)


def _fitted_circle(points: Points) -> tuple[float, float, float]:
    """Centre and radius that points ``(m, 2)`` lie on, most of them."""

    def off(circle: Real) -> Real:
        return np.hypot(*(points - circle[:2]).T) - circle[2]

    middle = points.mean(axis=0)
    start = [*middle, float(np.median(np.hypot(*(points - middle).T)))]
    scale = 0.004 * start[2]
    x, y, radius = scipy.optimize.least_squares(off, start, loss="cauchy", f_scale=scale).x
    return float(x), float(y), float(radius)
