"""A lens in front of a picture: straight rays to bent picture and back, frame by frame.

Both sides are scene planes (see :mod:`..geometry.canvas`): the *straight plane*, in which straight
things are straight, and the picture as it was recorded. The straight plane is magnified by
``scale`` at the optical centre, chosen by :func:`scale_to_cover` such that the source's own
rectangle is just covered: "zoom 1" then shows a whole picture without a bare edge, with a lens as
without one.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas, Complex, along_sides
from .distortion import Distortion

Real = NDArray[np.float64]
FAR = 4.0  # half-diagonals from the centre: where points go that no source pixel belongs to
RIM = 24  # points along each side of the picture at which covering is tried
LEVELS = 40  # halvings of what is not known of a scale
WIDEST_SCALE, NARROWEST_SCALE = 0.05, 20.0
STEEPEST = 8.0  # local magnification beyond which a mark is too coarse to steer by


@dataclass(frozen=True)
class Lens:
    """A distortion with its focal length and centre in scene units of ``canvas``.

    ``focal``, ``centre`` (complex), ``share`` of the correction (0..1) and ``scale`` are one for
    all frames or arrays ``(n,)``.
    """

    canvas: Canvas
    distortion: Distortion
    focal: float | Real
    centre: complex | Complex = 0j
    share: float | Real = 1.0
    scale: float | Real = 1.0

    def __getitem__(self, frames: slice | NDArray[np.intp]) -> Lens:
        def part(value: Any) -> Any:
            return value[frames] if isinstance(value, np.ndarray) else value

        return replace(
            self, focal=part(self.focal), centre=part(self.centre), share=part(self.share),
            scale=part(self.scale),
        )  # fmt: skip

    @property
    def changes(self) -> bool:
        """Whether it differs from frame to frame."""
        return any(
            isinstance(v, np.ndarray) for v in (self.focal, self.centre, self.share, self.scale)
        )

    def bend(self, z: Complex) -> Complex:
        """Straight plane ``(n, m)``, a frame a row, to the picture. Where the model is not
        invertible, points land far outside the picture."""
        focal, centre, share, scale = self._columns()
        x = (z - centre) / (scale * focal)
        y = self.distortion.bend(x)
        if np.any(share != 1.0):
            y = (1 - share) * x + share * y
        r = np.abs(x)
        beyond = ~(r <= self._limits())
        if beyond.any():
            away = FAR * self.canvas.radius / np.broadcast_to(focal, z.shape)[beyond]
            y[beyond] = x[beyond] / np.maximum(r[beyond], 1e-12) * away
        return np.asarray(centre + focal * y)

    def straighten(self, z: Complex) -> Complex:
        """The picture ``(n, m)``, a frame a row, to the straight plane; NaN where nothing straight
        is bent there."""
        focal, centre, _, scale = self._columns()
        y = (z - centre) / focal
        if not isinstance(self.share, np.ndarray):
            x = self.distortion.straighten(y, float(self.share))
        else:
            x = np.empty_like(y)
            for t in range(len(y)):
                x[t] = self.distortion.straighten(y[t], float(self.share[t]))
        return np.asarray(centre + scale * focal * x)

    def rows(self, z: Complex) -> Real:
        """The row, scene units, at which straight points ``(n, m)`` were recorded."""
        return np.asarray(self.bend(z).imag)

    def _columns(self) -> list[Any]:
        return [
            v[:, None] if isinstance(v, np.ndarray) else v
            for v in (self.focal, self.centre, self.share, self.scale)
        ]

    def _limits(self) -> float | Real:
        if not isinstance(self.share, np.ndarray):
            return self.distortion.limit_of(round(float(self.share), 3))
        values, at = np.unique(np.round(self.share, 2), return_inverse=True)
        limits = np.array([self.distortion.limit_of(float(v)) for v in values])
        return np.asarray(limits[at][:, None])

    def stretch(self, z: Complex) -> Real:
        """``(n, m)`` how much larger the straight plane shows the picture at its points ``z``:
        the root of the area's growth."""
        step = self.canvas.radius * 1e-4
        here, across, down = (self.straighten(z + d) for d in (0, step, 1j * step))
        a, b = (across - here) / step, (down - here) / step
        return np.asarray(np.sqrt(np.abs((a.conj() * b).imag)))


def scale_to_cover(lens: Lens, n: int = 1) -> Lens:
    """The lens with the least scale at which its canvas' own rectangle is covered, a frame each if
    it changes."""
    count = n if lens.changes else 1
    rim = along_sides(lens.canvas.corners, RIM)
    low = np.full(count, np.log(WIDEST_SCALE))
    high = np.full(count, np.log(NARROWEST_SCALE))
    points = np.broadcast_to(rim, (count, len(rim)))
    hu, hv = lens.canvas.half
    for _ in range(LEVELS):
        middle = (low + high) / 2
        seen = replace(lens, scale=np.exp(middle)).bend(points)
        inside = (np.abs(seen.real) <= hu + 1e-9) & (np.abs(seen.imag) <= hv + 1e-9)
        fits = inside.all(axis=1)
        low, high = np.where(fits, low, middle), np.where(fits, middle, high)
    scale = np.exp(high)
    return replace(lens, scale=scale if lens.changes else float(scale[0]))


def picture_width(canvas: Canvas) -> float:
    """Scene units from the picture's left outer edge to its right one."""
    return canvas.width * canvas.pixel_aspect
