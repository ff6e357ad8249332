"""A measure on disk: the marks of every frame of a range, written as they come.

A folder with two files: ``marks.dat``, records ``(id, x, y)`` frame after frame, and ``frames.npz``
with one entry a frame. Writing needs memory for one frame; reading maps the records.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ..types import AnyArray, Points, Real
from .features import FrameFeatures

RECORD = np.dtype([("id", "<u4"), ("x", "<f4"), ("y", "<f4")])


class Follower(Protocol):
    """What gives the features of one frame after another."""

    def step(self, luma: AnyArray) -> FrameFeatures: ...

    @property
    def near(self) -> float:
        """Source px within which two marks, sought apart from each other, lie on the same thing."""
        ...


def places_of(records: NDArray[np.void]) -> Points:
    """``(m, 2)`` px of :data:`RECORD`."""
    return np.stack([records["x"], records["y"]], axis=-1).astype(float)


class TracksWriter:
    """Takes :class:`FrameFeatures` in order; :meth:`close` makes the folder readable."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._folder = folder
        self._rows: list[tuple[int, int, int, float, float]] = []
        self._file = (folder / "marks.dat").open("wb")

    def add(self, marks: FrameFeatures) -> None:
        records = np.empty(len(marks.ids), RECORD)
        records["id"] = marks.ids
        records["x"], records["y"] = marks.points[:, 0], marks.points[:, 1]
        self._file.write(records.tobytes())
        self._rows.append(
            (len(records), marks.started, marks.followed, marks.change, marks.sharpness)
        )

    def close(self, times: NDArray[np.float64], first: int) -> None:
        """``times`` ``(n,)`` seconds of each frame; ``first`` is the range's first frame."""
        self._file.close()
        rows = np.array(self._rows, float).reshape(-1, 5)
        if len(rows) != len(times):
            raise ValueError(f"{len(rows)} frames were measured, {len(times)} were meant")
        write_frames(self._folder, rows, times, first)

    def __enter__(self) -> TracksWriter:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._file.close()


def write_frames(folder: Path, rows: Real, times: Real, first: int) -> None:
    """``rows`` ``(n, 5)``: how many marks a frame has, and the rest of :class:`FrameFeatures`."""
    np.savez(
        folder / "frames.npz",
        counts=rows[:, 0].astype(np.int64),
        started=rows[:, 1].astype(np.int64),
        followed=rows[:, 2].astype(np.int64),
        change=rows[:, 3],
        sharpness=rows[:, 4],
        times=np.asarray(times, float),
        first=np.int64(first),
    )


@dataclass(frozen=True)
class Tracks:
    """A finished measure of ``n`` frames.

    ``records`` :data:`RECORD` (all frames, in order), ``offsets`` int64 ``(n + 1,)`` into it;
    the other arrays ``(n,)`` are those of :class:`FrameFeatures`; ``times`` in seconds.
    """

    records: NDArray[np.void]
    offsets: NDArray[np.int64]
    started: NDArray[np.int64]
    followed: NDArray[np.int64]
    change: NDArray[np.float64]
    sharpness: NDArray[np.float64]
    times: NDArray[np.float64]
    first: int

    @classmethod
    def read(cls, folder: Path) -> Tracks:
        with np.load(folder / "frames.npz", allow_pickle=False) as frames:
            counts = frames["counts"]
            offsets = np.concatenate([[0], np.cumsum(counts)])
            rest = {
                name: frames[name]
                for name in ("started", "followed", "change", "sharpness", "times")
            }
            first = int(frames["first"])
        path = folder / "marks.dat"
        if offsets[-1]:
            records: NDArray[np.void] = np.memmap(path, RECORD, "r", shape=(int(offsets[-1]),))
        else:
            records = np.empty(0, RECORD)
        return cls(records=records, offsets=offsets, first=first, **rest)

    @classmethod
    def from_places(cls, places: Points, times: Real, first: int = 0) -> Tracks:
        """Tracks that are known already: ``places`` ``(n, m, 2)`` px of ``m`` points, NaN in frames
        that do not show them. All pictures count as equally sharp, and none as a cut.

        >>> walk = np.array([[[5.0, 7.0]], [[6.0, 7.0]], [[np.nan, np.nan]]])
        >>> Tracks.from_places(walk, np.arange(3) / 30).offsets.tolist()
        [0, 1, 2, 2]
        """
        seen = np.asarray(np.isfinite(places).all(axis=-1))
        frame, number = np.nonzero(seen)
        records = np.empty(len(frame), RECORD)
        records["id"] = number
        records["x"], records["y"] = places[frame, number].T
        counts = seen.sum(axis=1)
        both = np.concatenate([[0], (seen[1:] & seen[:-1]).sum(axis=1)])
        return cls(
            records=records, offsets=np.concatenate([[0], np.cumsum(counts)]),
            started=np.concatenate([[0], counts[:-1]]), followed=both,
            change=np.zeros(len(counts)), sharpness=np.ones(len(counts)),
            times=np.asarray(times, float), first=first,
        )  # fmt: skip

    def __len__(self) -> int:
        return len(self.times)

    @property
    def rows(self) -> Real:
        """``(n, 5)`` what is told of each frame, see :func:`write_frames`."""
        counts = np.diff(self.offsets)
        told = (counts, self.started, self.followed, self.change, self.sharpness)
        return np.stack([np.asarray(one, float) for one in told], axis=1)

    def window(self, start: int, stop: int) -> Tracks:
        """The measure of some frames alone, counted from the start of the range."""
        low, high = int(self.offsets[start]), int(self.offsets[stop])
        part = slice(start, stop)
        return Tracks(
            records=np.array(self.records[low:high]),
            offsets=self.offsets[start : stop + 1] - low,
            started=self.started[part],
            followed=self.followed[part],
            change=self.change[part],
            sharpness=self.sharpness[part],
            times=self.times[part],
            first=self.first + start,
        )

    def write_window(self, folder: Path, start: int, stop: int) -> None:
        """Write the measure of some frames alone to a new ``folder``, as :meth:`window`."""
        folder.mkdir(parents=True)
        part = slice(start, stop)
        with (folder / "marks.dat").open("wb") as out:
            self.records[self.offsets[start] : self.offsets[stop]].tofile(out)
        write_frames(folder, self.rows[part], self.times[part], self.first + start)

    def frame(self, t: int) -> NDArray[np.void]:
        """The records of frame ``t`` of the range."""
        return self.records[self.offsets[t] : self.offsets[t + 1]]
