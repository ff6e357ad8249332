"""Camera motion from marks: one robust transform a frame pair, for all pairs at once.

Weighted least squares with weights that fade out what does not fit (Geman-McClure), the width of
the fade shrinking step by step (Blake, Zisserman, *Visual Reconstruction*, MIT Press 1987:
graduated non-convexity). It begins at what most of the picture agrees on: see :mod:`.consensus`.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.similarity import Similarities
from .consensus import consensus, votes
from .cuts import find_cuts
from .measure import Measure

Model = Literal["shift", "similarity"]

BATCH = 256  # pairs worked on at once: bounds memory whatever the clip's length
RECORDS_AT_ONCE = 1 << 18  # likewise
FADE_STEPS = 7
FADE_START = 2  # times FADE_END; wider, and a large subject would pull the fit away
FADE_END = 0.0014  # of the picture's half-diagonal: about 1 px at 720 lines
SECOND_THOUGHTS = 4  # times that contradicted pairs are fitted again, at most
CONTRADICTED = 0.5  # mean trust of the steering marks below which a pair is
LEAST_TRUST = 0.02  # so that a frame without trusted marks still has a motion
MARKS_SURE = 40  # steering marks at which their number is no longer a doubt
SHARE_SURE, SHARE_LOST = 0.35, 0.12  # of the picture, by its marks, that agrees with the fit
SPREAD_SURE = 0.18  # rms distance of steering marks from their mean, of the half-diagonal


@dataclass(frozen=True)
class CameraMotion:
    """Motion of ``n`` frames.

    ``steps`` maps scene points of frame ``t - 1`` to frame ``t`` (identity at 0 and at cuts);
    ``marks`` ``(n,)`` counts those that steer; ``confidence`` ``(n,)`` in 0..1; ``residual``
    ``(n,)`` is the rms distance of steering marks from the fit, scene units; ``steering`` bool, one
    per record of the measure. ``times`` ``(n,)`` seconds. ``cuts`` as :func:`find_cuts`,
    counted from the start of the range, as everything here is; ``first`` is the range's first
    frame in the recording.
    """

    model: Model
    steps: Similarities
    marks: NDArray[np.int64]
    confidence: NDArray[np.float64]
    residual: NDArray[np.float64]
    steering: NDArray[np.bool_]
    times: NDArray[np.float64]
    cuts: NDArray[np.intp]
    first: int = 0

    def __len__(self) -> int:
        return len(self.steps)

    @property
    def segments(self) -> list[tuple[int, int]]:
        """Stretches between cuts as ``[start, end)``."""
        edges = [0, *self.cuts.tolist(), len(self)]
        return list(pairwise(edges))

    @property
    def trusted(self) -> Similarities:
        """The steps as far as they can be believed: none where there is no confidence.

        A step that is not believed counts as "the camera did not move", so the correction stays
        where it was: the picture then moves exactly as the source does, without a jump.
        """
        c = np.clip(self.confidence / 0.5, 0.0, 1.0)
        return self.steps.faded(c * c * (3 - 2 * c))


def camera_motion(measure: Measure, canvas: Canvas, model: Model) -> CameraMotion:
    """Fit ``model`` to every frame pair of a measure of pictures of size ``canvas``.

    Where a subject fills much of the picture, single pairs may be fitted to it. A mark that mostly
    moved otherwise than the camera is then not trusted anywhere, and those pairs are fitted again.
    """
    n = len(measure)
    a, b = np.ones(n, complex), np.zeros(n, complex)
    count, confidence, residual = np.zeros(n, np.int64), np.zeros(n), np.zeros(n)
    steering = np.zeros(len(measure.records), bool)
    trust, frames = None, np.arange(1, n)
    for _ in range(1 + SECOND_THOUGHTS):
        for start, stop in _runs(frames):
            pairs = _pairs(measure, canvas, start, stop)
            fit = _fit(pairs, model, canvas, None if trust is None else trust[pairs.mark])
            a[start:stop], b[start:stop] = fit.a, fit.b
            count[start:stop], confidence[start:stop] = fit.count, fit.confidence
            residual[start:stop] = fit.residual
            steering[pairs.record[pairs.valid]] = fit.steer[pairs.valid]
        trust = _trust(measure, steering)
        frames = _contradicted(measure, steering, trust)
        if not len(frames):
            break
    cuts = find_cuts(measure)
    a[cuts], b[cuts], confidence[cuts] = 1.0, 0.0, 1.0
    confidence[0] = 1.0
    return CameraMotion(
        model, Similarities(a, b), count, confidence, residual, steering, measure.times, cuts,
        measure.first,
    )  # fmt: skip


def _runs(frames: NDArray[np.intp]) -> list[tuple[int, int]]:
    """Stretches ``[start, stop)`` of neighbours in ``frames``, none longer than a batch."""
    return [
        (int(piece[0]), int(piece[-1]) + 1)
        for run in np.split(frames, np.nonzero(np.diff(frames) > 1)[0] + 1)
        for piece in np.split(run, range(BATCH, len(run), BATCH))
        if len(piece)
    ]


def _trust(measure: Measure, steering: NDArray[np.bool_]) -> NDArray[np.float64]:
    """``(marks,)`` the share of its sightings in which each mark steered."""
    ids = measure.records["id"]
    marks = int(ids.max(initial=0)) + 1
    seen, steered = np.zeros(marks), np.zeros(marks)
    for start in range(0, len(ids), RECORDS_AT_ONCE):
        rows = slice(start, start + RECORDS_AT_ONCE)
        seen += np.bincount(ids[rows], minlength=marks)
        steered += np.bincount(ids[rows], steering[rows], marks)
    return steered / np.maximum(seen - 1, 1)


def _contradicted(
    measure: Measure, steering: NDArray[np.bool_], trust: NDArray[np.float64]
) -> NDArray[np.intp]:
    """Frames whose steering marks mostly did not steer elsewhere."""
    found = [np.zeros(0, np.intp)]
    for start in range(1, len(measure), BATCH):
        stop = min(start + BATCH, len(measure))
        rows = slice(int(measure.offsets[start]), int(measure.offsets[stop]))
        steer = steering[rows]
        frame = np.repeat(np.arange(stop - start), np.diff(measure.offsets[start : stop + 1]))
        own = trust[measure.records["id"][rows][steer]]
        total = np.bincount(frame[steer], own, stop - start)
        many = np.bincount(frame[steer], minlength=stop - start)
        found.append(start + np.nonzero((many > 0) & (total < CONTRADICTED * many))[0])
    return np.concatenate(found)


@dataclass(frozen=True)
class _Pairs:
    """Marks seen in both frames of each pair, padded: arrays ``(pairs, most marks)``."""

    before: NDArray[np.complex128]
    after: NDArray[np.complex128]
    valid: NDArray[np.bool_]
    record: NDArray[np.intp]  # index of the later sighting
    mark: NDArray[np.intp]  # its number


def _pairs(measure: Measure, canvas: Canvas, start: int, stop: int) -> _Pairs:
    low = int(measure.offsets[start - 1])
    high = int(measure.offsets[stop])
    records = measure.records[low:high]
    counts = np.diff(measure.offsets[start - 1 : stop + 1])
    frame = np.repeat(np.arange(stop - start + 1), counts)
    key = frame.astype(np.int64) << 32 | records["id"].astype(np.int64)
    later = np.nonzero(frame > 0)[0]
    wanted = key[later] - (1 << 32)
    at = np.searchsorted(key, wanted)
    hit = key[np.minimum(at, len(key) - 1)] == wanted if len(key) else np.zeros(0, bool)
    later, earlier = later[hit], at[hit]
    pair = frame[later] - 1
    per_pair = np.bincount(pair, minlength=stop - start)
    slot = np.arange(len(pair)) - np.repeat(np.cumsum(per_pair) - per_pair, per_pair)
    shape = (stop - start, max(1, int(per_pair.max(initial=0))))
    points = np.stack([records["x"], records["y"]], axis=-1).astype(float)
    scene = canvas.to_scene(points)
    before, after = np.zeros(shape, complex), np.zeros(shape, complex)
    valid, record = np.zeros(shape, bool), np.zeros(shape, np.intp)
    mark = np.zeros(shape, np.intp)
    before[pair, slot], after[pair, slot] = scene[earlier], scene[later]
    valid[pair, slot], record[pair, slot] = True, later + low
    mark[pair, slot] = records["id"][later]
    return _Pairs(before, after, valid, record, mark)


@dataclass(frozen=True)
class _Fit:
    a: NDArray[np.complex128]
    b: NDArray[np.complex128]
    steer: NDArray[np.bool_]  # (pairs, most marks)
    count: NDArray[np.int64]
    confidence: NDArray[np.float64]
    residual: NDArray[np.float64]


def _fit(
    pairs: _Pairs, model: Model, canvas: Canvas, trust: NDArray[np.float64] | None
) -> _Fit:
    radius = canvas.radius
    vote = votes(pairs.before, pairs.valid, canvas)
    belief = 1.0 if trust is None else trust + LEAST_TRUST
    a, b = consensus(pairs.before, pairs.after, vote * belief, radius, turns=model != "shift")
    prior = pairs.valid * belief
    end = FADE_END * radius
    for width in end * np.geomspace(FADE_START, 1.0, FADE_STEPS):
        rest = np.abs(pairs.after - (a[:, None] * pairs.before + b[:, None]))
        a, b = _weighted(pairs, prior * _fade(rest, width), model)
    rest = np.abs(pairs.after - (a[:, None] * pairs.before + b[:, None]))
    steer = pairs.valid & (_fade(rest, end) > 0.25)
    count = steer.sum(axis=1)
    many = np.maximum(count, 1)
    mean = np.where(steer, pairs.before, 0).sum(axis=1) / many
    far = np.where(steer, np.abs(pairs.before - mean[:, None]) ** 2, 0).sum(axis=1)
    spread = np.sqrt(far / many) / radius
    share = (vote * steer).sum(axis=1) / np.maximum(vote.sum(axis=1), 1e-9)
    confidence = (
        np.clip(count / MARKS_SURE, 0, 1)
        * np.clip((share - SHARE_LOST) / (SHARE_SURE - SHARE_LOST), 0, 1)
        * np.clip(spread / SPREAD_SURE, 0, 1)
    )
    residual = np.sqrt(np.where(steer, rest**2, 0).sum(axis=1) / many)
    return _Fit(a, b, steer, count, confidence, residual)


def _fade(rest: NDArray[np.float64], width: float) -> NDArray[np.float64]:
    """The weight of what is off by ``rest``."""
    return np.asarray((width**2 / (width**2 + rest * rest)) ** 2)


def _weighted(
    pairs: _Pairs, weight: NDArray[np.float64], model: Model
) -> tuple[NDArray[np.complex128], NDArray[np.complex128]]:
    """Weighted least squares of ``after = a before + b``, closed form, one a row."""
    total = np.maximum(weight.sum(axis=1), 1e-12)
    p = (weight * pairs.before).sum(axis=1) / total
    q = (weight * pairs.after).sum(axis=1) / total
    if model == "shift":
        return np.ones(len(p), complex), np.asarray(q - p)
    before, after = pairs.before - p[:, None], pairs.after - q[:, None]
    power = (weight * np.abs(before) ** 2).sum(axis=1)
    # With fewer than two marks apart from each other only a shift can be told.
    a = np.where(
        power > 1e-9,
        (weight * np.conj(before) * after).sum(axis=1) / np.maximum(power, 1e-9),
        1.0,
    )
    return a, q - a * p
