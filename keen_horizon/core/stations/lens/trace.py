"""Following an edge of the picture between two clicks, bent as it is.

Around the chord between the clicks a strip of the picture's gradient is cut out. The course along
which it is strongest, of one sign throughout, is found by dynamic programming (Amini, Weymouth,
Jain, *Using dynamic programming for solving variational problems in vision*, PAMI 1990); then it is
refined below a pixel, and freed of what strays from a smooth curve.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
import scipy
from numpy.polynomial import chebyshev
from numpy.typing import NDArray

from ...errors import BadSetting
from ...types import Luma, Real

SHORTEST = 24.0  # px between the clicks
OFF = 10  # px that a click may be off the edge
BOW = 0.24  # of the chord's length: the widest bow that is looked for
WIDEST = 220  # px, likewise
COLUMNS = 320  # of the strip, at most; about 2 px apart where it is short
BAND = 5  # px around the curve in which the course is refined
CLIMBS = 2  # rows that a course is moved to its ridge, at most
STRAY = 1.2  # px from the curve, beyond which a column is a distraction
ENOUGH = 0.3  # of the strip's strong gradients: more is not better, so that one strong edge does
# not outshine another
HOP = 0.2  # price of a row sideways, in columns that show the edge
AWAY = 0.01  # price of a px between a click and the edge, of all that an edge is worth
FAR_OFF = 1.0  # likewise, where it is more than OFF
RIVALS = 3  # edges that are looked at
RIVAL = 5.0  # px around one that is struck out
WEAK = 0.12  # likewise: less is no edge
LEAST_SEEN = 0.45  # of the columns that must show the edge
PIECES = 32  # points that are given, at most
SIGMA = 1.0  # px of blur before the gradient


@dataclass(frozen=True)
class Trace:
    """``points`` ``(m, 2)`` px along an edge; ``seen`` the share of its length that shows it, and
    ``strength`` its gradient against the strongest nearby, both 0..1."""

    points: Real
    seen: float
    strength: float


def gradients(luma: Luma) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Across and down, of a picture ``(height, width)``."""
    smooth = cv2.GaussianBlur(luma, (0, 0), SIGMA).astype(np.float32)
    across = cv2.Scharr(smooth, cv2.CV_32F, 1, 0, scale=1 / 32)
    down = cv2.Scharr(smooth, cv2.CV_32F, 0, 1, scale=1 / 32)
    return np.asarray(across), np.asarray(down)


def trace_edge(
    slopes: tuple[NDArray[np.float32], NDArray[np.float32]], pins: Sequence[tuple[float, float]]
) -> Trace:
    """The strongest continuous edge from the first of ``pins`` to the last, px.

    ``slopes`` as from :func:`gradients`; ``pins`` px, clicked near the edge, two at least; those
    between the ends say where it runs. The way of least price through the gradient (Dijkstra, *A
    note on two problems in connexion with graphs*, 1959), then each place to a fraction of a pixel.
    Raises BadSetting if there is none, or the ends are too close.

    >>> picture = np.zeros((200, 300), np.uint8)
    >>> picture[120:] = 200  # a horizontal edge between rows 119 and 120
    >>> found = trace_edge(gradients(picture), [(30.0, 118.0), (270.0, 122.0)])
    >>> bool(np.abs(found.points[:, 1] - 119.5).max() < 0.2)
    True
    """
    ends = np.array([pins[0], pins[-1]], float)
    length = float(np.hypot(*(ends[1] - ends[0])))
    if length < SHORTEST:
        raise BadSetting(
            f"these two points are {length:.0f} px apart; an edge has to be {SHORTEST:.0f} px "
            "long at least."
        )
    along = (ends[1] - ends[0]) / length
    normal = np.array([-along[1], along[0]])
    reach = int(np.clip(BOW * length, OFF + BAND + 4, WIDEST))
    off = np.array(pins[1:-1], float).reshape(-1, 2) - ends[0]
    via = np.stack([off @ along / length, off @ normal], axis=-1)
    if len(via):
        reach = max(reach, int(np.abs(via[:, 1]).max()) + OFF + BAND)
    count = int(np.clip(length / 2, 16, COLUMNS))
    strip, strong = _strip(slopes, ends[0], along, normal, length, reach, count)
    if strong < 1.0:
        raise BadSetting("there is no edge between these two points: the picture is plain there.")
    u = np.linspace(0, 1, count)
    if len(via):
        course, signs = _through(via, u), (1.0, -1.0)
        sign = max(signs, key=lambda way: _mean_under(way * strip, course + reach))
    else:
        course, sign = _strongest(strip, reach)
    course_at, strength, inside = course, np.zeros(count), np.ones(count, bool)
    degree = 5 if length < 500 else 7
    smooth = _curve(u, course, np.ones(count), degree)
    for _ in range(3):
        course_at, strength = _refined(sign * strip, smooth + reach)
        course_at = course_at - reach
        # First without freedom to follow a distraction at an end, then with it.
        inside = (strength > WEAK) & (np.abs(course_at - _plain(u, course_at, degree)) < 3.0)
        for _ in range(3):
            if inside.sum() < max(8, LEAST_SEEN * count):
                break
            weight = np.asarray(inside * np.sqrt(np.maximum(strength, 0.05)), float)
            smooth = _curve(u, course_at, weight, degree)
            inside = (np.abs(course_at - smooth) < STRAY) & (strength > WEAK)
    seen = float(inside.mean())
    if seen < LEAST_SEEN:
        raise BadSetting(
            f"no continuous edge was found between these two points: only {100 * seen:.0f} % of "
            "the way shows one. Click nearer to its ends, or drag the trace onto it."
        )
    offsets = np.where(inside, course_at, np.nan)
    points = _pieces(u, offsets, ends[0], along, normal, length)
    return Trace(points, seen, float(np.clip(strength[inside].mean(), 0, 1)))


