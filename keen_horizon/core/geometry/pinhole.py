"""The straight camera: a plane before the eye, in which straight things are straight."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..stored import stored
from ..types import Complex, Flags, Frames, Rays, Real
from .stage import column, of_frames

STEEPEST = np.tan(np.radians(89.0))  # rays further to the side are put there, far off the picture


@stored
@dataclass(frozen=True)
class Pinhole:
    """The rectilinear projection: ``z = centre + focal (X + iY) / Z``, scene units.

    ``focal`` and ``centre`` (complex) are one for all frames or arrays ``(n,)``.

    >>> camera = Pinhole(100.0)
    >>> camera.to_rays(np.array([[50 + 0j]]))
    array([[[ 50.,   0., 100.]]])
    >>> camera.to_plane(np.array([[[1.0, 2.0, 1.0]]]))
    array([[100.+200.j]])
    """

    focal: float | Real
    centre: complex | Complex = 0j

    wraps = False

    def __getitem__(self, frames: Frames) -> Pinhole:
        return Pinhole(of_frames(self.focal, frames), of_frames(self.centre, frames))

    def to_rays(self, plane: Complex) -> Rays:
        """Points ``(n, m)`` to rays ``(n, m, 3)`` whose forward part is the focal length."""
        away = plane - column(self.centre)
        focal = np.broadcast_to(column(np.asarray(self.focal, float)), away.shape)
        return np.stack([away.real, away.imag, focal], axis=-1)

    def to_plane(self, rays: Rays) -> Complex:
        """Rays ``(n, m, 3)`` to points ``(n, m)``; those that point sideways or backward come out
        far off in their direction."""
        across = rays[..., 0] + 1j * rays[..., 1]
        depth = np.maximum(rays[..., 2], np.abs(across) / STEEPEST + 1e-12)
        return np.asarray(column(self.centre) + column(self.focal) * across / depth)

    def reaches(self, rays: Rays) -> Flags:
        """Whether rays lie before the camera."""
        return np.asarray(rays[..., 2] * STEEPEST > np.hypot(rays[..., 0], rays[..., 1]))

    def matrices(self, n: int) -> Real:
        """``(n, 3, 3)`` from rays as columns to homogeneous points of the plane."""
        k = np.zeros((n, 3, 3))
        centre = np.broadcast_to(np.asarray(self.centre, complex), n)
        k[:, 0, 0] = k[:, 1, 1] = self.focal
        k[:, 0, 2], k[:, 1, 2], k[:, 2, 2] = centre.real, centre.imag, 1.0
        return k
