"""What marks count in fits to rays: less, the further off they are (Geman, McClure 1987); and the
sums over many marks that such fits are made of, of many pairs of frames at once."""

from __future__ import annotations

import numpy as np

from ..types import Flags, Rays, Real

FINEST = np.radians(0.01)  # below which residuals are the tracker's own noise
SPAN = 3.0  # times the typical residual at which a mark's weight has fallen to a quarter


def typical_size(off: Real, valid: Flags) -> Real:
    """``(p,)`` the typical size of residuals ``(p, m)``, as a standard deviation."""
    ordered = np.sort(np.where(valid, np.abs(off), np.inf), axis=1)
    middle = np.maximum(valid.sum(axis=1) - 1, 0) // 2
    found = np.take_along_axis(ordered, middle[:, None], axis=1)[:, 0]
    return np.maximum(1.4826 * np.where(np.isfinite(found), found, 0.0), FINEST)


def weights_of(off: Real, valid: Flags) -> Real:
    """``(p, m)`` what marks count, by how far off they are."""
    return valid * fading(off, SPAN * typical_size(off, valid)[:, None])


def fading(off: Real, scale: Real | float) -> Real:
    """What counts 1 where it fits, and a quarter where it is a ``scale`` off."""
    return np.asarray(1 / (1 + (off / scale) ** 2) ** 2)


def products(weights: Real, one: Real, other: Real) -> Real:
    """``(p, i, j)`` the sums over marks of ``weights`` ``(p, m)`` times the outer products of
    numbers of theirs, ``(p, m, i)`` and ``(p, m, j)``.

    >>> products(np.array([[1.0, 2.0]]), np.array([[[1.0], [3.0]]]), np.ones((1, 2, 2))).tolist()
    [[[7.0, 7.0]]]
    """
    return np.asarray((weights[..., None] * one).swapaxes(1, 2) @ other)


def cross(one: Rays, other: Rays) -> Rays:
    """``(..., 3)`` cross products; as NumPy's, of many rays in half the time."""
    ax, ay, az = (one[..., k] for k in range(3))
    bx, by, bz = (other[..., k] for k in range(3))
    return np.stack([ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx], axis=-1)