def _plain(u: Real, offsets: Real, degree: int) -> Real:
    """A stiffer curve through most of the offsets."""
    weight = np.ones(len(u))
    smooth = offsets
    for _ in range(4):
        smooth = _curve(u, offsets, weight, 3 if degree == 5 else 5)
        weight = np.asarray(1.0 / (1.0 + (offsets - smooth) ** 2), float)
    return smooth


def _curve(u: Real, offsets: Real, weight: Real, degree: int) -> Real:
    found = chebyshev.chebfit(2 * u - 1, offsets, degree, w=weight)
    return np.asarray(chebyshev.chebval(2 * u - 1, found))


def _strip(
    slopes: tuple[NDArray[np.float32], NDArray[np.float32]], start: Real, along: Real,
    normal: Real, length: float, reach: int, count: int,
) -> tuple[Real, float]:  # fmt: skip
    """``(2 reach + 1, columns)`` the gradient across the chord, of its strong ones 1, and what that
    is in grey levels a px."""
    s = np.linspace(0.0, length, count)
    o = np.arange(-reach, reach + 1.0)
    x = (start[0] + s[None] * along[0] + o[:, None] * normal[0]).astype(np.float32)
    y = (start[1] + s[None] * along[1] + o[:, None] * normal[1]).astype(np.float32)
    across, down = (
        cv2.remap(g, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(0.0,))
        for g in slopes
    )
    strip = across * normal[0] + down * normal[1]
    strong = float(np.percentile(np.abs(strip).max(axis=0), 60))
    return np.clip(strip.astype(float) / max(strong, 1e-6), -1.0, 1.0), strong


def _strongest(strip: Real, reach: int) -> tuple[Real, float]:
    """``(columns,)`` offsets of the strongest course from end to end, and its sign."""
    soft = cv2.GaussianBlur(strip, (0, 0), 1.0, sigmaY=1.0)
    away = np.abs(np.arange(-reach, reach + 1.0))
    ends = np.where(away > OFF, -1e6, -AWAY * strip.shape[1] * away)
    u = np.linspace(0, 1, strip.shape[1])
    found: list[tuple[float, Real, float]] = []
    rows_of = np.arange(-reach, reach + 1.0)[:, None]
    for sign in (1.0, -1.0):
        worth = np.minimum(sign * soft / ENOUGH, 1.0)
        for _ in range(RIVALS):
            course = np.asarray(_course(worth, ends, steps=2)[0] - float(reach), float)
            # A course may leap to a stronger edge next to the one that was clicked: then its curve
            # does not end where the clicks are. That rival is struck out, and the next is found.
            weight = np.ones(len(u))
            for _ in range(3):
                smooth = _curve(u, course, weight, 4)
                weight = np.asarray(1.0 / (1.0 + (course - smooth) ** 2), float)
            smooth = np.asarray(smooth, float)
            missed = np.abs(smooth[[0, -1]])
            score = _mean_under(worth, smooth + reach) - float(AWAY * missed.sum())
            if missed.max() < OFF:
                found.append((score, course, sign))
                break
            worth = np.where(np.abs(rows_of - smooth) < RIVAL, -1.0, worth)
            found.append((score - FAR_OFF, course, sign))
    _, course, sign = max(found, key=lambda one: one[0])
    return course, sign


