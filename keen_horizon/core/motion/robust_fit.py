"""One robust transform a frame pair, for many pairs at once.

Weighted least squares with weights that fade out what does not fit (Geman-McClure), the width of
the fade shrinking step by step (Blake, Zisserman, *Visual Reconstruction*, MIT Press 1987:
graduated non-convexity). It begins at what most of the picture agrees on: see :mod:`.consensus`.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..tracking.correspondences import Correspondences, votes
from ..types import Flags, Real
from .ransac import consensus

BaseModel = Literal["shift", "similarity"]  # of the fits that all others stand on

FADE_STEPS = 7
FADE_START = 2  # times FADE_END; wider, and a large subject would pull the fit away
FADE_END = 0.0014  # of the picture's half-diagonal: about 1 px at 720 lines
NEARBY = 3.0  # times FADE_END, within which a mark agrees about
ABOUT = 1.6  # so that it counts in full up to half of that
LEAST_TRUST = 0.02  # so that a frame without trusted marks still has a motion
AGREED_SURE, AGREED_LOST = 0.33, 0.2  # of the picture, between what agrees about and to a pixel
ERROR_SURE, ERROR_LOST = 0.0006, 0.002  # of the half-diagonal, standard error of a step at the rim
EXACT = 0.0002  # likewise, that a mark is never more exact than
FEWEST = 4  # marks, that agree, below which nothing is known
MANY = 160  # marks of a pair
MOST = 0.6  # of the picture; where that much agrees there is no other candidate


@dataclass(frozen=True)
class Fit:
    """Arrays ``(pairs,)`` but for ``steer``; what they are is said at :class:`.CameraMotion`."""

    a: NDArray[np.complex128]
    b: NDArray[np.complex128]
    steer: NDArray[np.bool_]  # (pairs, most marks)
    near: NDArray[np.bool_]  # likewise, that agree about
    share: NDArray[np.float64]  # of the picture that agrees about
    firm: NDArray[np.float64]  # and that agrees to about a pixel
    count: NDArray[np.int64]
    confidence: NDArray[np.float64]
    residual: NDArray[np.float64]

    @classmethod
    def none(cls, pairs: int, marks: int) -> Fit:
        """No motion that anything agrees on."""
        zero = np.zeros(pairs)
        return cls(
            np.ones(pairs, complex), np.zeros(pairs, complex), np.zeros((pairs, marks), bool),
            np.zeros((pairs, marks), bool), zero, zero.copy(), np.zeros(pairs, np.int64),
            zero.copy(), zero.copy(),
        )  # fmt: skip


def fits(
    pairs: Correspondences, model: BaseModel, canvas: Canvas, trust: Real | None = None,
    *, narrow: bool = False,
) -> tuple[Fit, Fit]:  # fmt: skip
    """The motion that most of the picture agrees on, and that of most of the rest.

    ``trust`` ``(pairs, marks)``, 0..1, weighs the sightings. With ``narrow`` few of them, close
    together, are enough to be believed. From the hypothesis of :func:`.consensus` on, weights fade
    with the distance (Beaton, Tukey, *The fitting of power series*, Technometrics 1974); in the
    second fit, what steers the first has no say.

    >>> from keen_horizon.core.tracking.tracks import Tracks
    >>> from keen_horizon.core.tracking.correspondences import correspondences
    >>> x, y = np.meshgrid(np.arange(20.0, 620, 40), np.arange(20.0, 460, 40))
    >>> at = np.stack([x.ravel(), y.ravel()], axis=-1)
    >>> tracks = Tracks.from_places(np.stack([at, at + [5, -3]]), np.arange(2) / 30)
    >>> canvas = Canvas(640, 480)
    >>> first, _ = fits(correspondences(tracks, canvas, np.array([1])), "shift", canvas)
    >>> first.b.round(3).tolist(), first.confidence.round(2).tolist()
    ([(5-3j)], [1.0])
    """
    vote = votes(pairs.before, pairs.valid, canvas)
    belief = np.ones_like(vote) if trust is None else trust + LEAST_TRUST
    first = _fit(pairs, model, canvas, vote, belief, narrow)
    # Where most of the picture agrees there is no other candidate.
    doubtful = np.nonzero(first.firm < MOST)[0]
    second = Fit.none(*vote.shape)
    if len(doubtful):
        rest = belief[doubtful] * ~first.steer[doubtful]
        found = _fit(pairs[doubtful], model, canvas, vote[doubtful], rest, narrow)
        for field in fields(Fit):
            getattr(second, field.name)[doubtful] = getattr(found, field.name)
    return first, second


def _fit(
    pairs: Correspondences, model: BaseModel, canvas: Canvas, vote: NDArray[np.float64],
    belief: NDArray[np.float64], narrow: bool,
) -> Fit:  # fmt: skip
    radius = canvas.radius
    # Half the marks are plenty for a start.
    thin = (slice(None), slice(None, None, 2 if vote.shape[1] > MANY else 1))
    a, b = consensus(
        pairs.before[thin], pairs.after[thin], (vote * belief)[thin], radius,
        turns=model != "shift",
    )  # fmt: skip
    prior = pairs.valid * belief
    end = FADE_END * radius
    for width in end * np.geomspace(FADE_START, 1.0, FADE_STEPS):
        rest = np.abs(pairs.after - (a[:, None] * pairs.before + b[:, None]))
        a, b = weighted(pairs, prior * fade(rest, width), model)
    rest = np.abs(pairs.after - (a[:, None] * pairs.before + b[:, None]))
    steer = pairs.valid & (fade(rest, end) > 0.25)
    count = steer.sum(axis=1)
    # A picture that is bent (a turn, rows read in motion) agrees all over, if not to a pixel.
    near = pairs.valid & (rest < NEARBY * end)
    about = vote * np.minimum(ABOUT * fade(rest, NEARBY * end), 1.0)
    votes = np.maximum(vote.sum(axis=1), 1e-9)
    share, firm = about.sum(axis=1) / votes, (vote * steer).sum(axis=1) / votes
    error = _rim_error(pairs, rest, near, radius, narrow=narrow)
    agreed = np.sqrt(share * firm)
    confidence = _ramp(agreed, AGREED_LOST, AGREED_SURE) * _ramp(error, ERROR_LOST, ERROR_SURE)
    residual = np.sqrt(np.where(steer, rest**2, 0).sum(axis=1) / np.maximum(count, 1))
    return Fit(a, b, steer, near, share, firm, count, confidence, residual)


def _rim_error(
    pairs: Correspondences, rest: Real, near: Flags, radius: float, *, narrow: bool
) -> Real:
    """``(pairs,)`` standard error of a similarity's fit at the picture's rim, or at that of its own
    marks if they are all that matters; in half-diagonals. By its covariance: ``sigma^2 / n`` in the
    marks' middle, and more by the square of how far out the rim lies."""
    many = near.sum(axis=1)
    n = np.maximum(many, 1)
    mean = np.where(near, pairs.before, 0).sum(axis=1) / n
    spread = np.where(near, np.abs(pairs.before - mean[:, None]) ** 2, 0).sum(axis=1) / n
    sigma = np.sqrt(np.where(near, rest**2, 0).sum(axis=1) / n) + EXACT * radius
    out = spread if narrow else radius**2
    error = sigma / radius * np.sqrt((1 + out / np.maximum(spread, 1e-9)) / n)
    return np.where(many >= FEWEST, error, np.inf)


