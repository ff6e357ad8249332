"""Projections and cameras: from rays to pictures and back.

A *projection* takes rays (x right, y down, z forward) to points of the scene plane (see
:mod:`.canvas`); a :class:`Camera` is a projection with a picture's size. Rectilinear pictures are a
:class:`.Pinhole`'s; Brown-Conrady, fisheye and division are a :class:`LensProjection` with that
:class:`.Distortion`; a picture all around is :class:`Equirectangular`.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np

from ..stored import stored
from ..types import Complex, Flags, Points, Rays
from .canvas import Canvas
from .distortion import Distortion


class Projection(Protocol):
    """What every projection offers."""

    wraps: bool
    """Whether the picture's left side goes on at its right."""

    def to_plane(self, rays: Rays) -> Complex:
        """Rays ``(..., 3)`` of any length to points ``(...)``, scene units."""
        ...

    def to_rays(self, plane: Complex) -> Rays:
        """Points ``(...)`` to rays ``(..., 3)``; NaN where no ray is recorded."""
        ...

    def reaches(self, rays: Rays) -> Flags:
        """Whether rays ``(..., 3)`` are recorded at all, on a picture of any size."""
        ...


@dataclass(frozen=True)
class LensProjection:
    """The projection of a real lens; ``focal`` and ``centre`` (complex) in scene units."""

    distortion: Distortion
    focal: float
    centre: complex = 0j

    wraps = False

    def to_plane(self, rays: Rays) -> Complex:
        return np.asarray(self.centre + self.focal * self.distortion.project(rays))

    def to_rays(self, plane: Complex) -> Rays:
        return self.distortion.unproject((plane - self.centre) / self.focal)

    def reaches(self, rays: Rays) -> Flags:
        return np.isfinite(self.distortion.project(rays))


@stored
@dataclass(frozen=True)
class Equirectangular:
    """All around: longitude grows to the right, latitude downwards, the picture's centre looks
    along z. ``unit`` is the scene units of a radian; the picture is ``2 pi unit`` wide.

    >>> sphere = Equirectangular(100.0)
    >>> sphere.to_rays(np.array([50 * np.pi + 0j])).round(6) + 0.0
    array([[1., 0., 0.]])
    """

    unit: float

    wraps = True

    @classmethod
    def of(cls, canvas: Canvas) -> Equirectangular:
        """That of a picture which goes once around; the left edge of pixel 0 is -180 degrees."""
        return cls(canvas.width * canvas.pixel_aspect / (2 * np.pi))

    def to_plane(self, rays: Rays) -> Complex:
        x, y, z = rays[..., 0], rays[..., 1], rays[..., 2]
        longitude = np.arctan2(x, z)
        latitude = np.arctan2(y, np.hypot(x, z))
        return np.asarray(self.unit * (longitude + 1j * latitude))

    def to_rays(self, plane: Complex) -> Rays:
        longitude, latitude = plane.real / self.unit, plane.imag / self.unit
        level = np.cos(latitude)
        return np.stack(
            [level * np.sin(longitude), np.sin(latitude), level * np.cos(longitude)], axis=-1
        )

    def reaches(self, rays: Rays) -> Flags:
        return np.ones(rays.shape[:-1], bool)


@dataclass(frozen=True)
class Camera:
    """A picture's size and its projection.

    >>> from .pinhole import Pinhole
    >>> camera = Camera(Canvas(200, 100), Pinhole(100.0))
    >>> camera.to_pixels(np.array([0.0, 0.0, 1.0])).tolist()
    [99.5, 49.5]
    """

    canvas: Canvas
    projection: Projection

    @property
    def wraps(self) -> bool:
        return self.projection.wraps

    def to_rays(self, pixels: Points) -> Rays:
        """Pixels ``(..., 2)`` to rays ``(..., 3)``; NaN where no ray is recorded."""
        return self.projection.to_rays(self.canvas.to_scene(pixels))

    def to_pixels(self, rays: Rays) -> Points:
        """Rays ``(..., 3)`` to pixels ``(..., 2)``, also beyond the picture's edge."""
        return self.canvas.to_pixels(self.projection.to_plane(rays))

    def sees(self, rays: Rays) -> Flags:
        """``(...)`` whether rays are recorded between the picture's outermost pixel centres; all
        around, everywhere."""
        reached = self.projection.reaches(rays)
        if self.wraps:
            return reached
        at = self.canvas.to_scene(self.to_pixels(rays))
        hu, hv = self.canvas.half
        with np.errstate(invalid="ignore"):
            inside = (np.abs(at.real) <= hu + 1e-6) & (np.abs(at.imag) <= hv + 1e-6)
        return np.asarray(reached & inside)
