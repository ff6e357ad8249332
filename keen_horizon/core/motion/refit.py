"""Motions fitted again from where they are: one robust step of Gauss and Newton a round.

It asks a motion only for what every kind has (its map, its derivative, how it composes), so shifts,
similarities and turns of a camera are fitted by the same few lines.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.motion import Motion
from ..tracking.correspondences import Correspondences, correspondences
from ..tracking.tracks import Tracks
from ..types import Complex, Real
from .camera_motion import CameraMotion, Evidence
from .pairwise import BATCH
from .robust_fit import FADE_END, fade

REFIT_WIDTHS = (5.0, 4.0, 3.0)  # of the fade, in those that a first fit ends with
PRICE = 0.3  # tracks that have to speak for a coordinate that is priced
LEVEL = 1e-3  # added to the normal equations, tracks: what nothing tells stays as it was
ENOUGH_TRACKS = 30  # that a refit explains, for it to be believed whatever came before


def batches(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion
) -> Iterator[tuple[slice, Correspondences]]:
    """The correspondences of all frame pairs, without what is excluded, some at a time."""
    for start in range(1, len(motion), BATCH):
        frames = np.arange(start, min(start + BATCH, len(motion)))
        pairs = correspondences(tracks, canvas, frames, motion.evidence.left_out)
        yield slice(start, int(frames[-1]) + 1), pairs


def misses(pairs: Correspondences, steps: Motion) -> Complex:
    """``(p, m)`` how far each track is from where a pair's step puts it; 0 where there is none."""
    return np.asarray(np.where(pairs.valid, pairs.after - steps.apply(pairs.before), 0))


def refit_steps(
    steps: Motion, pairs: Correspondences, widths: Real, taking_part: Real | None = None
) -> Motion:
    """Steps ``(p,)`` fitted to pairs from where they are, in as many rounds as there are
    ``widths`` (scene units), beyond which a miss fades out. ``taking_part`` ``(p, m)`` are weights
    of the tracks, None for all alike."""
    weight = pairs.valid.astype(float) if taking_part is None else pairs.valid * taking_part
    price = np.zeros(steps.dimensions)
    for coordinates in steps.priced:
        price[coordinates] = PRICE
    level = np.diag(LEVEL + price)
    for width in widths:
        moved = steps.apply(pairs.before)
        miss = np.where(pairs.valid, pairs.after - moved, 0)
        w = weight * fade(np.abs(miss), width)
        # How a further small motion moves each point where it has come to.
        j = steps.jacobian(moved.ravel()).reshape(*moved.shape, 2, steps.dimensions)
        scale = np.sqrt(np.maximum((j * j).mean(axis=(0, 1, 2)), 1e-12))
        j = j / scale
        gram = np.einsum("pm,pmxi,pmxj->pij", w, j, j, optimize=True) + level
        off = np.stack([miss.real, miss.imag], axis=-1)
        right = np.einsum("pm,pmxi,pmx->pi", w, j, off, optimize=True)
        right -= price * scale * steps.log()
        step = np.linalg.solve(gram, right[..., None])[..., 0] / scale
        steps = steps.exp(step).after(steps)
    return steps


def refit(
    tracks: Tracks,
    canvas: Canvas,
    motion: CameraMotion,
    steps: Motion,
    widths: tuple[float, ...] = REFIT_WIDTHS,
    half: int | None = None,
) -> tuple[Motion, Evidence]:
    """All steps of a motion fitted again, from ``steps`` (of any kind), to all tracks that come
    near: wider than a fit from nothing, so that what is out of place does not lose its say.

    ``steps`` ``(n,)`` are of the kind wanted, and their start; ``widths`` of the fade, one a round,
    in those that a first fit ends with; by every other track alone, the even or odd ones, if a
    ``half`` is named. Where many tracks agree a step is believed, whatever came
    before. Returns the steps and what speaks for them.

    >>> from keen_horizon.core.geometry.similarity import Similarities
    >>> from keen_horizon.core.motion.pairwise import pairwise_motion
    >>> x, y = np.meshgrid(np.arange(20.0, 600, 40), np.arange(20.0, 460, 40))
    >>> at = np.stack([x.ravel(), y.ravel()], axis=-1)
    >>> tracks = Tracks.from_places(np.stack([at, at + [4, 1]]), np.arange(2) / 30)
    >>> canvas = Canvas(640, 480)
    >>> motion = pairwise_motion(tracks, canvas, "shift")
    >>> again, evidence = refit(tracks, canvas, motion, Similarities.none(2))
    >>> again.b.round(2).tolist(), bool(evidence.confidence[1] > 0.9)
    ([0j, (4+1j)], True)
    """
    end = FADE_END * canvas.radius
    tangents = steps.log()
    confidence = motion.evidence.confidence.copy()
    residual = motion.evidence.residual.copy()
    for part, pairs in batches(tracks, canvas, motion):
        own = refit_steps(
            steps[part], pairs, np.array(widths) * end, pairs.of_half(half).astype(float)
        )
        tangents[part] = own.log()
        miss = np.abs(misses(pairs, own))
        near = pairs.valid * fade(miss, widths[-1] * end)
        share = near.sum(axis=1) / np.maximum(pairs.valid.sum(axis=1), 1)
        enough = np.minimum(near.sum(axis=1) / ENOUGH_TRACKS, 1.0)
        agreed = enough * np.clip(2 * share - 0.3, 0, 1)
        confidence[part] = np.maximum(confidence[part], agreed)
        weight = pairs.valid * fade(miss, end)
        total = np.maximum(weight.sum(axis=1), 1e-9)
        residual[part] = np.sqrt((weight * miss**2).sum(axis=1) / total)
    still = np.zeros(len(steps), bool)
    still[0] = still[motion.timeline.cuts] = True
    tangents[still] = 0.0
    kept = motion.evidence
    return steps.exp(tangents), replace(kept, confidence=confidence, residual=residual)
