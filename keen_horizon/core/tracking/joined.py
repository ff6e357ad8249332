"""A measure whose parts were made apart from each other, made one.

Each part's marks are sought anew in its first frame, which is the last one of the part before.
There, marks of either that lie on the same thing become one: the later sightings get the earlier
one's number, and are moved by what lay between them, so that what moves from frame to frame is told
as each part told it, and what moves over many frames goes on across the seam.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from zipfile import BadZipFile

import numpy as np
from numpy.typing import NDArray

from ..errors import DamagedMedia
from ..types import Indices, Points, Real
from .tracks import RECORD, Tracks, places_of, write_frames


def join_tracks(parts: Sequence[Path], folder: Path, times: Real, first: int, near: float) -> None:
    """Write the tracks of ``parts``, one after the other, to ``folder``. All but the last hold the
    next one's first frame as their own last. ``times`` ``(n,)`` seconds of all frames, ``first``
    the number of the first; within ``near`` px two marks lie on the same thing. Raises
    DamagedMedia."""
    folder.mkdir(parents=True, exist_ok=True)
    rows: list[Real] = []
    end: _Frame | None = None  # the last one of the part before
    count = 0  # numbers that are given away
    with (folder / "marks.dat").open("wb") as out:
        for k, path in enumerate(parts):
            part = _read(path)
            own, start, told = np.array(part.records), 0, part.rows
            known = int(own["id"].max(initial=0)) + 1
            number, moved = np.arange(count, count + known), np.zeros((known, 2))
            count += known
            if end is not None:
                begin = part.frame(0)
                kept, same = _same(end.marks, begin, near)
                number[begin["id"][same]] = end.marks["id"][kept]
                moved[begin["id"][same]] = places_of(end.marks[kept]) - places_of(begin[same])
                start = len(begin)
                new = np.delete(_renamed(begin, number, moved), same)
                both = np.sort(np.concatenate([end.marks, new]), order="id")
                told[0] = len(both), *end.told[1:]
                both.tofile(out)
            last = k == len(parts) - 1
            stop = len(own) if last else int(part.offsets[-2])
            frame = np.repeat(np.arange(len(part)), np.diff(part.offsets))[start:]
            own = _renamed(own[start:], number, moved)
            own = own[np.lexsort((own["id"], frame))]
            own[: stop - start].tofile(out)
            rows.append(told if last else told[:-1])
            end = _Frame(own[stop - start :], told[-1])
    write_frames(folder, np.concatenate(rows), times, first)


def _read(path: Path) -> Tracks:
    """Raises DamagedMedia for a part that is not all there, as after a power cut."""
    try:
        return Tracks.read(path)
    except (OSError, ValueError, KeyError, BadZipFile) as error:
        raise DamagedMedia(
            "a finished part of the measure has been damaged.", file=path, remedy="Try again."
        ) from error


@dataclass(frozen=True)
class _Frame:
    """One frame's records, and what else is told of it."""

    marks: NDArray[np.void]
    told: Real


def _renamed(records: NDArray[np.void], number: Indices, moved: Points) -> NDArray[np.void]:
    """Records with other numbers, moved: both by their own numbers."""
    out = np.empty(len(records), RECORD)
    out["id"] = number[records["id"]]
    out["x"], out["y"] = (places_of(records) + moved[records["id"]]).T
    return out


def _same(one: NDArray[np.void], other: NDArray[np.void], near: float) -> tuple[Indices, Indices]:
    """Which sightings of two lists lie on the same thing: those that are each other's nearest."""
    if not len(one) or not len(other):
        none = np.zeros(0, np.intp)
        return none, none
    apart = np.hypot(*(places_of(one)[:, None] - places_of(other)[None]).transpose(2, 0, 1))
    nearest = apart.argmin(axis=1)
    mine = np.arange(len(one))
    both = (apart.argmin(axis=0)[nearest] == mine) & (apart[mine, nearest] < near)
    return np.flatnonzero(both), nearest[both]
