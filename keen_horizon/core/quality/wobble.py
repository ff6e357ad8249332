"""Wobble: how much neighbouring parts of the picture move against each other.

Places spread over the picture each have their own path, known from the marks around them. What all
of them do together is the picture's own shift, roll and scale; the fast rest of each is wobble.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.displacement import COLUMNS, ROWS, grid_nodes
from ..geometry.motion import Motion
from ..geometry.stage import Smoothness, WarpStage
from ..types import Complex, Real
from .scores import Segments, fast_part


class Timed(Protocol):
    """What has times, and stretches between cuts."""

    @property
    def times(self) -> Real: ...

    @property
    def segments(self) -> Segments: ...


EVERY = 2  # nodes of a grid between two places
PLACES = ((ROWS + 1) // EVERY, (COLUMNS + 1) // EVERY)  # down and across
WOBBLE_ABOVE = 1.0  # Hz; slower local motion is the scene's own, as when walking past things


def wobble_places(canvas: Canvas) -> Complex:
    """``(54,)`` where wobble is looked for, scene units."""
    return grid_nodes(canvas)[::EVERY, ::EVERY].ravel()


def local_wobble(
    field: NDArray[np.complex64] | None, weight: Real, timeline: Timed, canvas: Canvas,
    more: Complex | None = None,
) -> NDArray[np.complex64]:  # fmt: skip
    """``(n, 54)`` the wobble of the source, scene units: how parts of the picture move against the
    whole, faster than the eye takes for parallax.

    ``field`` ``(n, rows, columns)`` displacements from frame to frame at the nodes of a grid, None
    for none; ``more`` ``(n, 54)`` others at the places themselves (see :func:`wobble_places`);
    ``weight`` ``(n,)`` weighs both, 0..1. What looks like a similarity is no wobble.

    >>> from keen_horizon.core.motion.camera_motion import Timeline
    >>> timeline = Timeline(np.arange(40) / 30, np.zeros(0, np.intp))
    >>> canvas = Canvas(640, 480)
    >>> still = local_wobble(None, np.ones(40), timeline, canvas)
    >>> still.shape, float(np.abs(still).max())
    ((40, 54), 0.0)
    """
    places = wobble_places(canvas)
    moved = np.zeros((len(weight), len(places)), complex)
    if field is not None:
        moved += field[:, ::EVERY, ::EVERY].reshape(len(field), -1)
    if more is not None:
        moved += more
    at = without_similarity(np.asarray(moved * weight[:, None], complex), places)
    paths = np.zeros(at.shape, complex)
    for start, stop in timeline.segments:
        paths[start:stop] = np.cumsum(at[start:stop], axis=0)
    return _fast(paths, timeline.times, timeline.segments)


def _fast(paths: Complex, times: Real, segments: Segments) -> NDArray[np.complex64]:
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


def bent_by(stages: Sequence[WarpStage], canvas: Canvas, n: int) -> Complex | None:
    """``(n, 54)`` how corrections move the picture beyond its shift, roll and scale, at the places
    where wobble is looked for; None where they move it as a whole."""
    bending = [stage for stage in stages if stage.smoothness > Smoothness.AFFINE]
    if not bending:
        return None
    places = wobble_places(canvas)
    moved = np.zeros((n, len(places)), complex)
    points = np.broadcast_to(places, moved.shape)
    for stage in bending:
        if isinstance(stage, Motion):
            moved += stage.apply(points) - places
        else:
            moved += stage.to_source(points) - places
    return without_similarity(moved, places)
