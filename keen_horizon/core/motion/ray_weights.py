"""What marks count in fits to rays: less, the further off they are (Geman, McClure 1987)."""

from __future__ import annotations

import numpy as np

from ..types import Flags, Real

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
    scale = SPAN * typical_size(off, valid)[:, None]
    return np.asarray(valid / (1 + (off / scale) ** 2) ** 2)
