"""What a similarity cannot do: local displacements of the picture, and rows read one by one.

Both are stations of the warp chain between the similarity and the lens. They move points of the
source plane (see :mod:`.canvas`) by a few pixels, each frame in its own way.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..lens.lens import Lens
from .canvas import Canvas, Complex

COLUMNS, ROWS = 17, 11  # nodes of a bend: a keystone between them is out by under 0.05 px


@dataclass(frozen=True)
class DisplacementGrid:
    """Displacements at nodes, ``(n, rows, columns)`` complex, scene units, linear between them.

    The nodes span the source plane from edge to edge; outside it the nearest edge counts. Backward
    like everything in the chain: a point ``z`` of the steadied plane comes from ``z + d(z)``.
    """

    canvas: Canvas
    nodes: NDArray[np.complex64]

    def __len__(self) -> int:
        return len(self.nodes)

    def __getitem__(self, frames: slice | NDArray[np.intp]) -> DisplacementGrid:
        return DisplacementGrid(self.canvas, self.nodes[frames])

    @property
    def places(self) -> Complex:
        """``(rows, columns)`` where the nodes lie."""
        return grid_nodes(self.canvas, *self.nodes.shape[1:])

    def apply(self, z: Complex) -> Complex:
        """Points ``(n, m)``, those of a frame a row, to where they come from."""
        n, rows, columns = self.nodes.shape
        hu, hv = self.canvas.half
        x = np.clip((z.real / hu + 1) * (columns - 1) / 2, 0, columns - 1)
        y = np.clip((z.imag / hv + 1) * (rows - 1) / 2, 0, rows - 1)
        i = np.minimum(x.astype(np.intp), columns - 2)
        j = np.minimum(y.astype(np.intp), rows - 2)
        u, v = x - i, y - j
        flat = self.nodes.reshape(n, -1)
        at = j * columns + i
        top = np.take_along_axis(flat, at, 1) * (1 - u) + np.take_along_axis(flat, at + 1, 1) * u
        at += columns
        low = np.take_along_axis(flat, at, 1) * (1 - u) + np.take_along_axis(flat, at + 1, 1) * u
        return np.asarray(z + top * (1 - v) + low * v)

    def strain(self) -> NDArray[np.float64]:
        """``(n,)`` the most that the distance of neighbouring nodes changes, as a share of it."""
        _, rows, columns = self.nodes.shape
        hu, hv = self.canvas.half
        across = np.abs(np.diff(self.nodes, axis=2)).max(axis=(1, 2)) / (2 * hu / (columns - 1))
        down = np.abs(np.diff(self.nodes, axis=1)).max(axis=(1, 2)) / (2 * hv / (rows - 1))
        return np.asarray(np.maximum(across, down), float)


def grid_nodes(canvas: Canvas, rows: int = ROWS, columns: int = COLUMNS) -> Complex:
    """``(rows, columns)`` nodes from edge to edge of the scene plane."""
    hu, hv = canvas.half
    x, y = np.linspace(-hu, hu, columns), np.linspace(-hv, hv, rows)
    return np.asarray(x[None, :] + 1j * y[:, None])


def turned(z: Complex, shift: complex, focal: float) -> Complex:
    """Points of a rectilinear picture after a turn of its camera that moves the centre by
    ``shift``: the homography ``K R inverse(K)``, all in scene units.

    >>> turned(np.array([0j, 100j]), 50.0, 100.0).round(3)
    array([50.  +0.j   , 50.+111.803j])
    """
    size = abs(shift)
    if size == 0:
        return z
    way = shift / size
    along = z / way
    sine, cosine = size / np.hypot(size, focal), focal / np.hypot(size, focal)
    depth = focal * cosine - along.real * sine
    depth = np.maximum(depth, 0.05 * focal)
    moved = focal * (along.real * cosine + focal * sine) / depth + 1j * focal * along.imag / depth
    return np.asarray(way * moved)


@dataclass(frozen=True)
class RollingShutterWarp:
    """How the picture moved while its rows were read.

    ``a``, ``b`` ``(n, k)`` complex: the similarity from the frame's own time to the time at which
    the row was read that lies at ``k`` even steps from the first row to the last; linear between.
    The rows are those of the recorded picture: where ``lens`` bends the plane, those of the bent
    one.
    """

    canvas: Canvas
    a: Complex
    b: Complex
    lens: Lens | None = None

    def __len__(self) -> int:
        return len(self.a)

    def __getitem__(self, frames: slice | NDArray[np.intp]) -> RollingShutterWarp:
        lens = self.lens[frames] if self.lens is not None else None
        return RollingShutterWarp(self.canvas, self.a[frames], self.b[frames], lens)

    def apply(self, z: Complex) -> Complex:
        """Points ``(n, m)`` at the frame's own time to where their row recorded them.

        The row depends on the result; twice round leaves under 0.01 px at a skew of 20 px.
        """
        recorded = z
        for _ in range(3):
            a, b = self._at(self._row(recorded))
            recorded = a * z + b
        return np.asarray(recorded)

    def undo(self, z: Complex) -> Complex:
        """Recorded points ``(n, m)`` to the frame's own time."""
        a, b = self._at(self._row(z))
        return np.asarray((z - b) / a)

    def eased(self, share: NDArray[np.float64]) -> RollingShutterWarp:
        """Pulled towards no motion, to ``share`` ``(n,)`` of it."""
        down = share[:, None]
        return replace(self, a=1 + down * (self.a - 1), b=down * self.b)

    def _row(self, z: Complex) -> NDArray[np.float64]:
        return z.imag if self.lens is None else self.lens.rows(z)

    def _at(self, y: NDArray[np.float64]) -> tuple[Complex, Complex]:
        k = self.a.shape[1]
        hv = self.canvas.half[1]
        x = np.clip((y / hv + 1) * (k - 1) / 2, 0, k - 1)
        i = np.minimum(x.astype(np.intp), k - 2)
        u = x - i
        a = np.take_along_axis(self.a, i, 1) * (1 - u) + np.take_along_axis(self.a, i + 1, 1) * u
        b = np.take_along_axis(self.b, i, 1) * (1 - u) + np.take_along_axis(self.b, i + 1, 1) * u
        return a, b
