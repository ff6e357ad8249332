"""What the editor reshapes by hand, after everything else: square up, edge stretch, swell.

The last part of the view: points of the output's plane, zoom and offset undone, to the steadied
plane. All backward, as everything in the chain.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .canvas import Canvas, Complex

Real = NDArray[np.float64]
STEEPEST = 3.0  # slope of the pull at an edge: see :func:`edge_stretch_map`
LEAST_SLOPE = 0.1  # of a swell: it pinches, but never folds


@dataclass(frozen=True)
class Swell:
    """Discs that are magnified. ``centre`` complex and ``radius`` in scene units, ``strength``,
    each ``(n,)``; ``rim`` 0..1, the share of the radius over which it fades; with ``twin`` another
    one opposite, across the picture's centre."""

    centre: Complex
    radius: Real
    strength: Real
    rim: float
    twin: bool

    def __getitem__(self, frames: slice | NDArray[np.intp]) -> Swell:
        return Swell(
            self.centre[frames], self.radius[frames], self.strength[frames], self.rim, self.twin
        )

    def apply(self, z: Complex) -> Complex:
        """Points ``(n, m)`` to where they come from."""
        for centre in (self.centre, -self.centre)[: 1 + self.twin]:
            away = z - centre[:, None]
            z = centre[:, None] + away * self._factor(np.abs(away) / self.radius[:, None])
        return z

    def _factor(self, u: Real) -> Real:
        v = np.clip((1 - u) / self.rim, 0.0, 1.0)
        return np.asarray(1 + (1 / self.strength[:, None] - 1) * v * v * (3 - 2 * v))


def mildest_pinch(rim: float) -> float:
    """The least strength at which a swell with that rim does not fold.

    >>> round(mildest_pinch(1.0), 2), round(mildest_pinch(0.5), 2)
    (0.43, 0.69)
    """
    u = np.linspace(0, 1, 401)
    v = np.clip((1 - u) / rim, 0.0, 1.0)
    w = v * v * (3 - 2 * v)
    falls = -np.gradient(u * w, u).min()
    return float(1 / (1 + (1 - LEAST_SLOPE) / max(falls, 1e-9)))


@dataclass(frozen=True)
class Shape:
    """All three; ``homography`` ``(n, 3, 3)`` on scene points, ``pulls`` ``(n, 4)`` shares of the
    half picture by which the left, right, top and bottom are pulled outwards."""

    canvas: Canvas
    homography: Real | None = None
    pulls: Real | None = None
    swell: Swell | None = None

    def __getitem__(self, frames: slice | NDArray[np.intp]) -> Shape:
        return Shape(
            self.canvas,
            self.homography[frames] if self.homography is not None else None,
            self.pulls[frames] if self.pulls is not None else None,
            self.swell[frames] if self.swell is not None else None,
        )

    def apply(self, z: Complex) -> Complex:
        """Points ``(n, m)``, those of a frame a row, to the steadied plane."""
        if self.homography is not None:
            h = self.homography[:, :, :, None]
            x, y = z.real, z.imag
            u, v, w = (h[:, i, 0] * x + h[:, i, 1] * y + h[:, i, 2] for i in range(3))
            # What lies behind the horizon of a steep perspective belongs to no pixel.
            w = np.where(w > 1e-3, w, 1e-3)
            z = u / w + 1j * v / w
        if self.pulls is not None:
            left, right, top, bottom = (self.pulls[:, i, None] for i in range(4))
            hu, hv = self.canvas.half
            z = hu * edge_stretch_map(z.real / hu, left, right) + 1j * hv * edge_stretch_map(
                z.imag / hv, top, bottom
            )
        return z if self.swell is None else self.swell.apply(z)


def edge_stretch_map(u: Real, low: Real, high: Real) -> Real:
    """Coordinates, -1 at one side of the picture and 1 at the other, to where they come from when
    the sides are pulled outwards by shares ``low`` and ``high`` of the half.

    The cube of the distance from the middle: nothing moves there, and all of it at the edge, where
    the picture is stretched by :func:`edge_stretch`.
    """
    d = np.abs(u)
    pull = np.where(d <= 1, d**3, STEEPEST * d - 2)
    return np.asarray(u - np.where(u < 0, -low, high) * pull)


def edge_stretch(pull: float) -> float:
    """Percent by which a pull stretches the picture at its edge.

    >>> round(edge_stretch(0.1))
    43
    """
    return 100.0 * (1 / (1 - STEEPEST * pull) - 1)


def is_convex(quad: Complex) -> bool:
    """Whether four corners, clockwise on screen from top left, go round without crossing."""
    side = np.roll(quad, -1) - quad
    turn = (side.conj() * np.roll(side, -1)).imag
    return bool((turn > 1e-9 * np.abs(side).max() ** 2).all())


def square_up_homographies(quads: Complex) -> Real:
    """``(n, 3, 3)`` from the rectangle that each quad ``(n, 4)`` becomes to the quad.

    The rectangle keeps the quad's middle, its area, and the ratio of its mean width to its mean
    height, so that straightening perspective neither moves nor enlarges what it straightens.
    """
    following = np.roll(quads, -1, axis=1)
    area = 0.5 * np.abs((quads.conj() * following).imag.sum(axis=1))
    sides = np.abs(following - quads)
    width, height = (sides[:, 0] + sides[:, 2]) / 2, (sides[:, 1] + sides[:, 3]) / 2
    w = np.sqrt(area * width / np.maximum(height, 1e-9)) / 2
    h = area / np.maximum(4 * w, 1e-9)
    middle = quads.mean(axis=1)
    flat = np.stack([-w - 1j * h, w - 1j * h, w + 1j * h, -w + 1j * h], axis=1) + middle[:, None]
    return _homographies(flat, quads)


def _homographies(p: Complex, q: Complex) -> Real:
    """``(n, 3, 3)`` taking four points ``(n, 4)`` to four others exactly."""
    n = len(p)
    unit = np.abs(p).max() + np.abs(q).max()
    x, y, u, v = (part / unit for part in (p.real, p.imag, q.real, q.imag))
    zero, one = np.zeros_like(x), np.ones_like(x)
    rows = np.concatenate(
        [
            np.stack([x, y, one, zero, zero, zero, -u * x, -u * y], -1),
            np.stack([zero, zero, zero, x, y, one, -v * x, -v * y], -1),
        ],
        axis=1,
    )
    found = np.linalg.solve(rows, np.concatenate([u, v], axis=1)[..., None])[..., 0]
    h = np.concatenate([found, np.ones((n, 1))], axis=1).reshape(n, 3, 3)
    grow = np.diag([unit, unit, 1.0])
    return np.asarray(grow @ h @ np.linalg.inv(grow))
