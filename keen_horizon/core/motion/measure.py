"""A measure on disk: the marks of every frame of a range, written as they come.

A folder with two files: ``marks.dat``, records ``(id, x, y)`` frame after frame, and ``frames.npz``
with one entry a frame. Writing needs memory for one frame; reading maps the records.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from types import TracebackType

import numpy as np
from numpy.typing import NDArray

from .marks import FrameMarks

RECORD = np.dtype([("id", "<u4"), ("x", "<f4"), ("y", "<f4")])


class MeasureWriter:
    """Takes :class:`FrameMarks` in order; :meth:`close` makes the folder readable."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._folder = folder
        self._file = (folder / "marks.dat").open("wb")
        self._rows: list[tuple[int, int, int, float, float]] = []

    def add(self, marks: FrameMarks) -> None:
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
        np.savez(
            self._folder / "frames.npz",
            counts=rows[:, 0].astype(np.int64),
            started=rows[:, 1].astype(np.int64),
            followed=rows[:, 2].astype(np.int64),
            change=rows[:, 3],
            sharpness=rows[:, 4],
            times=np.asarray(times, float),
            first=np.int64(first),
        )

    def __enter__(self) -> MeasureWriter:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._file.close()


@dataclass(frozen=True)
class Measure:
    """A finished measure of ``n`` frames.

    ``records`` :data:`RECORD` (all frames, in order), ``offsets`` int64 ``(n + 1,)`` into it;
    the other arrays ``(n,)`` are those of :class:`FrameMarks`; ``times`` in seconds.
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
    def read(cls, folder: Path) -> Measure:
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

    def __len__(self) -> int:
        return len(self.times)

    def frame(self, t: int) -> NDArray[np.void]:
        """The records of frame ``t`` of the range."""
        return self.records[self.offsets[t] : self.offsets[t + 1]]
