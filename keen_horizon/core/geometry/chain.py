"""THE WARP CHAIN: where in the source does each output pixel come from?

Everything geometric the product does is this one backward map, composed here and nowhere else::

    output pixel -> view -> steady -> shutter -> lens -> source pixel

The preview, the export, the coverage test and the tests all evaluate it. Each station takes and
gives scene-plane points (see :mod:`.canvas`). ``view`` ends with what is reshaped by hand
(:mod:`.shape`); ``steady`` is a similarity and, where the model asks for more, a bend; ``shutter``
works where a readout time is known; ``lens`` where one is (:mod:`..lens.lens`).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ..lens.lens import Lens
from .bend import DisplacementGrid, RollingShutterWarp
from .canvas import Canvas, Complex, Points
from .lattice import lattice_points, to_shares
from .reshape import Shape
from .similarity import Similarities

if TYPE_CHECKING:
    from collections.abc import Iterator

Real = NDArray[np.float64]
BENT_COLUMNS, BENT_ROWS = 17, 11  # nodes of the lattice of a chain that bends a little
CURVED_COLUMNS, CURVED_ROWS = 33, 19  # and of one that bends much: a lens, a reshaped picture
BATCH = 512  # frames worked on at once


@dataclass(frozen=True)
class View:
    """What part of the steadied plane the output shows.

    ``output`` is the canvas delivered; one of its pixels is ``1 / (zoom * scale)`` scene units
    wide, and its centre lies at ``offset`` (complex, scene units). ``zoom`` and ``offset`` are one
    for all frames, or arrays ``(n,)``. ``scale`` is output pixels per source pixel before zooming.
    ``shape`` is what is reshaped by hand, in the plane that zoom and offset show.
    """

    output: Canvas
    zoom: float | Real = 1.0
    scale: float = 1.0
    offset: complex | Complex = 0j
    shape: Shape | None = None

    def zooms(self, n: int) -> Real:
        """``(n,)`` the zoom of each frame."""
        return np.broadcast_to(np.asarray(self.zoom, float), n)

    def offsets(self, n: int) -> Complex:
        """``(n,)`` where each frame's centre lies."""
        return np.broadcast_to(np.asarray(self.offset, complex), n)

    @property
    def most_zoom(self) -> float:
        return float(np.max(self.zoom))

    def __getitem__(self, frames: slice | NDArray[np.intp]) -> View:
        zoom = self.zoom[frames] if isinstance(self.zoom, np.ndarray) else self.zoom
        offset = self.offset[frames] if isinstance(self.offset, np.ndarray) else self.offset
        shape = self.shape[frames] if self.shape is not None else None
        return View(self.output, zoom, self.scale, offset, shape)

    def to_plane(self, points: Points, n: int) -> Complex:
        """Output pixels ``(m, 2)`` to the plane shown of each of ``n`` frames, ``(n, m)``; what is
        reshaped comes after."""
        seen = self.output.to_scene(points)
        return np.asarray(
            seen[None, :] / (self.zooms(n)[:, None] * self.scale) + self.offsets(n)[:, None]
        )


