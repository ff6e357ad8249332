"""How well a motion fits the tracks it stands on."""

from __future__ import annotations

import numpy as np

from ..geometry.canvas import Canvas
from ..tracking.correspondences import correspondences
from ..tracking.tracks import Tracks
from ..types import Indices
from .camera_motion import CameraMotion
from .refit import misses
from .residual_fields import WIDE
from .robust_fit import FADE_END

PAIRS_ASKED = 80  # frame pairs, evenly spread
AT_ONCE = 40  # of them


def asked_pairs(n: int) -> Indices:
    """Frames, evenly spread over ``n``, whose pairs are looked at."""
    return np.unique(np.linspace(1, n - 1, min(n - 1, PAIRS_ASKED)).astype(int))


def fit_residual(tracks: Tracks, canvas: Canvas, motion: CameraMotion) -> float | None:
    """Rms distance, px of the recorded picture, by which tracks that are near it miss the motion's
    steps; of evenly spread frame pairs. The same for undistorted tracks and others."""
    if len(motion) < 2:
        return None
    asked = asked_pairs(len(motion))
    near = WIDE * FADE_END * canvas.radius
    total, count = 0.0, 0
    for frames in np.array_split(asked, max(1, len(asked) // AT_ONCE)):
        pairs = correspondences(tracks, canvas, frames, motion.evidence.left_out)
        miss = np.abs(misses(pairs, motion.steps[frames]))
        if motion.lens is not None:
            lens = motion.lens[frames]
            miss = miss / np.maximum(lens.stretch(lens.distort(pairs.before)), 1e-6)
        confident = (motion.evidence.confidence[frames] > 0.5)[:, None]
        kept = pairs.valid & (miss < near) & confident
        total, count = total + float((miss[kept] ** 2).sum()), count + int(kept.sum())
    return float(np.sqrt(total / count)) if count else None
