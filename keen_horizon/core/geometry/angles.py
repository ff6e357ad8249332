"""Angles of view: what a lens takes in, and the focal length that takes in so much."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..types import Real
from .distortion import Distortion
from .lens import Lens, picture_width


@dataclass(frozen=True)
class Angles:
    """Angles of view in degrees; NaN where the lens model does not reach the picture's edge."""

    across: float
    updown: float
    diagonal: float


def angles_of(lens: Lens) -> Angles:
    """What the recorded picture takes in, from outer edge to outer edge."""
    canvas = lens.canvas
    hu, hv = picture_width(canvas) / 2, canvas.height / 2
    centre = complex(np.asarray(lens.centre).reshape(-1)[0])
    focal = float(np.asarray(lens.focal).reshape(-1)[0])
    places = np.array([-hu, hu, -1j * hv, 1j * hv, -hu - 1j * hv, hu + 1j * hv])
    rays = lens.distortion.unproject((places - centre) / focal)
    return Angles(*(float(np.degrees(_between(*rays[i : i + 2]))) for i in (0, 2, 4)))


def straight_angles(width: float, height: float, focal: float) -> Angles:
    """Those of a rectilinear picture of so many units across and down, and ``focal`` of them."""
    halves = np.array([width, height, np.hypot(width, height)]) / 2
    return Angles(*np.degrees(2 * np.arctan(halves / focal)).tolist())


def focal_of(diagonal: float, width: float, height: float, distortion: Distortion) -> float:
    """The focal length of a lens with ``distortion`` that takes in ``diagonal`` degrees from corner
    to corner of a picture of ``width`` x ``height`` units; in those units.

    >>> round(focal_of(90.0, 16.0, 9.0, Distortion()), 4)
    9.1788
    """
    reach = distortion.radius_of_angle(float(np.radians(diagonal)) / 2)
    return float(np.hypot(width, height) / 2 / reach)


def displacement_curve(lens: Lens, points: int = 49) -> tuple[Real, Real]:
    """How far straightening moves the picture outwards, ``(points,)`` each: distances from the
    optical centre and displacements, both in percent of the half-diagonal; NaN beyond the reach."""
    radius = float(np.hypot(picture_width(lens.canvas), lens.canvas.height)) / 2
    focal = float(np.asarray(lens.focal).reshape(-1)[0])
    away = np.linspace(0, 1, points)
    straight = np.abs(lens.distortion.undistort((away * radius / focal).astype(complex))) * focal
    return 100 * away, 100 * (straight / radius - away)


def _between(one: Real, two: Real) -> float:
    """The angle between two rays through the axis, up to a full turn."""
    # Halves: each from the axis, so that more than 180 degrees are told.
    turns = [np.arctan2(np.hypot(ray[0], ray[1]), ray[2]) for ray in (one, two)]
    return float(sum(turns))
