"""What the editor reshapes by hand, after everything else: square up, edge stretch, swell.

The outermost stage: points of the plane that the view shows, to the steadied plane. All backward,
as everything in the chain.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from ..stored import stored
from ..types import AnyArray, Complex, Frames, Real
from .canvas import Canvas
from .stage import Smoothness, WarpStage

STEEPEST = 3.0  # slope of the pull at an edge: see :func:`edge_stretch_map`
LEAST_SLOPE = 0.1  # of a swell: it pinches, but never folds
NEWTON_ROUNDS = 12  # of undoing a stretch, which rises and bends gently
HALVINGS, POLISHES = 10, 3  # of undoing a swell


@stored
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

    def __getitem__(self, frames: Frames) -> Swell:
        return Swell(
            self.centre[frames], self.radius[frames], self.strength[frames], self.rim, self.twin
        )

    def to_source(self, z: Complex) -> Complex:
        """Points ``(n, m)`` to where they come from."""
        for centre in self._centres:
            away = z - centre[:, None]
            z = centre[:, None] + away * self._factor(np.abs(away) / self.radius[:, None])
        return z

    def to_output(self, z: Complex) -> Complex:
        """And back."""
        for centre in reversed(self._centres):
            away = z - centre[:, None]
            reach = np.abs(away) / self.radius[:, None]
            u = np.where(reach < 1, self._undone(np.minimum(reach, 1.0)), reach)
            z = centre[:, None] + away * np.where(reach > 1e-12, u / np.maximum(reach, 1e-12), 1.0)
        return z

    @property
    def _centres(self) -> tuple[Complex, ...]:
        return (self.centre, -self.centre)[: 1 + self.twin]

    def _undone(self, reach: Real) -> Real:
        """Shares ``(n, m)`` of the radius, 0..1, that are led to ``reach``. It rises everywhere,
        but so unevenly that Newton's method alone may miss; halving brings it near enough."""
        low, high = np.zeros_like(reach), np.ones_like(reach)
        for _ in range(HALVINGS):
            u = (low + high) / 2
            over = u * self._factor(u) > reach
            low, high = np.where(over, low, u), np.where(over, u, high)
        u = (low + high) / 2
        for _ in range(POLISHES):
            step = 1e-6
            here = u * self._factor(u)
            slope = ((u + step) * self._factor(u + step) - here) / step
            u = np.clip(u - (here - reach) / np.maximum(slope, LEAST_SLOPE), low, high)
        return u

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


@stored
@dataclass(frozen=True)
class Reshape(WarpStage):
    """All three; ``homography`` ``(n, 3, 3)`` on scene points, ``pulls`` ``(n, 4)`` shares of the
    half picture by which the left, right, top and bottom are pulled outwards."""

    canvas: Canvas
    homography: Real | None = None
    pulls: Real | None = None
    swell: Swell | None = None

    side: ClassVar[Literal["output", "source"]] = "output"

    @property
    def smoothness(self) -> Smoothness:
        return Smoothness.CURVED

    def __getitem__(self, frames: Frames) -> Reshape:
        return Reshape(
            self.canvas,
            self.homography[frames] if self.homography is not None else None,
            self.pulls[frames] if self.pulls is not None else None,
            self.swell[frames] if self.swell is not None else None,
        )

    def to_source(self, points: Complex) -> Complex:
        z = points
        if self.homography is not None:
            z = _projected(self.homography, z)
        if self.pulls is not None:
            left, right, top, bottom = (self.pulls[:, i, None] for i in range(4))
            hu, hv = self.canvas.half
            across = edge_stretch_map(z.real / hu, left, right)
            z = hu * across + 1j * hv * edge_stretch_map(z.imag / hv, top, bottom)
        return z if self.swell is None else self.swell.to_source(z)

    def to_output(self, points: Complex) -> Complex:
        z = points if self.swell is None else self.swell.to_output(points)
        if self.pulls is not None:
            left, right, top, bottom = (self.pulls[:, i, None] for i in range(4))
            hu, hv = self.canvas.half
            across = _stretch_undone(z.real / hu, left, right)
            z = hu * across + 1j * hv * _stretch_undone(z.imag / hv, top, bottom)
        if self.homography is not None:
            z = _projected(np.asarray(np.linalg.inv(self.homography)), z)
        return z


def _projected(h: AnyArray, z: Complex) -> Complex:
    x, y = z.real, z.imag
    u, v, w = (h[:, i, 0, None] * x + h[:, i, 1, None] * y + h[:, i, 2, None] for i in range(3))
    # What lies behind the horizon of a steep perspective belongs to no pixel.
    w = np.where(w > 1e-3, w, 1e-3)
    return np.asarray(u / w + 1j * v / w)


def edge_stretch_map(u: Real, low: Real, high: Real) -> Real:
    """Coordinates, -1 at one side of the picture and 1 at the other, to where they come from when
    the sides are pulled outwards by shares ``low`` and ``high`` of the half.

    The cube of the distance from the middle: nothing moves there, and all of it at the edge, where
    the picture is stretched by :func:`edge_stretch`.
    """
    d = np.abs(u)
    pull = np.where(d <= 1, d**3, STEEPEST * d - 2)
    return np.asarray(u - np.where(u < 0, -low, high) * pull)


def _stretch_undone(v: Real, low: Real, high: Real) -> Real:
    """The ``u`` that :func:`edge_stretch_map` takes to ``v``, by Newton's method."""
    share = np.where(v < 0, low, high)
    u = np.asarray(v, float)
    for _ in range(NEWTON_ROUNDS):
        d = np.abs(u)
        slope = 1 - share * np.where(d <= 1, STEEPEST * d * d, STEEPEST)
        u = u - (edge_stretch_map(u, low, high) - v) / np.maximum(slope, 0.05)
    return u


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
    """``(n, 3, 3)`` from the rectangle that each quad ``(n, 4)`` becomes to the quad, scene units.

    Corners go round clockwise on screen from top left. The rectangle keeps the quad's middle, its
    area, and the ratio of its mean width to its mean height, so that straightening perspective
    neither moves nor enlarges what it straightens. Raises LinAlgError for three corners in line.

    >>> facade = np.array([[-100 - 80j, 100 - 60j, 100 + 60j, -100 + 80j]])  # smaller to the right
    >>> h = square_up_homographies(facade)[0]
    >>> corner = h @ [-100.99, -69.31, 1]
    >>> bool(np.allclose(corner[:2] / corner[2], [-100, -80], atol=1))
    True
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
