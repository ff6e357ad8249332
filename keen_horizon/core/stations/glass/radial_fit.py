"""What the ways of finding out about a glass share: how much its numbers bear on a place, weights
that fade with the distance, and what is said of a fall-off."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from ...geometry.canvas import Canvas
from ...picture.radial import RadialField, even_powers
from ...types import Points, Real
from .fall_off import TERMS, FallOff, settings_of

FARTHEST = 0.2  # shares of the picture that the middle may be off at all
LATTICE = (33, 19)  # places over which something is told of the whole picture
LEAST = 1e-6  # weight of what does not agree at all


@dataclass(frozen=True)
class FallOffFit:
    """What was found. ``doubt`` is the standard deviation of the stops over the picture, rms;
    ``residual`` what sightings of one mark still differ by, stops, robust; ``marks`` how many told;
    ``words`` say it, and ``found_by`` in what it was found."""

    fall_off: FallOff | None
    doubt: float
    residual: float
    marks: int
    words: str
    found_by: Literal["clip", "even"] = "clip"

    @property
    def settings(self) -> dict[str, Any] | None:
        """Those of the station, if anything was found."""
        if self.fall_off is None:
            return None
        return settings_of(self.fall_off, self.found_by, self.doubt)


def faded(off: Real, reach: float) -> Real:
    """``(...)`` weights of what is ``off``: 1 at nothing, next to none from ``reach`` on (Beaton,
    Tukey, *The fitting of power series*, Technometrics 1974)."""
    return np.asarray((1 - np.clip(off / reach, -1, 1) ** 2) ** 2 + LEAST)


def field_at(canvas: Canvas, middle: Real) -> RadialField:
    """The field about a ``middle`` ``(2,)``, shares of the picture from its own."""
    return RadialField(canvas, (float(middle[0]), float(middle[1])))


def fall_off_at(field: RadialField, stops: Real) -> FallOff:
    """The fall-off with coefficients ``(TERMS,)``."""
    return FallOff(field, (float(stops[0]), float(stops[1]), float(stops[2])))


def radial_slopes(field: RadialField, places: Points, stops: Real) -> Real:
    """``(m, TERMS + 2)`` by how much the stops lost at pixels ``(m, 2)`` change with each
    coefficient, and with the middle's place in shares of the picture."""
    canvas = field.canvas
    off = field.offsets(places)
    powers = even_powers((off**2).sum(axis=1), TERMS)
    inner = np.concatenate([np.ones((len(places), 1)), powers[:, :-1]], axis=1)
    rate = inner @ (stops * np.arange(1, TERMS + 1))  # by the radius squared
    sides = np.array([canvas.width * canvas.pixel_aspect, canvas.height]) / canvas.radius
    return np.concatenate([powers, -2 * rate[:, None] * off * sides], axis=1)


def lost_doubt(field: RadialField, stops: Real, covariance: Real, places: Points) -> Real:
    """``(m,)`` the standard deviation of the stops at pixels ``(..., 2)`` against the middle, by
    the ``covariance`` of coefficients and middle."""
    slopes = radial_slopes(field, places.reshape(-1, 2), stops)
    along = slopes - radial_slopes(field, np.array([field.canvas.centre]), stops)
    variance = np.einsum("ij,jk,ik->i", along, covariance, along)
    return np.asarray(np.sqrt(np.clip(variance, 0, None)))
