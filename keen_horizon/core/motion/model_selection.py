"""Which motion model a clip asks for: judged by tracks it was not fitted to."""

from __future__ import annotations

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.pinhole import Pinhole
from ..geometry.rotation import Rotations
from ..geometry.similarity import Shifts, Similarities
from ..tracking.correspondences import Correspondences, correspondences
from ..tracking.features import WORKING_HEIGHT
from ..tracking.tracks import Tracks
from ..types import Indices, Real
from .camera_motion import MOTION_MODELS, CameraMotion, ModelChoice
from .refit import misses, refit_steps
from .residual_fields import FIELD_MODELS, ROUNDS, USUAL_STIFFNESS, WIDE, field_fitter
from .robust_fit import FADE_END

PAIRS_ASKED = 80  # frame pairs, evenly spread
AT_ONCE = 40  # of them
WORTH = 0.88  # a richer model must leave less than this share of what a simpler one leaves
SHIFT_ALONE = 0.92  # of what a similarity leaves, that a shift must not exceed to be the choice
WORTH_PX = 0.03  # and at least this much less, working pixels


def turns_from(steps: Similarities, camera: Pinhole) -> Rotations:
    """Turns of a camera that do to the picture's centre what similarities do: where a fit of turns
    begins."""
    n = len(steps)
    roll, shift = np.angle(steps.a), steps.b
    tangents = np.stack([roll, shift.real, shift.imag], axis=-1)
    return Rotations.none(n, camera).exp(tangents)


def asked_pairs(n: int) -> Indices:
    """Frames, evenly spread over ``n``, whose pairs are looked at."""
    return np.unique(np.linspace(1, n - 1, min(n - 1, PAIRS_ASKED)).astype(int))


def choose_model(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion, stiffness: float = USUAL_STIFFNESS,
    camera: Pinhole | None = None,
) -> ModelChoice:  # fmt: skip
    """The simplest model that explains tracks it was not fitted to about as well as any.

    Of evenly spread frame pairs, every other track is held out: what a model leaves of those, rms
    pixels, is what it is judged by. Rotation is tried where the ``camera`` is known. ``motion`` is
    the fit of similarities that the models begin from; ``stiffness`` 0..100 that of a mesh.

    >>> from keen_horizon.core.motion.pairwise import pairwise_motion
    >>> x, y = np.meshgrid(np.arange(20.0, 600, 30), np.arange(20.0, 440, 30))
    >>> at = np.stack([x.ravel(), y.ravel()], axis=-1)
    >>> shifts = np.random.default_rng(1).uniform(-6, 6, (8, 1, 2)).cumsum(axis=0)
    >>> tracks, canvas = Tracks.from_places(at + shifts, np.arange(8) / 30), Canvas(640, 480)
    >>> motion = pairwise_motion(tracks, canvas, "similarity")
    >>> round(choose_model(tracks, canvas, motion).left["shift"], 2)
    0.0
    """
    left = {}
    for model in MOTION_MODELS:
        if model == "rotation" and camera is None:
            continue
        total, weight = 0.0, 0.0
        asked = asked_pairs(len(motion))
        for frames in np.array_split(asked, max(1, len(asked) // AT_ONCE)):
            pairs = correspondences(tracks, canvas, frames, motion.evidence.excluded)
            miss, held = _held_out(pairs, motion, frames, model, stiffness, camera, canvas)
            confident = motion.evidence.confidence[frames][:, None]
            total += float((confident * miss**2).sum())
            weight += float((confident * held).sum())
        left[model] = float(np.sqrt(total / max(weight, 1e-9)))
    # A shift alone is right only where turns and scales are noise that a similarity fits.
    chosen = "shift" if left["shift"] <= SHIFT_ALONE * left["similarity"] else "similarity"
    step = WORTH_PX * canvas.height / WORKING_HEIGHT
    for model in list(MOTION_MODELS)[2:]:
        better = left.get(model, np.inf) < WORTH * left[chosen]
        if better and left[model] < left[chosen] - step:
            chosen = model
    return ModelChoice(chosen, left)


def _held_out(
    pairs: Correspondences, motion: CameraMotion, frames: Indices, model: str, stiffness: float,
    camera: Pinhole | None, canvas: Canvas,
) -> tuple[Real, Real]:  # fmt: skip
    """How far odd tracks miss a model fitted to the even ones, and which they are, ``(p, m)``."""
    odd = pairs.mark % 2 == 1
    wide = WIDE * FADE_END * canvas.radius
    widths = FADE_END * canvas.radius * np.geomspace(WIDE, 1.0, ROUNDS)
    steps = motion.steps[frames]
    if model in FIELD_MODELS:
        fitter = field_fitter(model, canvas, stiffness)
        rest = misses(pairs, steps)
        found = fitter.fit(pairs.before, rest, pairs.valid & ~odd)
        miss = np.abs(rest - fitter.values(fitter.design(pairs.before), found))
    else:
        assert isinstance(steps, Similarities)
        if model == "rotation" and camera is not None:
            start = turns_from(steps, camera[frames])
            own = refit_steps(start, pairs, widths, (~odd).astype(float))
        elif model == "shift":
            shifts = Shifts(np.ones(len(steps), complex), steps.b)
            own = refit_steps(shifts, pairs, widths, (~odd).astype(float))
        else:
            own = refit_steps(steps, pairs, widths, (~odd).astype(float))
        miss = np.abs(misses(pairs, own))
    held = pairs.valid & odd
    # What no model explains (a subject) counts the same for all.
    return np.where(held, np.minimum(miss, wide), 0.0), held.astype(float)


def fit_residual(tracks: Tracks, canvas: Canvas, motion: CameraMotion) -> float | None:
    """Rms distance, px of the recorded picture, by which tracks that are near it miss the motion's
    steps; of evenly spread frame pairs. The same for undistorted tracks and others."""
    if len(motion) < 2:
        return None
    asked = asked_pairs(len(motion))
    near = WIDE * FADE_END * canvas.radius
    total, count = 0.0, 0
    for frames in np.array_split(asked, max(1, len(asked) // AT_ONCE)):
        pairs = correspondences(tracks, canvas, frames, motion.evidence.excluded)
        miss = np.abs(misses(pairs, motion.steps[frames]))
        if motion.lens is not None:
            lens = motion.lens[frames]
            miss = miss / np.maximum(lens.stretch(lens.distort(pairs.before)), 1e-6)
        confident = (motion.evidence.confidence[frames] > 0.5)[:, None]
        kept = pairs.valid & (miss < near) & confident
        total, count = total + float((miss[kept] ** 2).sum()), count + int(kept.sum())
    return float(np.sqrt(total / count)) if count else None