def _course(worth: Real, ends: Real, steps: int) -> tuple[NDArray[np.intp], float]:
    """``(columns,)`` rows of the course of most worth through ``(rows, columns)``, and that.

    ``ends`` ``(rows,)`` is added at both ends; from column to column it moves ``steps`` at most,
    each at the price of :data:`HOP`.
    """
    k, count = worth.shape
    total = worth[:, 0] + ends
    came = np.zeros((count, k), np.int8)
    padded = np.full(k + 2 * steps, -1e9)
    for t in range(1, count):
        padded[steps : steps + k] = total
        best = padded[steps : steps + k].copy()
        for step in (s for s in range(-steps, steps + 1) if s):
            value = padded[steps + step : steps + step + k] - HOP * abs(step)
            better = value > best
            best[better] = value[better]
            came[t][better] = step
        total = best + worth[:, t]
    total = total + ends
    rows = np.empty(count, np.intp)
    rows[-1] = int(total.argmax())
    for t in range(count - 1, 0, -1):
        rows[t - 1] = rows[t] + came[t, rows[t]]
    return rows, float(total.max())


def _through(via: Real, u: Real) -> Real:
    """``(columns,)`` offsets of a curve from end to end through places ``(k, 2)``, share and
    offset."""
    places = np.concatenate([[[0.0, 0.0]], via[np.argsort(via[:, 0])], [[1.0, 0.0]]])
    x, y = places[:, 0], places[:, 1]
    keep = np.concatenate([[True], np.diff(x) > 1e-3])
    x, y = x[keep], y[keep]
    if len(x) <= 3:
        return np.asarray(np.polyval(np.polyfit(x, y, len(x) - 1), u))
    return np.asarray(scipy.interpolate.PchipInterpolator(x, y, extrapolate=True)(u))


def _mean_under(strip: Real, rows: Real) -> float:
    index = np.clip(np.rint(rows).astype(int), 0, strip.shape[0] - 1)
    return float(strip[index, np.arange(strip.shape[1])].mean())


def _refined(strip: Real, rows: Real) -> tuple[Real, Real]:
    """The strongest course near the curve ``rows`` ``(columns,)``: its rows to a fraction of one,
    and its strength."""
    count = strip.shape[1]
    shifts = np.arange(-BAND - 1, BAND + 2)
    x = np.broadcast_to(np.arange(count, dtype=np.float32), (len(shifts), count)).copy()
    y = (rows[None, :] + shifts[:, None]).astype(np.float32)
    cut = cv2.remap(
        strip.astype(np.float32), x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE
    )
    band = np.asarray(cut, float)
    path, _ = _course(np.minimum(band[1:-1] / ENOUGH, 2.0), np.zeros(len(shifts) - 2), steps=1)
    columns = np.arange(count)
    for _ in range(CLIMBS):  # whatever is strong enough is worth as much: on, to the ridge itself
        low, middle, high = (band[path + d, columns] for d in (0, 1, 2))
        uphill = (high > np.maximum(low, middle)) * 1 - (low > np.maximum(middle, high))
        path = np.clip(path + uphill, 0, len(shifts) - 3)
    low, middle, high = (band[path + d, columns] for d in (0, 1, 2))
    curve = low - 2 * middle + high
    with np.errstate(divide="ignore", invalid="ignore"):
        part = np.where(curve < -1e-9, 0.5 * (low - high) / curve, 0.0)
    return rows + path - BAND + np.clip(part, -0.5, 0.5), middle


def _pieces(u: Real, offsets: Real, start: Real, along: Real, normal: Real, length: float) -> Real:
    """``(m, 2)`` px: the mean of each piece that shows the edge."""
    pieces = int(np.clip(length / 8, 6, PIECES))
    which = np.minimum((u * pieces).astype(int), pieces - 1)
    good = np.isfinite(offsets)
    counts = np.bincount(which[good], minlength=pieces)
    own = np.bincount(which, minlength=pieces)
    keep = counts >= np.maximum(1, own // 3)
    s = np.bincount(which[good], u[good], pieces)[keep] / counts[keep] * length
    o = np.bincount(which[good], offsets[good], pieces)[keep] / counts[keep]
    return np.asarray(start + s[:, None] * along + o[:, None] * normal)
