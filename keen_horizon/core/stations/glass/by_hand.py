"""Fall-off and lateral colour by numbers that an editor sees in the picture, and back.

Of fall-off, ``stops`` are lost at radius 1; half of them at ``size``; ``softness`` says how
gradually, between the steepest and the gentlest that r², r⁴ and r⁶ can do for that size without a
negative part.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...errors import BadSetting
from ...types import Real
from .fall_off import TERMS
from .lateral import Lateral

SMALLEST, LARGEST = 0.5**0.5, 0.5 ** (1 / 6)  # radii at which r² and r⁶ have lost half
MOST = 8.0  # stops


@dataclass(frozen=True)
class Shape:
    """``stops`` at radius 1; ``size`` in percent of the half diagonal; ``softness`` 0 to 100."""

    stops: float
    size: float
    softness: float


EVEN = Shape(0.0, 100 * 0.5**0.25, 50.0)  # of a glass that loses nothing


def coefficients(shape: Shape) -> tuple[float, float, float]:
    """The stops by r², r⁴ and r⁶. Raises BadSetting for what they cannot do.

    >>> [round(c, 3) for c in coefficients(Shape(1.0, 100 * 0.5**0.25, 0))]
    [0.0, 1.0, 0.0]
    """
    if not 0 <= shape.stops <= MOST:
        raise BadSetting(f"the loss in the corners is from 0 to {MOST:g} stops.")
    if not 0 <= shape.softness <= 100:
        raise BadSetting("softness is from 0 to 100.")
    steep, gentle = _ends(np.clip(shape.size / 100, SMALLEST, LARGEST))
    share = shape.softness / 100
    r2, r4, r6 = (shape.stops * ((1 - share) * steep + share * gentle)).tolist()
    return r2, r4, r6


def shape_of(stops: tuple[float, float, float]) -> Shape:
    """The shape that comes nearest to coefficients.

    >>> told = shape_of(coefficients(Shape(1.2, 80, 30)))
    >>> round(told.stops, 3), round(told.size, 1), round(told.softness, 1)
    (1.2, 80.0, 30.0)
    """
    total = float(sum(stops))
    if total <= 1e-6:
        return EVEN
    share = np.clip(np.array(stops) / total, 0, None)
    share /= share.sum()
    squares = np.linspace(SMALLEST, LARGEST, 2001) ** 2
    lost = squares[:, None] ** np.arange(1, TERMS + 1) @ share
    size = float(np.sqrt(np.interp(0.5, lost, squares)))
    steep, gentle = _ends(size)
    way = gentle - steep
    length = float(way @ way)
    softness = float((share - steep) @ way) / length if length > 1e-9 else 0.5
    return Shape(total, 100 * size, 100 * float(np.clip(softness, 0, 1)))


def _ends(size: float) -> tuple[Real, Real]:
    """``(3,)`` twice: shares of r², r⁴, r⁶ that lose half at a radius, the steepest and the
    gentlest (which has the most of r² and r⁶)."""
    q = size**2
    powers = np.array([q, q**2, q**3])

    def between(one: int, other: int) -> Real:
        share = np.zeros(TERMS)
        share[one] = (0.5 - powers[other]) / (powers[one] - powers[other])
        share[other] = 1 - share[one]
        return share

    gentle = between(0, 2)
    return (between(0, 1) if powers[1] < 0.5 else between(1, 2)), gentle


FARTHEST = 12.0  # px that a colour can be told to be off


@dataclass(frozen=True)
class Parting:
    """``red`` and ``blue`` px outside of green in the corners; ``outwards``, 0 to 100, how much
    faster than the distance from the middle both grow: by r, or by r³."""

    red: float
    blue: float
    outwards: float


TOGETHER = Parting(0.0, 0.0, 0.0)  # of a glass that parts nothing


def parted_by_hand(parting: Parting, radius: float) -> dict[str, tuple[float, float]]:
    """``red`` and ``blue`` of :class:`.Lateral`, half the diagonal being ``radius`` px. Raises
    BadSetting for what cannot be.

    >>> parted_by_hand(Parting(2.0, 0.0, 25), 1000)["red"]
    (0.0015, 0.0005)
    """
    if max(abs(parting.red), abs(parting.blue)) > FARTHEST:
        raise BadSetting(f"red and blue are at most {FARTHEST:g} px off.")
    if not 0 <= parting.outwards <= 100:
        raise BadSetting("how it grows outwards is from 0 to 100.")
    share = parting.outwards / 100
    told = {"red": parting.red / radius, "blue": parting.blue / radius}
    return {colour: ((1 - share) * far, share * far) for colour, far in told.items()}


def parting_of(lateral: Lateral) -> Parting:
    """The numbers that come nearest to what was found.

    >>> from ...geometry.canvas import Canvas
    >>> from ...picture.radial import RadialField
    >>> field = RadialField(Canvas(801, 601))
    >>> parting_of(Lateral(field, (0.0015, 0.0005), (0.003, 0.001)))
    Parting(red=1.0, blue=2.0, outwards=25.0)
    """
    red, blue = (round(px, 4) for px in lateral.corners())
    # Each colour's say is as large as how far it is off.
    both = np.array([lateral.red, lateral.blue])
    whole = np.abs(both.sum(axis=1))
    grows = np.clip(both[:, 1] / np.where(whole > 1e-9, both.sum(axis=1), 1.0), 0, 1)
    outwards = 100 * float((grows * whole).sum() / max(float(whole.sum()), 1e-9))
    return Parting(red, blue, round(outwards, 3))
