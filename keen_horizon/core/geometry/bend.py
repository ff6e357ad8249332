"""Small bends of the sphere, as stitching leaves them, beyond any turn.

A bend has three parts. Two are the smoothest fields of displacements that are no turn: by vector
spherical harmonics of degree two, ten numbers, or two symmetric matrices without a trace, ``S`` and
``T``. The third turns the half behind one way and the half ahead the other, as two lenses do whose
moments of exposure differ: a skew matrix ``H``. It takes a unit ray ``r`` to ``r + S r - (r . S r)
r + r x T r + s H r``, where ``s`` goes from -1 ahead to 1 behind, where the halves meet.
"""

from __future__ import annotations

import numpy as np

from ..types import Rays, Real

NONE: Real = np.zeros((3, 3, 3))
MEETS = 0.1  # of a ray's share of the axis, on either side of where halves meet: there they blend
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
    """``(..., 3, 3, 3)`` of ``(..., 10)`` numbers: five of what spreads, five of what twists."""
    parts = numbers.reshape(*numbers.shape[:-1], 2, len(BASIS))
    smooth = np.einsum("...pk,kij->...pij", parts, BASIS)
    return np.concatenate([smooth, np.zeros((*numbers.shape[:-1], 1, 3, 3))], axis=-3)


def bend_of_halves(vectors: Real) -> Real:
    """``(n, 3, 3, 3)`` that turn the half behind by rotation vectors ``(n, 3)``, small, and the
    half ahead by as much the other way.

    >>> behind = bent(np.array([0.0, 0.0, -1.0]), bend_of_halves(np.array([[0, 0.01, 0]]))[0])
    >>> behind.round(3).tolist()
    [-0.01, 0.0, -1.0]
    """
    bends = np.zeros((len(vectors), 3, 3, 3))
    for k, (i, j) in enumerate(((1, 2), (2, 0), (0, 1))):
        bends[:, 2, i, j], bends[:, 2, j, i] = -vectors[:, k], vectors[:, k]
    return bends


def half_of(rays: Rays) -> Real:
    """``(...)`` -1 ahead, 1 behind, and between where the halves meet."""
    share = np.clip(-rays[..., 2] / MEETS, -1.0, 1.0)
    return np.asarray(share * (3 - share**2) / 2)


def fields_at(rays: Rays) -> Real:
    """``(..., 10, 3)`` what bends of one number each, being 1, move unit rays ``(..., 3)`` by."""
    moved = np.einsum("kij,...j->...ki", BASIS, rays)
    out = (moved * rays[..., None, :]).sum(axis=-1, keepdims=True)
    spreads = moved - out * rays[..., None, :]
    return np.concatenate([spreads, np.cross(rays[..., None, :], moved)], axis=-2)


def bent(rays: Rays, bend: Real) -> Rays:
    """Unit rays ``(..., 3)`` by a bend ``(3, 3, 3)``, about of unit length.

    >>> bent(np.array([0.0, 0.0, 1.0]), bend_of(np.eye(10)[1] / 100)).round(4).tolist()
    [0.0071, 0.0, 1.0]
    """
    if not bend.any():
        return rays
    spread = rays @ bend[0]
    out = (spread * rays).sum(axis=-1, keepdims=True)
    smooth = rays + spread - out * rays + np.cross(rays, rays @ bend[1])
    if not bend[2].any():
        return np.asarray(smooth)
    return np.asarray(smooth + half_of(rays)[..., None] * (rays @ bend[2].T))


def rms_of_bends(squares: Real) -> float:
    """Root mean square of what bends move rays by over the sphere, whose numbers' mean squares are
    ``squares`` ``(10,)``."""
    return float(np.sqrt(squares.sum() * MEAN_SQUARE))
