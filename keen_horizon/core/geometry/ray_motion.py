"""Motions that are linear on the rays of a straight camera: turns, with or without travel."""

from __future__ import annotations

from abc import abstractmethod

import numpy as np

from ..types import Complex, Rays, Real
from .motion import Motion
from .pinhole import Pinhole
from .stage import RayStage, Smoothness


class RayMotion(Motion, RayStage):
    """``n`` maps of rays (x right, y down, z forward), each a matrix on columns."""

    takes_rays = True
    gives_rays = True

    @property
    @abstractmethod
    def straight_camera(self) -> Pinhole:
        """The camera whose plane :meth:`apply` works on."""

    @property
    @abstractmethod
    def on_rays(self) -> Real:
        """``(n, 3, 3)`` the maps on rays as columns."""

    @property
    def smoothness(self) -> Smoothness:
        return Smoothness.PROJECTIVE

    def to_source(self, points: Rays) -> Rays:
        return np.asarray(points @ self.on_rays.swapaxes(1, 2))

    def to_output(self, points: Rays) -> Rays:
        return np.asarray(points @ np.linalg.inv(self.on_rays).swapaxes(1, 2))

    def to_rays(self, plane: Complex) -> Rays:
        return self.straight_camera.to_rays(plane)

    def to_plane(self, rays: Rays) -> Complex:
        return self.straight_camera.to_plane(rays)

    def apply(self, points: Complex) -> Complex:
        points = np.broadcast_to(points, (len(self), points.shape[-1]))
        return self.to_plane(self.to_source(self.to_rays(points)))

    def undo(self, points: Complex) -> Complex:
        return self.to_plane(self.to_output(self.to_rays(points)))

    @property
    def matrices(self) -> Real:
        """``K M inverse(K)``."""
        k = self.straight_camera.matrices(len(self))
        return np.asarray(k @ self.on_rays @ np.linalg.inv(k))
