"""The steadied camera path: as still, even and evenly accelerating as the picture allows.

After Grundmann, Kwatra, Essa, *Auto-directed video stabilization with robust L1 optimal camera
paths*, CVPR 2011: the sum of absolute first, second and third differences of the path is least,
subject to every corner of the crop staying inside the source. Where the paper takes the absolute
value of each component, here it is the length of a pair, shift (x, y) and (log scale, turn): the
same stretches of rest and even motion, whichever way they run across the picture.

The unknown is the correction ``B_t`` of each frame, a backward map from the steadied plane to the
source plane. With ``F_t`` the camera's step from frame ``t - 1`` to ``t``, the steadied camera's
own step compares ``inverse(F_{t+1}) B_{t+1}`` with ``B_t``: local, so nothing drifts however long
the clip is; and linear, with turn and scale counted in the logarithm. In the logarithm a constant
zoom costs nothing and gains nothing; in the scale itself, shrinking it would shrink every step,
and the solver would buy calm with a zoom that nobody asked for.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas, Complex
from ..geometry.similarity import Similarities
from ..motion.camera import CameraMotion
from .differences import Differences
from .interior import least_lengths

SCALE_SHARE = 0.25  # of the room that evening out the scale may take
HALF_DIAGONAL = 734.0  # of the picture the weights below were chosen for; others count alike
LEVER = 0.7 * HALF_DIAGONAL  # turns and scales count as what they do at that distance
NO_ROOM = 1e-3  # instead of none: an interior-point method needs an interior
REFERENCE_RATE = 30.0  # frames a second at which the weights below count differences


@dataclass(frozen=True)
class Weights:
    """How much stillness, evenness and even acceleration of the path are worth.

    ``tether`` is the price of being off centre (quadratic). It settles what the rest leaves open,
    such as where a camera that stands still looks, and keeps the solver from spending picture on
    calm that nobody would notice.
    """

    still: float
    even: float
    smooth: float
    tether: float


FOLLOW = Weights(still=1.0, even=10.0, smooth=100.0, tether=1e-3)
LOCK_OFF = Weights(still=30.0, even=3.0, smooth=10.0, tether=2e-4)


@dataclass(frozen=True)
class Freedom:
    """How far each component of the correction may go: shares, 0..1, of what the crop allows."""

    across: float = 1.0
    updown: float = 1.0
    roll: float = 1.0
    size: float = 1.0


def steady_path(
    motion: CameraMotion,
    canvas: Canvas,
    weights: Weights,
    crop: float,
    freedom: Freedom = Freedom(),
) -> Similarities:
    """Corrections ``(n,)`` such that a centred crop of ``crop`` times the size stays covered.

    ``crop`` in 0..1 is the hard bound: every corner of the picture scaled by ``crop`` maps inside
    the source. With ``crop`` 1 there is no room and the result is the identity. Stretches between
    cuts are solved apart. A component without freedom is left exactly as it is. Raises
    ArithmeticError if the solver fails.
    """
    n = len(motion)
    a, b = np.ones(n, complex), np.zeros(n, complex)
    if crop < 1.0 - 1e-9:
        back = motion.trusted.inverse()
        rate = 1.0 / max(float(np.median(np.diff(motion.times))), 1e-4)
        for start, stop in motion.segments:
            if stop - start > 1:
                part = _solve(
                    back[start:stop], canvas, weights, crop, rate, freedom,
                    turns=motion.model != "shift",
                )  # fmt: skip
                a[start:stop], b[start:stop] = part.a, part.b
    return Similarities(a, b)


def _solve(
    back: Similarities, canvas: Canvas, weights: Weights, crop: float, rate: float,
    freedom: Freedom, *, turns: bool,
) -> Similarities:  # fmt: skip
    unit = canvas.radius / HALF_DIAGONAL
    turn, offset = back.a[1:, None], back.b[1:, None] / unit
    if turns:
        turn = np.hstack([np.ones_like(turn), turn])
        offset = np.hstack([LEVER * np.log(back.a[1:, None]), offset])
    # Differences are counted as at the reference rate.
    tau = REFERENCE_RATE / rate
    orders = (weights.still, weights.even / tau, weights.smooth / tau**2)[: len(turn)]
    # Scale may breathe a little either way; the crop is wider by as much, so that zoom and scale
    # together never take more than asked for.
    breath = SCALE_SHARE * (1.0 - crop) if turns else 0.0
    half = canvas.half[0] / unit, canvas.half[1] / unit
    rows, room = _coverage(half, crop / (1.0 - breath), breath, freedom)
    if not turns:
        moves = rows[:, 2:].any(axis=1)
        rows, room = rows[moves, 2:], room[moves]
    q = least_lengths(Differences(turn, offset, orders), weights.tether * tau**2, rows, room)
    shift = _kept(q[:, -1], freedom.across, freedom.updown)
    turned = _kept(q[:, 0], freedom.size, freedom.roll) if turns else np.zeros(len(q))
    return Similarities(np.exp(turned / LEVER), unit * shift)


def _kept(pair: Complex, real: float, imaginary: float) -> Complex:
    """``pair`` with what has no freedom at exactly nothing."""
    return np.asarray((real > 0) * pair.real + 1j * (imaginary > 0) * pair.imag)


def _coverage(
    half: tuple[float, float], size: float, breath: float, freedom: Freedom
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """One frame's bounds ``rows (log scale, turn, x, y) <= room``.

    Scale stays within ``breath``, and each corner of a crop of ``size`` on its side of the source.
    A component whose ``freedom`` is not full stays within its share of what that leaves it.
    ``a`` is taken as ``1 + log a``; what that leaves out is of second order (0.3 px for a roll of
    2 degrees) and is made good by :func:`.coverage.held_below`.
    """
    rows = [[1.0, 0.0, 0.0, 0.0], [-1.0, 0.0, 0.0, 0.0]]
    room = [breath * LEVER * freedom.size] * 2
    for across, down in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        x, y = size * across * half[0] / LEVER, size * down * half[1] / LEVER
        # Corner: Re = size half + (x A - y B) + X, Im likewise.
        rows += [[across * x, -across * y, across, 0.0], [down * y, down * x, 0.0, down]]
        room += [(1.0 - size) * half[0], (1.0 - size) * half[1]]
    most = (1.0 - size) * min(half) / max(half) * LEVER, *((1.0 - size) * np.array(half))
    for place, share in enumerate((freedom.roll, freedom.across, freedom.updown)):
        if share < 1.0:
            for side in (1.0, -1.0):
                rows.append([0.0] * 4)
                rows[-1][1 + place] = side
                room.append(most[place] * share)
    return np.array(rows), np.maximum(room, NO_ROOM)
