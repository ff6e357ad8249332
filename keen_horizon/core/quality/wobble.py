"""Wobble: how much neighbouring parts of the picture move against each other.

Places spread over the picture each have their own path, known from the marks around them. What all
of them do together is the picture's own shift, roll and scale; the fast rest of each is wobble.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..geometry.bend import COLUMNS, ROWS, DisplacementGrid, grid_nodes
from ..geometry.canvas import Canvas, Complex
from .scores import fast_part

EVERY = 2  # nodes of a bend between two places
PLACES = ((ROWS + 1) // EVERY, (COLUMNS + 1) // EVERY)  # down and across
WOBBLE_ABOVE = 1.0  # Hz; slower local motion is the scene's own, as when walking past things
WOBBLE_MEASURE = (
    "RMS distance that 54 places of the picture stray, faster than 1 Hz, from where the picture's "
    "shift, roll and scale would have them"
)


def wobble_places(canvas: Canvas) -> Complex:
    """``(54,)`` where wobble is looked for, scene units."""
    return grid_nodes(canvas)[::EVERY, ::EVERY].ravel()


def local_wobble(
    steps: NDArray[np.complex64], sure: NDArray[np.float64], times: NDArray[np.float64],
    segments: list[tuple[int, int]], canvas: Canvas,
) -> NDArray[np.complex64]:  # fmt: skip
    """``(n, 54)`` the wobble of the source, scene units.

    ``steps`` ``(n, rows, columns)`` as those of a local motion at the nodes of a bend; ``sure``
    ``(n,)`` weighs them, 0..1.
    """
    moved = steps[:, ::EVERY, ::EVERY].reshape(len(steps), -1).astype(complex)
    at = without_similarity(np.asarray(moved * sure[:, None], complex), wobble_places(canvas))
    paths = np.zeros(at.shape, complex)
    for start, stop in segments:
        paths[start:stop] = np.cumsum(at[start:stop], axis=0)
    return _fast(paths, times, segments)


def _fast(
    paths: Complex, times: NDArray[np.float64], segments: list[tuple[int, int]]
) -> NDArray[np.complex64]:
    out = np.zeros(paths.shape, np.complex64)
    for start, stop in segments:
        part = slice(start, stop)
        out[part] = fast_part(paths[part], times[part], WOBBLE_ABOVE)
    return out


def without_similarity(moved: Complex, places: Complex) -> Complex:
    """Displacements ``(n, m)`` less the similarity that fits each row best (least squares)."""
    z = places - places.mean()
    rest = moved - moved.mean(axis=1, keepdims=True)
    turn = (rest * z.conj()).sum(axis=1) / (np.abs(z) ** 2).sum()
    return np.asarray(rest - turn[:, None] * z)


def wobble_left(
    wobble: NDArray[np.complex64], bend: DisplacementGrid | None, times: NDArray[np.float64],
    segments: list[tuple[int, int]],
) -> NDArray[np.float64]:  # fmt: skip
    """``(n,)`` rms wobble of each frame after a bend has taken out what it does; scene units.

    Only what the bend does fast counts: slower, it takes out motion that is no wobble.
    """
    left = wobble.astype(complex)
    if bend is not None:
        undone = bend.nodes[:, ::EVERY, ::EVERY].reshape(len(wobble), -1).astype(complex)
        moved = without_similarity(undone, wobble_places(bend.canvas))
        left = left - _fast(moved, times, segments)
    return np.asarray(np.sqrt((np.abs(left) ** 2).mean(axis=1)), float)
