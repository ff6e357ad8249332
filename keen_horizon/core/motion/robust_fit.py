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
from ..types import Real
from .ransac import consensus

BaseModel = Literal["shift", "similarity"]  # of the fits that all others stand on

FADE_STEPS = 7
FADE_START = 2  # times FADE_END; wider, and a large subject would pull the fit away
FADE_END = 0.0014  # of the picture's half-diagonal: about 1 px at 720 lines
LEAST_TRUST = 0.02  # so that a frame without trusted marks still has a motion
MARKS_SURE = 40  # steering marks at which their number is no longer a doubt
SHARE_SURE, SHARE_LOST = 0.35, 0.12  # of the picture, by its marks, that agrees with the fit
MANY = 160  # marks of a pair
MOST = 0.6  # of the picture; where that much agrees there is no other candidate
NARROW = 0.2  # of that number and of the spread below, where one subject steers
SPREAD_SURE = 0.18  # rms distance of steering marks from their mean, of the half-diagonal


@dataclass(frozen=True)
class Fit:
    """Arrays ``(pairs,)`` but for ``steer``; what they are is said at :class:`.CameraMotion`."""

    a: NDArray[np.complex128]
    b: NDArray[np.complex128]
    steer: NDArray[np.bool_]  # (pairs, most marks)
    share: NDArray[np.float64]  # of the picture that agrees
    count: NDArray[np.int64]
    confidence: NDArray[np.float64]
    residual: NDArray[np.float64]

    @classmethod
    def none(cls, pairs: int, marks: int) -> Fit:
        """No motion that anything agrees on."""
        zero = np.zeros(pairs)
        return cls(
            np.ones(pairs, complex), np.zeros(pairs, complex), np.zeros((pairs, marks), bool),
            zero, np.zeros(pairs, np.int64), zero.copy(), zero.copy(),
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
    doubtful = np.nonzero(first.share < MOST)[0]
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
    many = np.maximum(count, 1)
    mean = np.where(steer, pairs.before, 0).sum(axis=1) / many
    far = np.where(steer, np.abs(pairs.before - mean[:, None]) ** 2, 0).sum(axis=1)
    spread = np.sqrt(far / many) / radius
    share = (vote * steer).sum(axis=1) / np.maximum(vote.sum(axis=1), 1e-9)
    few = NARROW if narrow else 1.0
    confidence = (
        np.clip(count / (few * MARKS_SURE), 0, 1)
        * np.clip((share - SHARE_LOST) / (SHARE_SURE - SHARE_LOST), 0, 1)
        * np.clip(spread / (few * SPREAD_SURE), 0, 1)
    )
    residual = np.sqrt(np.where(steer, rest**2, 0).sum(axis=1) / many)
    return Fit(a, b, steer, share, count, confidence, residual)


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
