"""Sightings of marks in two frames that lie close together."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np

from ..geometry.canvas import Canvas
from ..types import Complex, Flags, Indices, Real
from .tracks import Tracks, places_of

PARTS = (8, 5)  # of the picture, each with one vote
MIDDLE = 0.35  # of a part's vote at the picture's edge
HALVES = 2  # of the marks, by even and odd numbers, each of which can be held against the other
FEW = 3  # tracks; a part with fewer has less than a vote


@dataclass(frozen=True)
class Correspondences:
    """Marks seen in both frames of each pair, padded: arrays ``(pairs, most marks)``."""

    before: Complex
    after: Complex
    valid: Flags
    earlier: Indices  # index of the earlier sighting's record
    record: Indices  # and of the later one's
    mark: Indices  # its number

    def of_half(self, half: int | None) -> Flags:
        """``(p, m)`` which are valid and of one half of the marks, 0 or 1; None for both."""
        return self.valid if half is None else self.valid & (self.mark % HALVES == half)

    def __getitem__(self, part: Indices | tuple[Indices | slice, slice]) -> Correspondences:
        """Some pairs, or some pairs and some of their places."""
        return Correspondences(*(getattr(self, f.name)[part] for f in fields(self)))


def correspondences(
    tracks: Tracks, canvas: Canvas, frames: Indices,
    aside: Flags | None = None, *, gap: int = 1,
) -> Correspondences:  # fmt: skip
    """Sightings of the same track in frames that lie ``gap`` apart: one row for each of ``frames``.

    ``frames`` ``(pairs,)`` ascending, counted from the start of the range, ``gap`` at least: each
    names the later frame of a pair. ``aside`` ``(records,)`` marks sightings that take no part.
    Places come in the scene plane of ``canvas``; rows are padded to the longest, see ``valid``.

    >>> places = np.array([[[10.0, 10.0], [50.0, 40.0]], [[13.0, 10.0], [np.nan, 0.0]]])
    >>> tracks = Tracks.from_places(places, np.arange(2))
    >>> pairs = correspondences(tracks, Canvas(64, 48), np.array([1]))
    >>> (pairs.after - pairs.before)[pairs.valid].tolist()
    [(3+0j)]
    """
    if not len(tracks.records):
        shape = (len(frames), 1)
        none, zero = np.zeros(shape, complex), np.zeros(shape, np.intp)
        return Correspondences(none, none, np.zeros(shape, bool), zero, zero, zero)
    wanted = np.union1d(frames, frames - gap)
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
    sought = key[later] - (gap << 32)
    at = np.searchsorted(key, sought)
    hit = key[np.minimum(at, len(key) - 1)] == sought if len(key) else np.zeros(0, bool)
    later, earlier = later[hit], at[hit]
    pair = np.searchsorted(frames, frame[later])
    per_pair = np.bincount(pair, minlength=len(frames))
    slot = np.arange(len(pair)) - np.repeat(np.cumsum(per_pair) - per_pair, per_pair)
    shape = (len(frames), max(1, int(per_pair.max(initial=0))))
    points = places_of(records)
    scene = canvas.to_scene(points)
    before, after = np.zeros(shape, complex), np.zeros(shape, complex)
    valid = np.zeros(shape, bool)
    start, record, mark = (np.zeros(shape, np.intp) for _ in range(3))
    before[pair, slot], after[pair, slot] = scene[earlier], scene[later]
    valid[pair, slot] = True
    start[pair, slot], record[pair, slot] = index[earlier], index[later]
    mark[pair, slot] = records["id"][later]
    return Correspondences(before, after, valid, start, record, mark)


class Tally:
    """In how many of its sightings something is so, counted for each of ``marks`` marks."""

    def __init__(self, marks: int) -> None:
        self.so, self.seen = np.zeros(marks), np.zeros(marks)

    def add(self, pairs: Correspondences, so: Flags) -> None:
        """``so`` ``(pairs, marks)``, of sightings that are valid."""
        count = len(self.seen)
        self.so += np.bincount(pairs.mark[pairs.valid & so], minlength=count)
        self.seen += np.bincount(pairs.mark[pairs.valid], minlength=count)

    @property
    def share(self) -> Real:
        """``(marks,)`` of each mark's sightings."""
        return np.asarray(self.so / np.maximum(self.seen, 1))


def votes(points: Complex, valid: Flags, canvas: Canvas) -> Real:
    """``(pairs, marks)`` weight of each mark: that of its part of the picture, shared there.

    ``points`` ``(pairs, marks)`` scene plane, ``valid`` where there is a mark.
    """
    columns, rows = PARTS
    hu, hv = canvas.half
    across = np.clip(((points.real / hu + 1) * columns / 2).astype(int), 0, columns - 1)
    down = np.clip(((points.imag / hv + 1) * rows / 2).astype(int), 0, rows - 1)
    pair = np.arange(len(points))[:, None] * (columns * rows)
    part = np.where(valid, pair + down * columns + across, 0)
    count = np.bincount(part[valid], minlength=len(points) * columns * rows)
    share = np.where(valid, 1.0 / np.maximum(count[part], FEW), 0.0)
    # What is filmed is in the middle, what it stands before is all around it.
    out = np.maximum(np.abs(points.real) / hu, np.abs(points.imag) / hv)
    return np.asarray(share * (MIDDLE + (1 - MIDDLE) * out**2))
