"""Six views that cover the sphere and overlap, in which it looks nearly flat everywhere.

Each looks along an axis and is equiangular: a pixel is the same angle across and down its middle
lines, so that neither poles nor the seam of an equirectangular picture are special, and cells of
equal pixels are nearly equal solid angles.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from ..types import AnyArray, Indices, Points, Rays
from .canvas import Canvas
from .projection import Camera, Equirectangular

REACH = np.radians(53.0)  # from the axis to a view's side; what is its own ends at 45 degrees
# Columns are each view's right, down and forward: ahead, right, behind, left, above, below.
AXES = np.array([
    [[1, 0, 0], [0, 1, 0], [0, 0, 1]],
    [[0, 0, 1], [0, 1, 0], [-1, 0, 0]],
    [[-1, 0, 0], [0, 1, 0], [0, 0, -1]],
    [[0, 0, -1], [0, 1, 0], [1, 0, 0]],
    [[1, 0, 0], [0, 0, -1], [0, 1, 0]],
    [[1, 0, 0], [0, 0, 1], [0, -1, 0]],
], float)  # fmt: skip


@dataclass(frozen=True)
class SphereViews:
    """Views of ``side`` pixels square, drawn from equirectangular pictures of size ``canvas``.

    >>> views = SphereViews(200, Canvas(400, 200))
    >>> at = views.to_pixels(np.array([[0.0, 0.0, 1.0], [0.0, -1.0, 0.0]]), np.array([0, 4]))
    >>> at.round(6).tolist(), views.owners(np.array([[0.1, 0.9, 0.2]])).tolist()
    ([[99.5, 99.5], [99.5, 99.5]], [5])
    """

    side: int
    canvas: Canvas

    @property
    def unit(self) -> float:
        """Pixels of a radian."""
        return self.side / (2 * REACH)

    @property
    def own(self) -> slice:
        """Rows, or columns, of a view that are its own."""
        clear = round((REACH - np.pi / 4) * self.unit)
        return slice(clear, self.side - clear)

    def owners(self, rays: Rays) -> Indices:
        """``(m,)`` which view each of ``(m, 3)`` rays is nearest to the middle of."""
        return np.asarray(np.argmax(rays @ AXES[:, :, 2].T, axis=-1))

    def to_pixels(self, rays: Rays, views: Indices) -> Points:
        """Rays ``(m, 3)`` to pixels ``(m, 2)`` of the ``views`` ``(m,)``; ahead of them only."""
        own = np.einsum("mij,mi->mj", AXES[views], rays)
        angles = np.arctan2(own[:, :2], own[:, 2:])
        return np.asarray(angles * self.unit + (self.side - 1) / 2)

    def to_rays(self, pixels: AnyArray, view: int) -> Rays:
        """Pixels ``(..., 2)`` of a view to unit rays ``(..., 3)``."""
        slope = np.tan((np.asarray(pixels, float) - (self.side - 1) / 2) / self.unit)
        own = np.concatenate([slope, np.ones_like(slope[..., :1])], axis=-1)
        rays = own @ AXES[view].T
        return np.asarray(rays / np.linalg.norm(rays, axis=-1, keepdims=True))

    @cached_property
    def maps(self) -> list[NDArray[np.float32]]:
        """Of each view ``(side, side, 2)``, where its pixels are in an equirectangular picture that
        a column of the other side was added to on either side."""
        camera = Camera(self.canvas, Equirectangular.of(self.canvas))
        y, x = np.mgrid[: self.side, : self.side].astype(float)
        grid = np.stack([x, y], axis=-1)
        found = []
        for view in range(len(AXES)):
            at = camera.to_pixels(self.to_rays(grid, view)) + np.array([1.0, 0.0])
            found.append(at.astype(np.float32))
        return found

    def draw(self, picture: NDArray[np.uint8]) -> list[NDArray[np.uint8]]:
        """The views of an equirectangular ``picture`` ``(height, width)`` of size ``canvas``."""
        around = cv2.copyMakeBorder(picture, 0, 0, 1, 1, cv2.BORDER_WRAP)
        return [
            np.asarray(
                cv2.remap(around, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
            )
            for at in self.maps
        ]
