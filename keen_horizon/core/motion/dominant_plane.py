"""Settling on one depth: what lies nearer than the background leans on the fit less.

A similarity can follow one distance only. A mark at another drifts against it, a little but always
to the same side, by parallax; that is nothing a single frame pair shows, but the mark's whole life
does. (Motion of a plane plus parallax: Irani, Rousso, Peleg, *Recovery of ego-motion using region
alignment*, PAMI 1997.)
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..tracking.correspondences import Correspondences
from ..types import Complex, Real
from .robust_fit import FADE_END, LEAST_TRUST, BaseModel, fade, weighted

ROUNDS = 2
REWEIGHTED = 3  # times within a round
DRIFTS = 0.00027  # of the half-diagonal: mean drift a frame at which a mark is at another depth
GROSS = 0.004  # likewise: a single miss larger than that is no drift
LONG = 10  # sightings after which a mean is believed

Batches = Callable[[], Iterator[tuple[slice, Correspondences]]]


def settle(
    a: Complex, b: Complex, steering: NDArray[np.bool_], batches: Batches, marks: int,
    canvas: Canvas, model: BaseModel,
) -> None:  # fmt: skip
    """Refit all steps ``a``, ``b`` ``(n,)`` in place, and who steers, one per record.

    ``batches`` gives the pairs that end in a slice of frames; ``marks`` is how many there are.
    """
    radius = canvas.radius
    end = FADE_END * radius
    for _ in range(ROUNDS):
        total, seen = np.zeros(marks, complex), np.zeros(marks)
        steered, sighted = np.zeros(marks), np.zeros(marks)
        for part, pairs in batches():
            rest = pairs.after - (a[part, None] * pairs.before + b[part, None])
            small = pairs.valid & (np.abs(rest) < GROSS * radius)
            names, away = pairs.mark[small], rest[small]
            total += np.bincount(names, away.real, marks)
            total += 1j * np.bincount(names, away.imag, marks)
            seen += np.bincount(names, minlength=marks)
            mine = pairs.mark[pairs.valid]
            sighted += np.bincount(mine, minlength=marks)
            steered += np.bincount(mine, steering[pairs.record[pairs.valid]], marks)
        drift = np.abs(total) / np.maximum(seen, 1)
        prior = steered / np.maximum(sighted, 1) * fade(np.asarray(drift, float), DRIFTS * radius)
        prior = prior * np.minimum(seen / LONG, 1) + LEAST_TRUST
        for part, pairs in batches():
            x, y = a[part], b[part]
            belief = pairs.valid * prior[pairs.mark]
            for _ in range(REWEIGHTED):
                off: Real = np.abs(pairs.after - (x[:, None] * pairs.before + y[:, None]))
                x, y = weighted(pairs, belief * fade(off, end), model)
            # A pair without marks keeps what it had.
            any_ = pairs.valid.any(axis=1)
            a[part], b[part] = np.where(any_, x, a[part]), np.where(any_, y, b[part])
            off = np.abs(pairs.after - (a[part, None] * pairs.before + b[part, None]))
            steer = pairs.valid & (fade(off, end) > 0.25)
            steering[pairs.record[pairs.valid]] = steer[pairs.valid]
