"""The part of a recorded picture in which there is a picture.

A sensor has four sides; a hood, a filter's ring or a mount may cut further parts off. What is left
is told as a convex polygon, by the half-planes that it is the intersection of: whether a point is
inside, and how far from the nearest side, is linear in the point, as the path's bounds, the zoom in
closed form and the largest rectangle need it.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from ..stored import stored
from ..types import Complex, Flags, Points, Real
from .canvas import Canvas

ROUNDS = 3  # of pulling points in, one side after the other
ALIKE = 1.0  # scene units by which a side may lie inside the picture's and be the same
SHORTEST = 1e-6  # a side, scene units


@stored
@dataclass(frozen=True)
class LiveArea:
    """A convex part of a picture of size ``canvas``, the picture's own sides among its own.

    A point ``p`` of the scene plane is inside where ``Re(conj(normals) p) <= reaches``: ``(k,)``
    outward unit normals, and scene units from the picture's centre.
    """

    canvas: Canvas
    normals: Complex
    reaches: Real

    @classmethod
    def whole(cls, canvas: Canvas) -> LiveArea:
        """All of the picture, to the middles of its outermost pixels.

        >>> LiveArea.whole(Canvas(161, 91)).reaches.tolist()
        [80.0, 80.0, 45.0, 45.0]
        """
        hu, hv = canvas.half
        return cls(canvas, np.array([1, -1, 1j, -1j]), np.array([hu, hu, hv, hv]))

    @classmethod
    def within(cls, canvas: Canvas, outline: Points) -> LiveArea:
        """What lies in the picture and in the convex hull of ``outline`` ``(m, 2)``, shares of the
        picture. Raises ValueError for fewer than three places, or places on a line.

        >>> five = np.array([[0, 0], [0.5, 0], [1, 0.5], [1, 1], [0, 1]])
        >>> cut = LiveArea.within(Canvas(161, 91), five)
        >>> len(cut.normals), bool(cut.room(np.array([70 - 40j]))[0] < 0)
        (5, True)
        """
        size = np.array([canvas.width, canvas.height])
        hull = cv2.convexHull((outline * size - 0.5).astype(np.float32)[:, None], clockwise=True)
        corners = canvas.to_scene(hull[:, 0].astype(float))
        along = np.roll(corners, -1) - corners
        sides = np.abs(along) > SHORTEST
        corners, along = corners[sides], along[sides]
        area = 0.5 * (np.conj(corners) * np.roll(corners, -1)).imag.sum()
        if len(corners) < 3 or abs(area) < 1e-3 * canvas.half[0] * canvas.half[1]:
            raise ValueError("an outline needs three places that are not on a line")
        normals = -1j * along / np.abs(along) * np.sign(area)
        reaches = (np.conj(normals) * corners).real
        all_of_it = cls.whole(canvas)
        # A side that is the picture's, or beyond it, adds nothing.
        most = _support(canvas.corners, normals)
        adds = reaches < most - ALIKE
        return cls(
            canvas,
            np.concatenate([all_of_it.normals, normals[adds]]),
            np.concatenate([all_of_it.reaches, reaches[adds]]),
        )

    @property
    def is_whole(self) -> bool:
        return len(self.normals) == 4

    @property
    def cuts(self) -> tuple[Complex, Real]:
        """``normals`` and ``reaches`` of the sides that are not the picture's."""
        return self.normals[4:], self.reaches[4:]

    def room(self, points: Complex) -> Real:
        """``(...)`` scene units from points to the nearest side; negative outside."""
        left = np.full(points.shape, np.inf)
        for normal, reach in zip(self.normals.tolist(), self.reaches.tolist(), strict=True):
            if normal.imag == 0:
                along = points.real * normal.real
            elif normal.real == 0:
                along = points.imag * normal.imag
            else:
                along = points.real * normal.real + points.imag * normal.imag
            np.minimum(left, reach - along, out=left)
        return left

    def covers(self, points: Complex, slack: float = 0.0) -> Flags:
        """``(...)`` whether points are inside, or ``slack`` scene units beyond."""
        return np.asarray(self.room(points) >= -slack)

    def shrunk(self, by: float) -> LiveArea:
        """The part that is ``by`` scene units clear of every side."""
        return LiveArea(self.canvas, self.normals, self.reaches - by)

    def pulled_in(self, points: Complex) -> Complex:
        """Points brought to the nearest side where they are outside; as good as the nearest place
        (projections in turn: Bregman, *Finding the common point of convex sets*, 1965)."""
        hu, hv = self.canvas.half
        found = np.clip(points.real, -hu, hu) + 1j * np.clip(points.imag, -hv, hv)
        for _ in range(0 if self.is_whole else ROUNDS):
            for normal, reach in zip(*self.cuts, strict=True):
                over = np.maximum((np.conj(normal) * found).real - reach, 0.0)
                found = found - over * normal
            found = np.clip(found.real, -hu, hu) + 1j * np.clip(found.imag, -hv, hv)
        return np.asarray(found)

    @cached_property
    def corners(self) -> Complex:
        """``(m,)`` its corners in the scene plane, clockwise on screen."""
        shape = self.canvas.corners
        for normal, reach in zip(*self.cuts, strict=True):
            shape = _cut(shape, complex(normal), float(reach))
        return shape

    @property
    def share(self) -> float:
        """Its area over the picture's, 0..1."""
        hu, hv = self.canvas.half
        shape = self.corners
        area = 0.5 * abs((np.conj(shape) * np.roll(shape, -1)).imag.sum())
        return float(area / (4 * hu * hv))

    @property
    def outline(self) -> Points:
        """``(m, 2)`` its corners in shares of the picture."""
        size = np.array([self.canvas.width, self.canvas.height])
        return np.asarray((self.canvas.to_pixels(self.corners) + 0.5) / size)

    @property
    def sides(self) -> Real:
        """``(k, 3)`` of the sides that are not the picture's: places ``(x, y)`` in shares of it are
        outside where ``a x + b y > c``."""
        normals, reaches = self.cuts
        width, height = self.canvas.width * self.canvas.pixel_aspect, float(self.canvas.height)
        across, down = normals.real * width, normals.imag * height
        return np.stack([across, down, reaches + (across + down) / 2], axis=-1)

    def zoom(self, rim: Complex) -> float:
        """The least zoom, of at least 1, at which ``rim`` ``(m,)`` is inside; infinite where the
        picture's centre is not."""
        if (self.reaches <= 0).any():
            return float("inf")
        return float(max(1.0, (_support(rim, self.normals) / self.reaches).max()))

    def mask(self, width: int, height: int) -> NDArray[np.uint8]:
        """``(height, width)`` 255 for the pixels that are inside, else 0."""
        drawn = np.full((height, width), 255, np.uint8)
        if not self.is_whole:
            drawn[:] = 0
            places = np.rint(16 * self.canvas.to_pixels(self.corners)).astype(np.int32)
            cv2.fillConvexPoly(drawn, places, 255, shift=4)
        return drawn


def _support(points: Complex, normals: Complex) -> Real:
    """``(k,)`` how far points ``(m,)`` reach along each normal."""
    return np.asarray((np.conj(normals)[:, None] * points).real.max(axis=1))


def _cut(shape: Complex, normal: complex, reach: float) -> Complex:
    """What of a convex polygon ``(m,)`` lies on the inner side of a line (Sutherland, Hodgman,
    *Reentrant polygon clipping*, CACM 1974)."""
    if not len(shape):
        return shape
    over = (np.conj(normal) * shape).real - reach
    kept: list[complex] = []
    for k in range(len(shape)):
        here, there = complex(shape[k - 1]), complex(shape[k])
        out, next_out = float(over[k - 1]), float(over[k])
        if (out > 0) != (next_out > 0):
            kept.append(here + out / (out - next_out) * (there - here))
        if next_out <= 0:
            kept.append(there)
    return np.array(kept, complex)
