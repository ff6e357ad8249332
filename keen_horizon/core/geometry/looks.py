"""Flat cameras that look out of a sphere: rectilinear, stereographic, cylindrical.

Each is a projection as :mod:`.projection` has them, told by the angle that it sees across.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..types import Complex, Flags, Rays, Real
from .canvas import Canvas
from .pinhole import Pinhole
from .projection import Camera, Projection

WIDEST = {"rectilinear": 120.0, "stereographic": 330.0, "cylindrical": 360.0}
"""The projections, each with the most degrees across that it can be asked for."""
NARROWEST = 5.0


@dataclass(frozen=True)
class Stereographic:
    """Circles stay circles; what lies behind is far out: ``z = 2 unit tan(angle / 2)`` away from
    the middle. ``unit`` is the scene units of a radian there.

    >>> behind = Stereographic(100.0).to_rays(np.array([200 + 0j]))
    >>> behind.round(6).tolist()
    [[1.0, 0.0, 0.0]]
    """

    unit: float

    wraps = False

    def to_plane(self, rays: Rays) -> Complex:
        length = np.linalg.norm(rays, axis=-1)
        return np.asarray(
            2 * self.unit * (rays[..., 0] + 1j * rays[..., 1])
            / np.maximum(length + rays[..., 2], 1e-12)
        )  # fmt: skip

    def to_rays(self, plane: Complex) -> Rays:
        x, y = plane.real / (2 * self.unit), plane.imag / (2 * self.unit)
        square = x * x + y * y
        return np.stack([2 * x, 2 * y, 1 - square], axis=-1) / (1 + square)[..., None]

    def reaches(self, rays: Rays) -> Flags:
        return np.ones(rays.shape[:-1], bool)


@dataclass(frozen=True)
class Cylindrical:
    """Uprights stay upright and even, however far round: across by the angle, down by the slope.

    >>> Cylindrical(100.0).to_plane(np.array([1.0, 1.0, 0.0])).round(3).item()
    (157.08+100j)
    """

    unit: float

    wraps = False

    def to_plane(self, rays: Rays) -> Complex:
        level = np.maximum(np.hypot(rays[..., 0], rays[..., 2]), 1e-12)
        longitude = np.arctan2(rays[..., 0], rays[..., 2])
        return np.asarray(self.unit * (longitude + 1j * rays[..., 1] / level))

    def to_rays(self, plane: Complex) -> Rays:
        longitude, slope = plane.real / self.unit, plane.imag / self.unit
        return np.stack([np.sin(longitude), slope, np.cos(longitude)], axis=-1)

    def reaches(self, rays: Rays) -> Flags:
        return np.ones(rays.shape[:-1], bool)


def flat_camera(canvas: Canvas, projection: str, angle: float) -> Camera:
    """The camera of a ``projection`` of :data:`WIDEST` that sees ``angle`` degrees across. Raises
    ValueError for one that it cannot.

    >>> half = flat_camera(Canvas(201, 101), "cylindrical", 180)
    >>> half.to_pixels(np.array([1.0, 0, 0])).round(6).tolist()
    [200.0, 50.0]
    """
    if not NARROWEST <= angle <= WIDEST[projection]:
        raise ValueError(
            f"a {projection} view sees {NARROWEST:g} to {WIDEST[projection]:g} degrees across, not "
            f"{angle:g}"
        )
    half, turn = canvas.half[0], np.radians(angle) / 2
    made: Projection
    if projection == "rectilinear":
        made = Pinhole(float(half / np.tan(turn)))
    elif projection == "stereographic":
        made = Stereographic(float(half / (2 * np.tan(turn / 2))))
    else:
        made = Cylindrical(float(half / turn))
    return Camera(canvas, made)


def look_matrix(yaw: float, pitch: float, roll: float) -> Rays:
    """``(3, 3)`` from rays of a flat camera to those of the sphere that it looks out of: turned
    ``yaw`` to the right, then ``pitch`` upwards, then ``roll`` clockwise, radians.

    >>> (look_matrix(np.pi / 2, 0, 0) @ [0, 0, 1]).round(6).tolist()
    [1.0, 0.0, 0.0]
    >>> (look_matrix(0, np.pi / 2, 0) @ [0, 0, 1]).round(6).tolist()
    [0.0, -1.0, 0.0]
    """
    (cy, sy), (cp, sp), (cr, sr) = ((np.cos(a), np.sin(a)) for a in (yaw, pitch, roll))
    turn = np.array([[cy, 0, sy], [0, 1, 0], [-sy, 0, cy]])
    nod = np.array([[1, 0, 0], [0, cp, -sp], [0, sp, cp]])
    lean = np.array([[cr, -sr, 0], [sr, cr, 0], [0, 0, 1]])
    return np.asarray(turn @ nod @ lean)


def look_rays(yaw: Real, pitch: Real) -> Rays:
    """``(n, 3)`` unit rays along which cameras look that are turned so, ``(n,)`` radians each."""
    level = np.cos(pitch)
    return np.stack([level * np.sin(yaw), -np.sin(pitch), level * np.cos(yaw)], axis=-1)


def great_circle(one: Rays, other: Rays, share: Real) -> Rays:
    """``(k, 3)`` unit rays at ``share`` ``(k,)`` of the way from one ``(3,)`` to another (Shoemake,
    *Animating rotation with quaternion curves*, SIGGRAPH 1985).

    >>> great_circle(np.array([0, 0, 1]), np.array([1, 0, 0]), np.array([0.5])).round(4).tolist()
    [[0.7071, 0.0, 0.7071]]
    """
    far = np.arccos(np.clip(one @ other, -1, 1))
    if far < 1e-9:
        return np.broadcast_to(one, (len(share), 3))
    parts = np.sin((1 - share) * far)[:, None] * one + np.sin(share * far)[:, None] * other
    return np.asarray(parts / np.sin(far))
