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
from ..motion.camera_motion import CameraMotion
from .conic_solver import least_lengths
from .differences import Differences

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
ANCHOR = 10.0  # price of moving the frame that gives the view: all but forbidden


@dataclass(frozen=True)
class Freedom:
    """How far each component of the correction may go: shares, 0..1, of what the crop allows."""

    across: float = 1.0
    updown: float = 1.0
    roll: float = 1.0
    size: float = 1.0


def lock_off(slack: float) -> Weights:
    """What a lock-off is worth with ``slack`` 0..100: with all of it a slow drift costs little."""
    share = slack / 100.0
    return Weights(
        still=LOCK_OFF.still * (0.05 / LOCK_OFF.still) ** share,
        even=LOCK_OFF.even * (20.0 / LOCK_OFF.even) ** share,
        smooth=LOCK_OFF.smooth * (FOLLOW.smooth / LOCK_OFF.smooth) ** share,
        tether=LOCK_OFF.tether,
    )


def steady_path(
    motion: CameraMotion,
    canvas: Canvas,
    weights: Weights,
    crop: float | NDArray[np.float64],
    freedom: Freedom = Freedom(),
    margin: float | NDArray[np.float64] = 0.0,
    anchor: int | None = None,
    rim: tuple[float, float] | None = None,
) -> Similarities:
    """Corrections ``(n,)`` such that a centred crop of ``crop`` times the size stays covered.

    ``crop`` in 0..1, one or ``(n,)``, is the hard bound: every corner of the picture scaled by
    ``crop`` maps inside the source, and ``margin`` scene units clear of its edge. With ``crop`` 1
    there is no room and the result is the identity. ``anchor`` is a frame that should stay as it
    is. ``rim`` is the half width and height shown at zoom 1, if not the picture's. Stretches
    between cuts are solved apart. A component without freedom is left exactly as it is. Raises
    ArithmeticError if the solver fails.
    """
    n = len(motion)
    crops = np.broadcast_to(np.asarray(crop, float), n)
    margins = np.broadcast_to(np.asarray(margin, float), n)
    a, b = np.ones(n, complex), np.zeros(n, complex)
    back = motion.trusted.inverse()
    rate = 1.0 / max(float(np.median(np.diff(motion.times))), 1e-4)
    for start, stop in motion.segments:
        if stop - start < 2 or crops[start:stop].min() >= 1.0 - 1e-9:
            continue
        tethers = np.full(stop - start, weights.tether)
        if anchor is not None and start <= anchor < stop:
            tethers[anchor - start] = ANCHOR
        part = _solve(
            back[start:stop], canvas, weights, tethers,
            crops[start:stop], margins[start:stop], rate, freedom,
            rim or canvas.half, turns=motion.model != "shift",
        )  # fmt: skip
        a[start:stop], b[start:stop] = part.a, part.b
    return Similarities(a, b)


def _solve(
    back: Similarities, canvas: Canvas, weights: Weights, tethers: NDArray[np.float64],
    crops: NDArray[np.float64], margins: NDArray[np.float64], rate: float, freedom: Freedom,
    rim: tuple[float, float], *, turns: bool,
) -> Similarities:  # fmt: skip
    unit = canvas.radius / HALF_DIAGONAL
    turn, offset = back.a[1:, None], back.b[1:, None] / unit
    if turns:
        turn = np.hstack([np.ones_like(turn), turn])
        offset = np.hstack([LEVER * np.log(back.a[1:, None]), offset])
    # Differences are counted as at the reference rate.
    tau = REFERENCE_RATE / rate
    orders = (weights.still, weights.even / tau, weights.smooth / tau**2)[: len(turn)]
    half = canvas.half[0] / unit, canvas.half[1] / unit
    shown = min(half[0], rim[0] / unit), min(half[1], rim[1] / unit)
    rows, room = _coverage(half, shown, crops, margins / unit, freedom, turns=turns)
    if not turns:
        moves = rows[:, 2:].any(axis=1)
        rows, room = rows[moves, 2:], room[:, moves]
    q = least_lengths(Differences(turn, offset, orders), tethers * tau**2, rows, room)
    shift = _kept(q[:, -1], freedom.across, freedom.updown)
    turned = _kept(q[:, 0], freedom.size, freedom.roll) if turns else np.zeros(len(q))
    return Similarities(np.exp(turned / LEVER), unit * shift)


def _kept(pair: Complex, real: float, imaginary: float) -> Complex:
    """``pair`` with what has no freedom at exactly nothing."""
    return np.asarray((real > 0) * pair.real + 1j * (imaginary > 0) * pair.imag)


def _coverage(
    half: tuple[float, float], shown: tuple[float, float], crops: NDArray[np.float64],
    margins: NDArray[np.float64], freedom: Freedom, *, turns: bool,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:  # fmt: skip
    """The bounds ``rows (log scale, turn, x, y) <= room``, ``(j, 4)`` and ``(n, j)``.

    ``shown`` is what the output shows of the picture's ``half`` extents at zoom 1. Scale stays
    within a breath, and each corner of the crop of that on its side of the source, ``margins``
    clear of its edge. Scale may breathe a little either way; the crop is wider by as much, so that
    zoom and scale together never take more than asked for. A component whose ``freedom`` is not
    full stays within its share of what that leaves it. ``a`` is taken as ``1 + log a``; what that
    leaves out is of second order (0.3 px for a roll of 2 degrees) and is made good by
    :func:`.coverage.clip_to_zoom`. So is what turns cost in frames with a smaller crop than others.
    """
    breath = SCALE_SHARE * (1.0 - crops) if turns else np.zeros_like(crops)
    sizes = crops / (1.0 - breath)
    size = float(sizes.max())
    rows = [[1.0, 0.0, 0.0, 0.0], [-1.0, 0.0, 0.0, 0.0]]
    room = [breath * LEVER * freedom.size] * 2
    spare = [np.maximum(h - sizes * s - margins, 0.0) for h, s in zip(half, shown, strict=True)]
    for across, down in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        x, y = size * across * shown[0] / LEVER, size * down * shown[1] / LEVER
        # Corner: Re = size half + (x A - y B) + X, Im likewise.
        rows += [[across * x, -across * y, across, 0.0], [down * y, down * x, 0.0, down]]
        room += spare
    most = (1.0 - sizes) * min(half) / max(half) * LEVER, *spare
    for place, share in enumerate((freedom.roll, freedom.across, freedom.updown)):
        if share < 1.0:
            for side in (1.0, -1.0):
                rows.append([0.0] * 4)
                rows[-1][1 + place] = side
                room.append(most[place] * share)
    return np.array(rows), np.maximum(np.stack(room, axis=-1), NO_ROOM)
