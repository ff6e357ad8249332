"""What part of the steadied plane the output shows: the outer end of the warp chain."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..stored import stored
from ..types import Complex, Frames, Points, Real
from .canvas import Canvas
from .similarity import Similarities
from .stage import of_frames


@stored
@dataclass(frozen=True)
class View:
    """The output's camera: ``z = p / (zoom scale) + offset`` for an output point ``p``.

    ``output`` is the canvas delivered; one of its pixels is ``1 / (zoom * scale)`` scene units
    wide, and its centre lies at ``offset`` (complex, scene units). ``zoom`` and ``offset`` are one
    for all frames, or arrays ``(n,)``. ``scale`` is output pixels per source pixel before zooming.
    """

    output: Canvas
    zoom: float | Real = 1.0
    scale: float = 1.0
    offset: complex | Complex = 0j

    def zooms(self, n: int) -> Real:
        """``(n,)`` the zoom of each frame."""
        return np.broadcast_to(np.asarray(self.zoom, float), n)

    def offsets(self, n: int) -> Complex:
        """``(n,)`` where each frame's centre lies."""
        return np.broadcast_to(np.asarray(self.offset, complex), n)

    def __getitem__(self, frames: Frames) -> View:
        return View(
            self.output, of_frames(self.zoom, frames), self.scale, of_frames(self.offset, frames)
        )

    def to_plane(self, points: Points, n: int) -> Complex:
        """Output pixels ``(m, 2)`` to the plane shown of each of ``n`` frames, ``(n, m)``."""
        return self.similarities(n).apply(self.output.to_scene(points))

    def similarities(self, n: int) -> Similarities:
        """The view of ``n`` frames as maps of the scene plane, output to what is shown."""
        return Similarities((1.0 / (self.zooms(n) * self.scale)).astype(complex), self.offsets(n))

    def resized(self, lines: int | None) -> View:
        """The view delivered at ``lines`` rows (never more than it has), sizes kept even."""
        if lines is None or lines >= self.output.height:
            return self
        factor = lines / self.output.height
        width = max(16, round(self.output.width * factor / 2) * 2)
        output = Canvas(width, lines // 2 * 2, self.output.pixel_aspect)
        return replace(self, output=output, scale=self.scale * factor)