def _ramp(value: Real, lost: float, sure: float) -> Real:
    """0 at ``lost``, 1 at ``sure``, even between."""
    return np.asarray(np.clip((value - lost) / (sure - lost), 0, 1))


def fade(rest: NDArray[np.float64], width: float) -> NDArray[np.float64]:
    """The weight of what is off by ``rest``."""
    return np.asarray((width**2 / (width**2 + rest * rest)) ** 2)


def weighted(
    pairs: Correspondences, weight: NDArray[np.float64], model: BaseModel
) -> tuple[NDArray[np.complex128], NDArray[np.complex128]]:
    """Weighted least squares of ``after = a before + b``, closed form, one a row."""
    total = np.maximum(weight.sum(axis=1), 1e-12)
    p = (weight * pairs.before).sum(axis=1) / total
    q = (weight * pairs.after).sum(axis=1) / total
    if model == "shift":
        return np.ones(len(p), complex), np.asarray(q - p)
    before, after = pairs.before - p[:, None], pairs.after - q[:, None]
    power = (weight * np.abs(before) ** 2).sum(axis=1)
    # With fewer than two marks apart from each other only a shift can be told.
    a = np.where(
        power > 1e-9,
        (weight * np.conj(before) * after).sum(axis=1) / np.maximum(power, 1e-9),
        1.0,
    )
    return a, q - a * p
