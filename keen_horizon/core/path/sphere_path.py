"""The steadied path of a camera that looks everywhere.

Nothing has to stay inside a picture here, so the path is free: as near to the recorded one as its
calm lets it, and as even. With ``P_t`` the recorded camera's pose (rays of the first frame to rays
of frame ``t``) and ``Q_t`` the steadied one's, the sum of ``|log(Q_t inverse(P_t))|^2`` and of the
squared second differences of the steadied camera's own turns ``log(Q_{t+1} inverse(Q_t))`` is
least; the latter weigh as it takes to pass what is slower than a cut-off and stop what is faster
(Whittaker, *On a new method of graduation*, 1923, by third differences; the turns as Lie algebra
elements, so that no axis is special). Each of pitch, yaw and roll, about the steadied camera's own
axes, has its cut-off.
"""

from __future__ import annotations

import numpy as np
import scipy

from ..geometry.rotation import turn_slopes
from ..geometry.rotation_vectors import turns_by, vectors_of
from ..types import Real

AXES = ("pitch", "yaw", "roll")  # about right, down and forward
FASTEST, SLOWEST = 4.0, 0.08  # Hz that pass at a calm just above 0 and at 100
ROUNDS = 8
CLOSE = 1e-6  # radians of a round's change, from which on another one is of no use


def cut_off(calm: float) -> float:
    """Hz above which a calm of 0 (nothing) to 100 stops turns; infinite for 0.

    >>> round(cut_off(100), 3), round(cut_off(50), 3), cut_off(0)
    (0.08, 0.566, inf)
    """
    return FASTEST * (SLOWEST / FASTEST) ** (calm / 100) if calm > 0 else np.inf


def followed_path(poses: Real, times: Real, cut_offs: Real, trust: Real) -> Real:
    """``(n, 3, 3)`` the steadied poses of one stretch without a cut. ``poses`` ``(n, 3, 3)``,
    ``times`` ``(n,)`` seconds; ``cut_offs`` ``(3,)`` Hz of :data:`AXES`, infinite for one that is
    left as it is; ``trust`` ``(n,)`` 0..1 how far each recorded pose is believed."""
    n = len(poses)
    if n < 4 or not np.isfinite(cut_offs).any():
        return poses.copy()
    rate = 1 / np.median(np.diff(times))
    weights = (rate / (2 * np.pi * cut_offs)) ** 3
    pace = np.diff(times)[:, None] * rate  # longer gaps hold more turning
    second = scipy.sparse.diags_array([1.0, -2.0, 1.0], offsets=[0, 1, 2], shape=(n - 3, n - 1))
    even = scipy.sparse.diags_array(1 / np.repeat(pace[:, 0], 3))
    weighed = scipy.sparse.kron(second, scipy.sparse.diags_array(weights)) @ even
    believed = np.repeat(np.maximum(trust, 1e-3), 3)
    found = poses.copy()
    for _ in range(ROUNDS):
        steps = found[1:] @ found[:-1].swapaxes(1, 2)
        turning = vectors_of(steps) / pace
        away = vectors_of(found @ poses.swapaxes(1, 2))
        slopes = turn_slopes(steps, np.arange(n - 1), np.arange(1, n), n)
        slope = weighed @ slopes
        miss = np.asarray(second @ turning) * weights
        square = slope.T @ slope + scipy.sparse.diags_array(believed)
        solved = -scipy.sparse.linalg.splu(square.tocsc()).solve(
            slope.T @ miss.ravel() + believed * away.ravel()
        )
        small = solved.reshape(n, 3)
        # A turn of pi is as near on either side: no round goes further than a linear one may.
        small *= np.minimum(1.0, 1.0 / np.maximum(np.linalg.norm(small, axis=1), 1e-12))[:, None]
        found = turns_by(small) @ found
        if np.abs(small).max() < CLOSE:
            break
    return np.asarray(found)
