"""THE WARP CHAIN: where in the source does each output pixel come from?

Everything geometric the product does is this one backward map, composed here and nowhere else::

    output pixel -> view -> steady -> shutter -> lens -> source pixel

The preview, the export, the coverage test and the tests all evaluate it. Each station takes and
gives scene-plane points (see :mod:`.canvas`); ``shutter`` and ``lens`` are places in the order of
things that today pass points through unchanged.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .canvas import Canvas, Complex, Points
from .lattice import lattice_points, to_shares
from .similarity import Similarities


@dataclass(frozen=True)
class View:
    """What part of the steadied plane the output shows.

    ``output`` is the canvas delivered; one of its pixels is ``1 / (zoom * scale)`` scene units
    wide, and its centre lies at ``offset`` (complex, scene units).
    ``scale`` is output pixels per source pixel before zooming: 1 unless the export is resized.
    """

    output: Canvas
    zoom: float = 1.0
    scale: float = 1.0
    offset: complex = 0j

    def to_plane(self, points: Points) -> Complex:
        return self.output.to_scene(points) / (self.zoom * self.scale) + self.offset


@dataclass(frozen=True)
class WarpChain:
    """The whole backward map of one clip.

    ``steady`` holds one similarity a frame, output plane to source plane. Frames are counted from
    the start of the clip's range.
    """

    source: Canvas
    view: View
    steady: Similarities

    def __len__(self) -> int:
        return len(self.steady)

    def __call__(self, frame: int, points: Points) -> tuple[Points, NDArray[np.bool_]]:
        """Map output pixels ``(..., 2)`` of one frame to source pixels ``(..., 2)``.

        The second value, shape ``(...)``, is True where the source has a pixel there; elsewhere
        the output has a bare edge.
        """
        plane = self.view.to_plane(points)
        plane = self.steady.a[frame] * plane + self.steady.b[frame]
        plane = self._lens(self._shutter(plane))
        mapped = self.source.to_pixels(plane)
        return mapped, covered(mapped, self.source)

    @staticmethod
    def _shutter(plane: Complex) -> Complex:
        """Every row at the frame's own time: a global shutter."""
        return plane

    @staticmethod
    def _lens(plane: Complex) -> Complex:
        """Straight rays: a rectilinear lens."""
        return plane

    def matrices(self, frames: slice = slice(None)) -> NDArray[np.float64]:
        """``(n, 3, 3)`` backward maps, output pixel to source pixel, of the frames asked for.

        Exact, because every station that works today is a similarity.
        """
        steady = self.steady[frames]
        shrink = 1.0 / (self.view.zoom * self.view.scale)
        n = len(steady)
        plane = Similarities(np.full(n, shrink + 0j), np.full(n, complex(self.view.offset)))
        both = steady.after(plane).matrices
        return np.linalg.inv(self.source.scene_matrix) @ both @ self.view.output.scene_matrix

    def lattice(
        self, frames: slice = slice(None), columns: int = 2, rows: int = 2
    ) -> NDArray[np.float32]:
        """``(n, rows, columns, 2)`` source shares, float32; see :mod:`.lattice`.

        Two by two nodes are exact while the whole chain is a similarity. A finer lattice can be
        asked for and gives the same map.
        """
        nodes = lattice_points(self.view.output, columns, rows)
        homogeneous = np.concatenate([nodes, np.ones((rows, columns, 1))], axis=-1)
        mapped = np.einsum("nij,rcj->nrci", self.matrices(frames)[:, :2, :], homogeneous)
        return to_shares(mapped, self.source)


def covered(mapped: Points, source: Canvas, slack: float = 1e-6) -> NDArray[np.bool_]:
    """True where source pixels ``(..., 2)`` lie between the outermost pixel centres."""
    x, y = mapped[..., 0], mapped[..., 1]
    return (
        (x >= -slack)
        & (y >= -slack)
        & (x <= source.width - 1 + slack)
        & (y <= source.height - 1 + slack)
    )
