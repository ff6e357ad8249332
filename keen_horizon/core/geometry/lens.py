"""A lens in front of a picture: straight rays to bent picture and back, frame by frame.

Both sides are scene planes (see :mod:`.canvas`): the *straight plane*, in which straight things are
straight, and the picture as it was recorded. The straight plane is magnified by ``scale`` at the
optical centre, chosen by :func:`scale_to_cover` such that the source's own rectangle is just
covered: "zoom 1" then shows a whole picture without a bare edge, with a lens as without one.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..stored import stored
from ..types import Complex, Frames, Rays, Real
from .canvas import Canvas, along_sides
from .distortion import Distortion
from .pinhole import Pinhole
from .stage import RayStage, Smoothness, column, of_frames

FAR = 4.0  # half-diagonals from the centre: where points go that no source pixel belongs to
RIM = 24  # points along each side of the picture at which covering is tried
LEVELS = 40  # halvings of what is not known of a scale
WIDEST_SCALE, NARROWEST_SCALE = 0.05, 20.0


@stored
@dataclass(frozen=True)
class Lens(RayStage):
    """A distortion with its focal length and centre in scene units of ``canvas``.

    ``focal``, ``centre`` (complex), ``amount`` of the correction (0..1) and ``scale`` are one for
    all frames or arrays ``(n,)``.
    """

    canvas: Canvas
    distortion: Distortion
    focal: float | Real
    centre: complex | Complex = 0j
    amount: float | Real = 1.0
    scale: float | Real = 1.0

    @property
    def smoothness(self) -> Smoothness:
        return Smoothness.CURVED

    def __getitem__(self, frames: Frames) -> Lens:
        return replace(
            self,
            focal=of_frames(self.focal, frames),
            centre=of_frames(self.centre, frames),
            amount=of_frames(self.amount, frames),
            scale=of_frames(self.scale, frames),
        )

    @property
    def changes(self) -> bool:
        """Whether it differs from frame to frame."""
        return any(
            isinstance(v, np.ndarray) for v in (self.focal, self.centre, self.amount, self.scale)
        )

    @property
    def straight(self) -> Pinhole:
        """The camera that sees the straight plane."""
        return Pinhole(np.asarray(self.scale) * self.focal if self._varies else
                       float(self.scale) * float(self.focal), self.centre)  # fmt: skip

    @property
    def _varies(self) -> bool:
        return isinstance(self.focal, np.ndarray) or isinstance(self.scale, np.ndarray)

    def to_rays(self, plane: Complex) -> Rays:
        return self.straight.to_rays(plane)

    def to_plane(self, rays: Rays) -> Complex:
        return self.straight.to_plane(rays)

    def to_source(self, points: Rays) -> Complex:
        """Rays ``(n, m, 3)`` to the recorded picture ``(n, m)``; what it does not record comes out
        far outside."""
        if np.any(np.asarray(self.amount) != 1.0):
            return self.distort(self.to_plane(points))
        bent = self.distortion.project(points)
        across = points[..., 0] + 1j * points[..., 1]
        size = np.maximum(np.abs(across), 1e-12)
        away = FAR * self.canvas.radius / column(self.focal)
        bent = np.where(np.isfinite(bent), bent, across / size * away)
        return np.asarray(column(self.centre) + column(self.focal) * bent)

    def to_output(self, points: Complex) -> Rays:
        """The recorded picture ``(n, m)`` to rays ``(n, m, 3)``; NaN where none is recorded."""
        if np.any(np.asarray(self.amount) != 1.0):
            return self.to_rays(self.undistort(points))
        return self.distortion.unproject((points - column(self.centre)) / column(self.focal))

    def distort(self, z: Complex) -> Complex:
        """Straight plane ``(n, m)``, a frame a row, to the picture. Where the model is not
        invertible, points land far outside the picture."""
        focal, centre, amount, scale = (
            column(v) for v in (self.focal, self.centre, self.amount, self.scale)
        )
        x = (z - centre) / (scale * focal)
        y = self.distortion.distort(x)
        if np.any(amount != 1.0):
            y = (1 - amount) * x + amount * y
        r = np.abs(x)
        beyond = ~(r <= column(self.distortion.radius_limit(self.amount)))
        if beyond.any():
            away = FAR * self.canvas.radius / np.broadcast_to(focal, z.shape)[beyond]
            y[beyond] = x[beyond] / np.maximum(r[beyond], 1e-12) * away
        return np.asarray(centre + focal * y)

    def undistort(self, z: Complex) -> Complex:
        """The picture ``(n, m)``, a frame a row, to the straight plane; NaN where nothing straight
        is recorded there."""
        focal, centre, scale = (column(v) for v in (self.focal, self.centre, self.scale))
        x = self.distortion.undistort((z - centre) / focal, self.amount)
        return np.asarray(centre + scale * focal * x)

    def rows(self, z: Complex) -> Real:
        """The row, scene units, at which straight points ``(n, m)`` were recorded."""
        return np.asarray(self.distort(z).imag)

    def stretch(self, z: Complex) -> Real:
        """``(n, m)`` how much larger the straight plane shows the picture at its points ``z``:
        the root of the area's growth."""
        step = self.canvas.radius * 1e-4
        here, across, down = (self.undistort(z + d) for d in (0, step, 1j * step))
        a, b = (across - here) / step, (down - here) / step
        return np.asarray(np.sqrt(np.abs((a.conj() * b).imag)))


def scale_to_cover(lens: Lens, n: int = 1) -> Lens:
    """The lens with the least scale at which its canvas' own rectangle is covered.

    One scale for all frames, or ``(n,)`` if the lens changes from frame to frame. Found by halving;
    within a millionth.

    >>> barrel = Lens(Canvas(1281, 721), Distortion("brown", (-0.2, 0, 0, 0)), 900.0)
    >>> covered = scale_to_cover(barrel)
    >>> edge = covered.distort(np.array([[640 + 0j, 360j]]))  # middles of two sides
    >>> edge.round(1).tolist()
    [[(590.9+0j), 360j]]
    """
    count = n if lens.changes else 1
    rim = along_sides(lens.canvas.corners, RIM)
    low = np.full(count, np.log(WIDEST_SCALE))
    high = np.full(count, np.log(NARROWEST_SCALE))
    points = np.broadcast_to(rim, (count, len(rim)))
    hu, hv = lens.canvas.half
    for _ in range(LEVELS):
        middle = (low + high) / 2
        seen = replace(lens, scale=np.exp(middle)).distort(points)
        inside = (np.abs(seen.real) <= hu + 1e-9) & (np.abs(seen.imag) <= hv + 1e-9)
        fits = inside.all(axis=1)
        low, high = np.where(fits, low, middle), np.where(fits, middle, high)
    scale = np.exp(high)
    return replace(lens, scale=scale if lens.changes else float(scale[0]))


def picture_width(canvas: Canvas) -> float:
    """Scene units from the picture's left outer edge to its right one."""
    return canvas.width * canvas.pixel_aspect