@dataclass(frozen=True)
class WarpChain:
    """The whole backward map of one clip.

    ``steady`` holds one similarity a frame, output plane to source plane; ``bend``, ``rows`` and
    ``lens`` come after it, if there are any. Frames are counted from the start of the clip's range.
    """

    source: Canvas
    view: View
    steady: Similarities
    bend: DisplacementGrid | None = None
    rows: RollingShutterWarp | None = None
    lens: Lens | None = None

    def __len__(self) -> int:
        return len(self.steady)

    def __getitem__(self, frames: slice | NDArray[np.intp]) -> WarpChain:
        return WarpChain(
            self.source,
            self.view[frames],
            self.steady[frames],
            self.bend[frames] if self.bend is not None else None,
            self.rows[frames] if self.rows is not None else None,
            self.lens[frames] if self.lens is not None else None,
        )

    @property
    def is_affine(self) -> bool:
        """Whether :meth:`matrices` tells all."""
        return self.bend is None and self.rows is None and not self.is_curved

    @property
    def is_curved(self) -> bool:
        """Whether the source's sides are far from straight in the output."""
        return self.lens is not None or self.view.shape is not None

    def from_plane(self, plane: Complex) -> Complex:
        """The plane shown ``(n, m)``, a frame a row, to source plane ``(n, m)``."""
        if self.view.shape is not None:
            plane = self.view.shape.apply(plane)
        plane = self.steady.a[:, None] * plane + self.steady.b[:, None]
        if self.bend is not None:
            plane = self.bend.apply(plane)
        if self.rows is not None:
            plane = self.rows.apply(plane)
        return plane if self.lens is None else self.lens.bend(plane)

    def __call__(self, frame: int, points: Points) -> tuple[Points, NDArray[np.bool_]]:
        """Map output pixels ``(..., 2)`` of one frame to source pixels ``(..., 2)``.

        The second value, shape ``(...)``, is True where the source has a pixel there; elsewhere
        the output has a bare edge.
        """
        one = self[frame : frame + 1]
        plane = one.from_plane(one.view.to_plane(points.reshape(-1, 2), 1))
        mapped = self.source.to_pixels(plane[0]).reshape(points.shape)
        return mapped, covered(mapped, self.source)

    def matrices(self, frames: slice = slice(None)) -> Real:
        """``(n, 3, 3)`` backward maps, output pixel to source pixel, of the frames asked for.

        What the chain is but for what bends and reshapes; exact if it :attr:`is_affine`.
        """
        steady, view = self.steady[frames], self.view[frames]
        n = len(steady)
        shrink = 1.0 / (view.zooms(n) * view.scale)
        plane = Similarities(shrink.astype(complex), view.offsets(n))
        both = steady.after(plane).matrices
        return np.linalg.inv(self.source.scene_matrix) @ both @ self.view.output.scene_matrix

    def sampled(self, points: Points) -> Points:
        """Output pixels ``(m, 2)`` to source pixels of every frame, ``(n, m, 2)``."""
        out = np.empty((len(self), len(points), 2))
        for part, chain in self.batches():
            plane = chain.from_plane(chain.view.to_plane(points, len(chain)))
            out[part] = self.source.to_pixels(plane)
        return out

    def batches(self) -> Iterator[tuple[slice, WarpChain]]:
        """The chain in pieces, so that memory does not grow with its length."""
        for start in range(0, len(self), BATCH):
            part = slice(start, min(start + BATCH, len(self)))
            yield part, self[part]

    @property
    def nodes(self) -> tuple[int, int]:
        """Columns and rows of a lattice that is fine enough to draw from."""
        if self.is_affine:
            return 2, 2
        return (CURVED_COLUMNS, CURVED_ROWS) if self.is_curved else (BENT_COLUMNS, BENT_ROWS)

    def lattice(
        self, frames: slice = slice(None), columns: int = 0, rows: int = 0
    ) -> NDArray[np.float32]:
        """``(n, rows, columns, 2)`` source shares, float32; see :mod:`.lattice`.

        Two by two nodes are exact while the whole chain is a similarity, and are the default then.
        """
        if not columns:
            columns, rows = self.nodes
        nodes = lattice_points(self.view.output, columns, rows)
        mapped = self[frames].sampled(nodes.reshape(-1, 2))
        return to_shares(mapped.reshape(-1, rows, columns, 2), self.source)


def covered(mapped: Points, source: Canvas, slack: float = 1e-6) -> NDArray[np.bool_]:
    """True where source pixels ``(..., 2)`` lie between the outermost pixel centres."""
    x, y = mapped[..., 0], mapped[..., 1]
    return (
        (x >= -slack)
        & (y >= -slack)
        & (x <= source.width - 1 + slack)
        & (y <= source.height - 1 + slack)
    )
