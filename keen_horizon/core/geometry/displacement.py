"""What a similarity cannot do: local displacements of the picture, as a grid of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..stored import stored
from ..types import Complex, Frames, Real
from .canvas import Canvas
from .stage import Smoothness, WarpStage

COLUMNS, ROWS = 17, 11  # nodes of a grid: a keystone between them is out by under 0.05 px
INVERSE_ROUNDS = 5  # of fixed-point iteration; each gains two digits at a strain of a hundredth


@stored
@dataclass(frozen=True)
class DisplacementGrid(WarpStage):
    """Displacements at nodes, ``(n, rows, columns)`` complex, scene units, linear between them.

    The nodes span the source plane from edge to edge; outside it the nearest edge counts. Backward
    like everything in the chain: a point ``z`` of the steadied plane comes from ``z + d(z)``.
    """

    canvas: Canvas
    nodes: NDArray[np.complex64]

    @property
    def smoothness(self) -> Smoothness:
        return Smoothness.SMOOTH

    def __len__(self) -> int:
        return len(self.nodes)

    def __getitem__(self, frames: Frames) -> DisplacementGrid:
        return DisplacementGrid(self.canvas, self.nodes[frames])

    def to_source(self, points: Complex) -> Complex:
        n, rows, columns = self.nodes.shape
        hu, hv = self.canvas.half
        x = np.clip((points.real / hu + 1) * (columns - 1) / 2, 0, columns - 1)
        y = np.clip((points.imag / hv + 1) * (rows - 1) / 2, 0, rows - 1)
        i = np.minimum(x.astype(np.intp), columns - 2)
        j = np.minimum(y.astype(np.intp), rows - 2)
        u, v = x - i, y - j
        nodes = self.nodes.ravel()
        at = j * columns + i + np.arange(n)[:, None] * (rows * columns)
        top = nodes.take(at)
        top = top + u * (nodes.take(at + 1) - top)
        at += columns
        low = nodes.take(at)
        low = low + u * (nodes.take(at + 1) - low)
        return np.asarray(points + top + v * (low - top))

    def to_output(self, points: Complex) -> Complex:
        """By fixed-point iteration, which converges as long as nothing is strained by half."""
        before = points
        for _ in range(INVERSE_ROUNDS):
            before = points - (self.to_source(before) - before)
        return before

    def toward_identity(self, share: Real) -> DisplacementGrid:
        nodes = (share[:, None, None] * self.nodes).astype(np.complex64)
        return DisplacementGrid(self.canvas, nodes)

    def strain(self) -> Real:
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
