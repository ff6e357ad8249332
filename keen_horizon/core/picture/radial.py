"""Even polynomials of the distance from a glass's middle: light that is lost, colours that part.

*Radius*: 1 at half the picture's diagonal from the middle, measured where pixels are square; the
middle of the glass need not be that of the picture, and what is round may be seen as an ellipse.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..geometry.canvas import Canvas
from ..types import Points, Real


@dataclass(frozen=True)
class RadialField:
    """Where a glass's middle is in a picture, and how far from it a place is.

    ``centre`` right of and below the picture's, in shares of its width and height. ``roundness``
    is the width of what is round over its height: above 1 it is wider than high.
    """

    canvas: Canvas
    centre: tuple[float, float] = (0.0, 0.0)
    roundness: float = 1.0

    def offsets(self, points: Points) -> Points:
        """``(..., 2)`` from the middle of the glass to pixels ``(..., 2)``, in radii.

        >>> field = RadialField(Canvas(161, 121))
        >>> field.offsets(np.array([[80.0, 60], [160, 120]])).round(2).tolist()
        [[0.0, 0.0], [0.8, 0.6]]
        """
        canvas = self.canvas
        width, height = canvas.width * canvas.pixel_aspect, canvas.height
        scene = canvas.to_scene(np.asarray(points, float))
        across = (scene.real - self.centre[0] * width) / canvas.radius
        down = (scene.imag - self.centre[1] * height) / canvas.radius
        root = np.sqrt(self.roundness)
        return np.stack([across / root, down * root], axis=-1)

    @property
    def unit(self) -> Real:
        """``(2,)`` how many pixels, across and down, a radius of 1 is, of what is round."""
        return np.array([self.canvas.radius / self.canvas.pixel_aspect, self.canvas.radius])

    @property
    def shares(self) -> Real:
        """``(4,)`` the middle, x and y, and the radii across and down, in shares of the picture:
        what a graphics card goes by."""
        canvas = self.canvas
        width, height = canvas.width * canvas.pixel_aspect, float(canvas.height)
        root = np.sqrt(self.roundness)
        middle = 0.5 + self.centre[0], 0.5 + self.centre[1]
        return np.array([*middle, canvas.radius * root / width, canvas.radius / root / height])

    def squared(self, points: Points) -> Real:
        """``(...)`` the radius squared at pixels ``(..., 2)``."""
        return np.asarray((self.offsets(points) ** 2).sum(axis=-1))


def even_powers(squared: Real, count: int) -> Real:
    """``(..., count)`` r², r⁴, … of radii given by their squares."""
    return np.asarray(squared[..., None] ** np.arange(1, count + 1))
