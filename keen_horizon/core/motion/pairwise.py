"""Camera motion from marks: one robust transform a frame pair, see :mod:`.fit`."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.similarity import Shifts, Similarities
from ..tracking.blur import blurred_frames
from ..tracking.correspondences import Correspondences, Tally, correspondences
from ..tracking.cuts import find_cuts
from ..tracking.tracks import Tracks
from ..types import Flags, Indices, Real
from .camera_motion import CameraMotion, Evidence, Timeline
from .candidate_chain import Candidates, chain_of
from .dominant_plane import settle
from .robust_fit import FADE_END, BaseModel, Fit, fits

BATCH = 256  # pairs worked on at once: bounds memory whatever the clip's length
KEPT = 8  # batches, at most, whose pairs are kept for the next round
RECORDS_AT_ONCE = 1 << 18  # likewise
SECOND_THOUGHTS = 4  # times that contradicted pairs are fitted again, at most
ASTRAY = 4.0  # times FADE_END, beyond which a mark is not even near the fit
BELONGS = 0.5  # share of its sightings in which a mark of the background is near, at least
CONTRADICTED = 0.5  # mean trust of the steering marks below which a pair is


def pairwise_motion(
    tracks: Tracks, canvas: Canvas, model: BaseModel, excluded: Flags | None = None,
    *, narrow: bool = False,
) -> CameraMotion:  # fmt: skip
    """Fit ``model`` to every pair of neighbouring frames of pictures of size ``canvas``.

    ``excluded`` ``(records,)`` marks sightings that do not take part. With ``narrow`` what is left
    is one subject: few tracks close together are then enough to be believed. Of the result,
    ``steps[t]`` takes frame ``t - 1`` to frame ``t``, scene units; ``steps[0]`` and steps across
    cuts move nothing; ``evidence`` tells how sure each is.

    Where a subject fills much of the picture, single pairs may be fitted to it. So there are two
    candidates for each pair, and the chain of those is taken that the same tracks steer throughout
    (:mod:`.candidate_chain`). A track that mostly moved otherwise than the camera is then not
    trusted anywhere, and pairs that only such tracks steer are fitted again. Lastly the fit settles
    on one depth: see :mod:`.dominant_plane`.

    >>> x, y = np.meshgrid(np.arange(20.0, 600, 40), np.arange(20.0, 460, 40))
    >>> at = np.stack([x.ravel(), y.ravel()], axis=-1)
    >>> moved = at + np.array([[0, 0], [4, 1], [6, -2]])[:, None]
    >>> tracks = Tracks.from_places(moved, np.arange(3) / 30)
    >>> pairwise_motion(tracks, Canvas(640, 480), "similarity").steps.b.round(3).tolist()
    [0j, (4+1j), (2-3j)]
    """
    n = len(tracks)
    found = _Found(n, len(tracks.records))
    candidates = Candidates(n, len(tracks.records))
    batches = _Batches(tracks, canvas, excluded)
    for part, pairs in batches():
        both = fits(pairs, model, canvas, narrow=narrow)
        found.take(part, pairs, both[0])
        candidates.take(part, pairs, both, canvas)
    if n > 1:
        found.replace(np.nonzero(chain_of(candidates) == 1)[0], candidates, tracks)
    for _ in range(SECOND_THOUGHTS):
        trust = _trust(tracks, found.steering)
        frames = _contradicted(tracks, found.steering, trust)
        if not len(frames):
            break
        for start, stop in _runs(frames):
            pairs = correspondences(tracks, canvas, np.arange(start, stop), excluded)
            again = fits(pairs, model, canvas, trust[pairs.mark], narrow=narrow)[0]
            found.take(slice(start, stop), pairs, again)
    marks = int(tracks.records["id"].max(initial=0)) + 1
    settle(found.a, found.b, found.steering, batches, marks, canvas, model)
    astray = _astray(found, batches, Tally(marks), canvas)[tracks.records["id"]]
    if astray.any():
        rest = _Batches(tracks, canvas, astray if excluded is None else astray | excluded)
        settle(found.a, found.b, found.steering, rest, marks, canvas, model)
    cuts = find_cuts(tracks)
    found.a[cuts], found.b[cuts], found.confidence[cuts] = 1.0, 0.0, 1.0
    found.confidence[0] = 1.0
    kind = Shifts if model == "shift" else Similarities
    segments = Timeline(tracks.times, cuts).segments
    return CameraMotion(
        model,
        kind(found.a, found.b),
        Timeline(tracks.times, cuts, tracks.first, blurred_frames(tracks.sharpness, segments)),
        Evidence(
            found.count,
            found.confidence,
            found.residual,
            found.steering,
            np.zeros(0, bool) if excluded is None else excluded,
            astray,
        ),
    )


class _Batches:
    """The pairs of all frames, a batch at a time; those of a short clip are kept."""

    def __init__(self, tracks: Tracks, canvas: Canvas, excluded: Flags | None) -> None:
        self._facts = tracks, canvas
        self._excluded = excluded
        self._kept: list[tuple[slice, Correspondences]] | None = None

    def __call__(self) -> Iterator[tuple[slice, Correspondences]]:
        if self._kept is not None:
            yield from self._kept
            return
        tracks, canvas = self._facts
        kept: list[tuple[slice, Correspondences]] | None = (
            [] if len(tracks) <= KEPT * BATCH else None
        )
        for start, stop in _runs(np.arange(1, len(tracks))):
            pairs = correspondences(tracks, canvas, np.arange(start, stop), self._excluded)
            piece = slice(start, stop), pairs
            if kept is not None:
                kept.append(piece)
            yield piece
        self._kept = kept


class _Found:
    """The fits of all pairs so far, of ``n`` frames and so many records."""

    def __init__(self, n: int, records: int) -> None:
        self.a, self.b = np.ones(n, complex), np.zeros(n, complex)
        self.count = np.zeros(n, np.int64)
        self.confidence, self.residual = np.zeros(n), np.zeros(n)
        self.steering = np.zeros(records, bool)

    def take(self, part: slice, pairs: Correspondences, fit: Fit) -> None:
        self.a[part], self.b[part], self.count[part] = fit.a, fit.b, fit.count
        self.confidence[part], self.residual[part] = fit.confidence, fit.residual
        self.steering[pairs.record[pairs.valid]] = fit.steer[pairs.valid]

    def replace(self, frames: Indices, candidates: Candidates, tracks: Tracks) -> None:
        """Take the second candidate in ``frames``."""
        for name in ("a", "b", "count", "confidence", "residual"):
            second = np.concatenate([getattr(fit, name) for fit in candidates.second])
            getattr(self, name)[frames] = second[frames - 1]
        for t in frames:
            rows = slice(tracks.offsets[t], tracks.offsets[t + 1])
            self.steering[rows] = candidates.steered(1)[rows]


def _runs(frames: Indices) -> list[tuple[int, int]]:
    """Stretches ``[start, stop)`` of neighbours in ``frames``, none longer than a batch."""
    return [
        (int(piece[0]), int(piece[-1]) + 1)
        for run in np.split(frames, np.nonzero(np.diff(frames) > 1)[0] + 1)
        for piece in np.split(run, range(BATCH, len(run), BATCH))
        if len(piece)
    ]


def _trust(tracks: Tracks, steering: Flags) -> Real:
    """``(marks,)`` the share of its sightings in which each mark steered."""
    ids = tracks.records["id"]
    marks = int(ids.max(initial=0)) + 1
    seen, steered = np.zeros(marks), np.zeros(marks)
    for start in range(0, len(ids), RECORDS_AT_ONCE):
        rows = slice(start, start + RECORDS_AT_ONCE)
        seen += np.bincount(ids[rows], minlength=marks)
        steered += np.bincount(ids[rows], steering[rows], marks)
    return steered / np.maximum(seen - 1, 1)


def _astray(found: _Found, batches: _Batches, tally: Tally, canvas: Canvas) -> Flags:
    """``(marks,)`` whether each mark is, in most of its sightings, not even near the fit."""
    for part, pairs in batches():
        off = np.abs(pairs.after - (found.a[part, None] * pairs.before + found.b[part, None]))
        tally.add(pairs, off < ASTRAY * FADE_END * canvas.radius)
    return np.asarray((tally.seen > 0) & (tally.share < BELONGS))


def _contradicted(tracks: Tracks, steering: Flags, trust: Real) -> Indices:
    """Frames whose steering marks mostly did not steer elsewhere."""
    found = [np.zeros(0, np.intp)]
    for start in range(1, len(tracks), BATCH):
        stop = min(start + BATCH, len(tracks))
        rows = slice(int(tracks.offsets[start]), int(tracks.offsets[stop]))
        steer = steering[rows]
        frame = np.repeat(np.arange(stop - start), np.diff(tracks.offsets[start : stop + 1]))
        own = trust[tracks.records["id"][rows][steer]]
        total = np.bincount(frame[steer], own, stop - start)
        many = np.bincount(frame[steer], minlength=stop - start)
        found.append(start + np.nonzero((many > 0) & (total < CONTRADICTED * many))[0])
    return np.concatenate(found)
