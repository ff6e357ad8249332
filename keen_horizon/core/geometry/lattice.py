"""A warp sampled on a coarse grid: small enough to send, enough to draw from.

A lattice covers the output picture from its outer edge to its outer edge (not from pixel centre to
pixel centre), because that is what a textured quad on screen covers. Values are positions in the
source as shares of its width and height: ``(0, 0)`` its top-left outer corner, ``(1, 1)`` its
bottom-right one. A proxy of any size is sampled with the same lattice.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..types import Points
from .canvas import Canvas


def lattice_points(output: Canvas, columns: int, rows: int) -> Points:
    """``(rows, columns, 2)`` output pixel positions of a lattice's nodes."""
    x = np.linspace(-0.5, output.width - 0.5, columns)
    y = np.linspace(-0.5, output.height - 0.5, rows)
    return np.stack(np.meshgrid(x, y), axis=-1)


def cell_middles(canvas: Canvas, columns: int, rows: int) -> Points:
    """``(rows, columns, 2)`` pixel positions of the middles of a picture's cells: the places of a
    smaller picture's pixels in it.

    >>> cell_middles(Canvas(8, 4), 4, 2)[0].tolist()
    [[0.5, 0.5], [2.5, 0.5], [4.5, 0.5], [6.5, 0.5]]
    """
    x = (np.arange(columns) + 0.5) / columns * canvas.width - 0.5
    y = (np.arange(rows) + 0.5) / rows * canvas.height - 0.5
    return np.stack(np.meshgrid(x, y), axis=-1)


def to_shares(points: Points, source: Canvas) -> NDArray[np.float32]:
    """Source pixels ``(..., 2)`` to shares of the source's size, float32."""
    size = np.array([source.width, source.height], float)
    return ((points + 0.5) / size).astype(np.float32)
