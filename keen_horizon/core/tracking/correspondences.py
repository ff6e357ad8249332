"""Sightings of marks in two frames that follow each other."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from .tracks import Tracks


@dataclass(frozen=True)
class Correspondences:
    """Marks seen in both frames of each pair, padded: arrays ``(pairs, most marks)``."""

    before: NDArray[np.complex128]
    after: NDArray[np.complex128]
    valid: NDArray[np.bool_]
    earlier: NDArray[np.intp]  # index of the earlier sighting's record
    record: NDArray[np.intp]  # and of the later one's
    mark: NDArray[np.intp]  # its number

    def __getitem__(self, rows: NDArray[np.intp]) -> Correspondences:
        return Correspondences(*(getattr(self, f.name)[rows] for f in fields(self)))


def correspondences(
    tracks: Tracks, canvas: Canvas, frames: NDArray[np.intp],
    aside: NDArray[np.bool_] | None = None,
) -> Correspondences:  # fmt: skip
    """The pairs that end in ``frames``, ascending; without records marked in ``aside``."""
    if not len(tracks.records):
        shape = (len(frames), 1)
        none, zero = np.zeros(shape, complex), np.zeros(shape, np.intp)
        return Correspondences(none, none, np.zeros(shape, bool), zero, zero, zero)
    wanted = np.union1d(frames, frames - 1)
    spans = [np.arange(tracks.offsets[t], tracks.offsets[t + 1]) for t in wanted]
    index = np.concatenate(spans)
    frame = np.repeat(wanted, [len(span) for span in spans])
    # A stretch without a gap is read as one; memory-mapped records are slow piece by piece.
    low, high = int(tracks.offsets[wanted[0]]), int(tracks.offsets[wanted[-1] + 1])
    records = tracks.records[low:high][index - low]
    key = frame.astype(np.int64) << 32 | records["id"].astype(np.int64)
    ends = np.zeros(int(wanted[-1]) + 1, bool)
    ends[frames] = True
    takes_part = ends[frame]
    if aside is not None and len(aside):
        takes_part &= ~aside[index]
    later = np.nonzero(takes_part)[0]
    sought = key[later] - (1 << 32)
    at = np.searchsorted(key, sought)
    hit = key[np.minimum(at, len(key) - 1)] == sought if len(key) else np.zeros(0, bool)
    later, earlier = later[hit], at[hit]
    pair = np.searchsorted(frames, frame[later])
    per_pair = np.bincount(pair, minlength=len(frames))
    slot = np.arange(len(pair)) - np.repeat(np.cumsum(per_pair) - per_pair, per_pair)
    shape = (len(frames), max(1, int(per_pair.max(initial=0))))
    points = np.stack([records["x"], records["y"]], axis=-1).astype(float)
    scene = canvas.to_scene(points)
    before, after = np.zeros(shape, complex), np.zeros(shape, complex)
    valid = np.zeros(shape, bool)
    start, record, mark = (np.zeros(shape, np.intp) for _ in range(3))
    before[pair, slot], after[pair, slot] = scene[earlier], scene[later]
    valid[pair, slot] = True
    start[pair, slot], record[pair, slot] = index[earlier], index[later]
    mark[pair, slot] = records["id"][later]
    return Correspondences(before, after, valid, start, record, mark)
