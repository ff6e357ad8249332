"""How a stitched sphere bends from frame to frame, beyond the turn of the camera.

Where a sphere was put together of several lenses' pictures, whose moments of exposure differ, it
bends as the camera shakes (Kopf, *360° video stabilization*, SIGGRAPH Asia 2016, lets each frame
bend for that reason). Here a frame bends by the smoothest field that is no turn (:mod:`..geometry.
bend`), fitted to what turns leave of all marks; of two halves of the marks each by itself, so that
what both tell is known to be there. Only what comes and goes within a second counts: slow bends are
parallax, or were always there.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from ..geometry.bend import COUNT, bend_of, fields_at, rms_of_bends
from ..geometry.canvas import Canvas
from ..geometry.projection import Equirectangular
from ..stored import stored
from ..tracking.correspondences import HALVES, correspondences
from ..tracking.tracks import Tracks
from ..types import Flags, Rays, Real
from .camera_motion import Timeline
from .ray_weights import FINEST, cross, products, weights_of

BATCH = 32  # pairs worked on at once
ROUNDS = 3
ENOUGH = 300  # marks of a pair
LIKELY = np.radians(0.3)  # that a frame bends by against the one before
SLOW = 0.16  # seconds, standard deviation: slower than that is kept
POLE = 0.2  # sine of the angle from the travel within which marks tell little across it
LOW = 0.4  # of the way down, below which things are near, or move with the camera
LEAST = np.radians(0.04)  # rms; less cannot be told from things that move by themselves


@stored
@dataclass(frozen=True)
class StitchWobble:
    """``bends`` ``(n, 2, 3, 3)`` of frames against their neighbours' mean (see :mod:`..geometry.
    bend`); ``size`` and ``doubt``, radians rms over the sphere, of what there was."""

    bends: Real
    size: float
    doubt: float


def stitch_wobble(
    turns: Real, travel: Rays, timeline: Timeline, tracks: Tracks, canvas: Canvas, aside: Flags
) -> StitchWobble:
    """The bends of frames of a stitched sphere that turned and travelled as :class:`.SphereMotion`
    has it, by its ``tracks`` but for the sightings that are set ``aside``; none where halves of the
    marks do not tell the same."""
    n = len(turns)
    steps = np.zeros((HALVES, n, COUNT))
    sphere = Equirectangular.of(canvas)
    for start in range(1, n, BATCH):
        part = np.arange(start, min(start + BATCH, n))
        pairs = correspondences(tracks, canvas, part, aside)
        pairs = pairs[:, :: max(1, pairs.valid.shape[1] // ENOUGH)]
        before, after = sphere.to_rays(pairs.before), sphere.to_rays(pairs.after)
        at = before @ turns[part].swapaxes(1, 2)
        fields = fields_at(at)  # (p, m, 10, 3)
        for half in range(HALVES):
            valid = pairs.of_half(half)
            steps[half, part] = _steps(at, fields, after - at, travel[part], valid)
    steps[:, timeline.cuts] = 0.0
    found = np.zeros_like(steps)
    for start, stop in timeline.segments:
        if stop - start < 4:
            continue
        way = np.cumsum(steps[:, start:stop], axis=1)
        slow = SLOW / float(np.median(np.diff(timeline.times[start:stop])))
        found[:, start:stop] = way - scipy.ndimage.gaussian_filter1d(
            way, slow, axis=1, mode="nearest"
        )
    both = (found[0] * found[1]).mean(axis=0)  # (10,) what is there: chance does not agree
    noise = ((found[0] - found[1]) ** 2).mean(axis=0) / 4
    sure = np.where(both > 0, both / np.maximum(both + noise, 1e-18), 0.0)
    size, doubt = rms_of_bends(np.maximum(both, 0.0)), rms_of_bends(noise)
    if size < max(LEAST, 2 * doubt):
        return StitchWobble(np.zeros((n, 2, 3, 3)), size, doubt)
    return StitchWobble(bend_of(sure * found.mean(axis=0)), size, doubt)


def _steps(at: Rays, fields: Real, left: Rays, travel: Rays, valid: Flags) -> Real:
    """``(p, 10)`` by how much pairs bend, of what turns leave ``(p, m, 3)`` of marks ``at`` unit
    rays, where ``fields`` ``(p, m, 10, 3)`` move them; only across the ``travel`` ``(p, 3)``, where
    there is any."""
    valid = valid & (at[..., 1] < LOW)
    circle = cross(at, travel[:, None])
    sine = np.sqrt((circle**2).sum(axis=-1))
    normal = circle / np.maximum(sine, 1e-9)[..., None]
    moved = np.asarray(travel != 0).any(axis=1).reshape(-1, 1)
    trust = np.where(moved, np.minimum(sine / POLE, 1.0) ** 2, 1.0)
    across = (left * normal).sum(axis=-1)
    slopes = (fields @ normal[..., None])[..., 0]
    still = np.flatnonzero(~moved[:, 0])  # both directions of what is left tell of the bend there
    whole, all_left = _one_below_the_other(fields[still], left[still])
    numbers = np.zeros((len(at), COUNT))
    for _ in range(ROUNDS):
        off = np.abs(across - (slopes @ numbers[..., None])[..., 0])
        if len(still):
            rest = (all_left - whole @ numbers[still, :, None]).reshape(left[still].shape)
            off[still] = np.linalg.norm(rest, axis=-1)
        weights = trust * weights_of(off, valid)
        one = products(weights, slopes, slopes)
        told = products(weights, slopes, across[..., None])
        if len(still):
            twice = np.repeat(weights[still], 3, axis=1)
            one[still] = products(twice, whole, whole)
            told[still] = products(twice, whole, all_left)
        typical = (weights * off**2).sum(axis=1) / np.maximum(weights.sum(axis=1), 1e-12)
        hold = np.maximum(typical, FINEST**2) / LIKELY**2 + 1e-9
        square = one + hold[:, None, None] * np.eye(COUNT)
        numbers = np.linalg.solve(square, told)[..., 0]
    return numbers


def _one_below_the_other(fields: Real, left: Rays) -> tuple[Real, Real]:
    """Fields ``(p, 3m, 10)`` and movements ``(p, 3m, 1)``, an axis of a mark a row."""
    p, m = left.shape[:2]
    return fields.swapaxes(2, 3).reshape(p, 3 * m, COUNT), left.reshape(p, 3 * m, 1)
