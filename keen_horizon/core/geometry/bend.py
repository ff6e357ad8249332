"""Small bends of the sphere, as stitching leaves them: smooth, and beyond any turn.

A bend is the smoothest field of displacements that is no turn: by vector spherical harmonics of
degree two, ten numbers. As two symmetric matrices without a trace, ``S`` and ``T``, it takes a unit
ray ``r`` to ``r + S r - (r . S r) r + r x T r``: the part that spreads, and the part that twists.
"""

from __future__ import annotations

import numpy as np

from ..types import Rays, Real

NONE: Real = np.zeros((2, 3, 3))
# Symmetric matrices without a trace, orthonormal.
_R = np.sqrt(0.5)
BASIS: Real = np.array([
    [[0, _R, 0], [_R, 0, 0], [0, 0, 0]],
    [[0, 0, _R], [0, 0, 0], [_R, 0, 0]],
    [[0, 0, 0], [0, 0, _R], [0, _R, 0]],
    [[_R, 0, 0], [0, -_R, 0], [0, 0, 0]],
    np.diag([-1.0, -1.0, 2.0]) / np.sqrt(6),
])  # fmt: skip
COUNT = 2 * len(BASIS)
MEAN_SQUARE = 0.2  # of any one field, over the sphere: by symmetry all move rays as much


def bend_of(numbers: Real) -> Real:
    """``(..., 2, 3, 3)`` of ``(..., 10)`` numbers: five of what spreads, five of what twists."""
    parts = numbers.reshape(*numbers.shape[:-1], 2, len(BASIS))
    return np.asarray(np.einsum("...pk,kij->...pij", parts, BASIS))


def fields_at(rays: Rays) -> Real:
    """``(..., 10, 3)`` what bends of one number each, being 1, move unit rays ``(..., 3)`` by."""
    moved = np.einsum("kij,...j->...ki", BASIS, rays)
    out = (moved * rays[..., None, :]).sum(axis=-1, keepdims=True)
    spreads = moved - out * rays[..., None, :]
    return np.concatenate([spreads, np.cross(rays[..., None, :], moved)], axis=-2)


def bent(rays: Rays, bend: Real) -> Rays:
    """Unit rays ``(..., 3)`` by a bend ``(2, 3, 3)``, about of unit length.

    >>> bent(np.array([0.0, 0.0, 1.0]), bend_of(np.eye(10)[1] / 100)).round(4).tolist()
    [0.0071, 0.0, 1.0]
    """
    if not bend.any():
        return rays
    spread = rays @ bend[0]
    out = (spread * rays).sum(axis=-1, keepdims=True)
    return np.asarray(rays + spread - out * rays + np.cross(rays, rays @ bend[1]))


def rms_of_bends(squares: Real) -> float:
    """Root mean square of what bends move rays by over the sphere, whose numbers' mean squares are
    ``squares`` ``(10,)``."""
    return float(np.sqrt(squares.sum() * MEAN_SQUARE))
