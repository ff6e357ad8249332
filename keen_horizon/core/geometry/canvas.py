"""The picture's frame of reference.

*Pixels*: centres at integer coordinates, x right, y down; ``(0, 0)`` is the centre of the
top-left pixel.

*Scene plane*: the same picture with its centre at the origin and square units, one unit being the
height of a source pixel. A point there is the complex number ``u + iv`` (u right, v down), because
a similarity of the plane is then ``z -> a z + b`` (see :mod:`.similarity`). Roll and scale only
mean what they say where pixels are square, so motion and correction are worked out here.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..stored import stored
from ..types import Complex, Points

LARGE = 2560 * 1440  # pixels


def along_sides(corners: Complex, count: int) -> Complex:
    """``(4 count,)`` points along the sides between four corners, the corners among them."""
    share = np.linspace(0, 1, count, endpoint=False)
    sides = corners[:, None] + share * (np.roll(corners, -1) - corners)[:, None]
    return np.asarray(sides.ravel())


@stored
@dataclass(frozen=True)
class Canvas:
    """Size of a picture in pixels, and the width of a pixel over its height."""

    width: int
    height: int
    pixel_aspect: float = 1.0

    @property
    def large(self) -> bool:
        """Whether pictures are so large that few of them are held at a time."""
        return self.width * self.height > LARGE

    @property
    def centre(self) -> tuple[float, float]:
        return (self.width - 1) / 2.0, (self.height - 1) / 2.0

    @property
    def half(self) -> tuple[float, float]:
        """Half extents ``(h_u, h_v)`` between the outermost pixel centres, in scene units."""
        cx, cy = self.centre
        return cx * self.pixel_aspect, cy

    @property
    def corners(self) -> Complex:
        """``(4,)`` the centres of the corner pixels in the scene plane, clockwise from top left."""
        hu, hv = self.half
        return np.array([-hu - 1j * hv, hu - 1j * hv, hu + 1j * hv, -hu + 1j * hv])

    @property
    def radius(self) -> float:
        """Distance of a corner from the centre, in scene units."""
        return float(np.hypot(*self.half))

    def to_scene(self, points: Points) -> Complex:
        """Pixels ``(..., 2)`` to scene plane ``(...)`` complex."""
        cx, cy = self.centre
        return (points[..., 0] - cx) * self.pixel_aspect + 1j * (points[..., 1] - cy)

    def to_pixels(self, scene: Complex) -> Points:
        """Scene plane ``(...)`` complex to pixels ``(..., 2)``."""
        cx, cy = self.centre
        return np.stack([scene.real / self.pixel_aspect + cx, scene.imag + cy], axis=-1)

    @property
    def scene_matrix(self) -> NDArray[np.float64]:
        """``(3, 3)`` matrix of :meth:`to_scene` on homogeneous pixel coordinates."""
        cx, cy = self.centre
        p = self.pixel_aspect
        return np.array([[p, 0.0, -cx * p], [0.0, 1.0, -cy], [0.0, 0.0, 1.0]])
