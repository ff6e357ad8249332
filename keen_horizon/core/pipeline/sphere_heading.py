"""Where the middle of a sphere looks: the way that it travels, told from its marks."""

from __future__ import annotations

import numpy as np
import scipy

from ..geometry.rotation_vectors import turns_about
from ..motion.sphere_turns import SphereMotion
from ..types import Rays, Real

EVEN = 1.0  # seconds, about, over which the way is evened out
TOLD = 0.5  # of full length, that the mean of directions has to have to tell one
ALIKE = 4.0  # frames that err alike, about
SHARE = 0.3  # of the frames in which it has to


def travelled(motion: SphereMotion, start: int, stop: int) -> tuple[Rays | None, str]:
    """Unit rays ``(n, 3)`` that the camera travels along from frame ``start`` to ``stop``, in the
    axes of the first; None where that cannot be told; and a sentence about it. Where single frames
    do not tell, as those about them."""
    poses, own = motion.poses[start:stop], motion.travel[start:stop]
    ways = np.einsum("nji,nj->ni", poses, own)
    frames = EVEN / float(np.median(np.diff(motion.timeline.times[start:stop])))
    mean = scipy.ndimage.gaussian_filter1d(ways, frames, axis=0, mode="nearest")
    length = np.linalg.norm(mean, axis=1)
    known = np.flatnonzero(length > TOLD)
    if len(known) < SHARE * len(mean):
        return None, (
            "Which way the camera travels could not be told: it hardly moves, or nothing is near "
            "enough to show it. The heading is as recorded."
        )
    mean = mean / np.maximum(length, 1e-9)[:, None]
    at = np.arange(len(mean))
    ahead = np.stack([np.interp(at, known, axis[known]) for axis in mean.T], axis=-1)
    ahead /= np.maximum(np.linalg.norm(ahead, axis=1, keepdims=True), 1e-9)
    # By how much single frames differ, and how many of them speak for one direction together, which
    # err alike as long as they follow the same marks.
    seen = np.linalg.norm(own, axis=1) > 0
    off = np.arccos(np.clip((ways[seen] * ahead[seen]).sum(axis=1), -1, 1))
    count = max(1.0, 2 * np.sqrt(np.pi) * frames / ALIKE)
    sure = np.degrees(np.sqrt((off**2).mean()) / np.sqrt(count))
    return ahead, f"The way that the camera travels is told to about {max(2 * sure, 1):.0f}°."


def heading_for(steadied: Real, ahead: Rays) -> Real:
    """Steadied poses ``(n, 3, 3)`` turned about their own upright so that each looks towards
    ``ahead`` ``(n, 3)``, rays in the axes that the poses are told from."""
    seen = np.einsum("nij,nj->ni", steadied, ahead)
    turn = -np.unwrap(np.arctan2(seen[:, 0], seen[:, 2]))
    return np.asarray(turns_about("y", turn) @ steadied)
