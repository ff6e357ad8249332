"""Marks: feature points followed from frame to frame.

Corners by the smaller eigenvalue of the gradient matrix (Shi, Tomasi, *Good features to track*,
CVPR 1994), one per cell of a grid so that they are well spread; followed by pyramidal
Lucas-Kanade (Bouguet 2000, as OpenCV has it); kept only if following them back leads home.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..media.decode import Plane

WORKING_HEIGHT = 540
CELLS = 13  # along the shorter side; one new mark a cell at most
CLOSER = 1.6  # times as many cells either way, and as large a picture, for a closer measure
CLOSER_COST = 2.6  # times as long as that takes
WINDOW = (15, 15)
LEVELS = 3
ENOUGH = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 12, 0.03)
RESEED_EVERY = 10  # frames
RESEED_BELOW = 0.7  # of the marks that the last seeding left
HOME_WITHIN = 0.5  # working pixels between a mark and itself, followed forth and back
CORNER_FLOOR = 1.5e-5  # least corner strength, for luma in 0..1; below it lies noise
CORNER_SHARE = 0.004  # of the strongest corner in the picture
EDGE = 6  # working pixels kept clear of the border
FLAT = 0.02  # contrast of a thumbnail (of 1) below which differences are noise
_THUMB = (32, 18)
ACCURACY = 0.15  # working pixels to which motion is known (docs/benchmarks.md)


def _shrink(width: int, height: int, closer: bool = False) -> float:
    return min(1.0, WORKING_HEIGHT * (CLOSER if closer else 1.0) / min(width, height))


def accuracy(canvas: Canvas) -> float:
    """Source pixels to which motion is known in pictures of size ``canvas``."""
    return ACCURACY / _shrink(canvas.width, canvas.height)


@dataclass(frozen=True)
class FrameFeatures:
    """What one frame gave.

    ``ids`` uint32 ``(m,)`` ascending, the same number for the same mark in every frame;
    ``points`` float32 ``(m, 2)`` source pixels. ``followed`` of ``started`` marks of the frame
    before were found again. ``change`` is the mean difference of thumbnails (0..1),
    ``sharpness`` the variance of the Laplacian of the working picture.
    """

    ids: NDArray[np.uint32]
    points: NDArray[np.float32]
    started: int
    followed: int
    change: float
    sharpness: float


class FeatureTracker:
    """Feeds on luma planes in order and gives the marks of each. Holds two small pictures.

    ``closer``: more marks, on larger pictures, which takes longer."""

    def __init__(self, width: int, height: int, *, closer: bool = False) -> None:
        shrink = _shrink(width, height, closer)
        self._cells = round(CELLS * CLOSER) if closer else CELLS
        self._size = (max(16, round(width * shrink)), max(16, round(height * shrink)))
        self._factor = np.array([width / self._size[0], height / self._size[1]], np.float32)
        self._before: NDArray[np.uint8] | None = None
        self._thumb: NDArray[np.float32] | None = None
        self._points = np.zeros((0, 2), np.float32)  # working pixels
        self._ids = np.zeros(0, np.uint32)
        self._next_id = 0
        self._seeded = 0
        self._age = 0

    def step(self, luma: Plane) -> FrameFeatures:
        """Follow the marks into this frame ``(h, w)``, and look for new ones where few are left."""
        picture = self._reduce(luma)
        started = len(self._points)
        if self._before is not None and started:
            self._follow(self._before, picture)
        followed = len(self._points)
        change = self._change(picture)
        self._age += 1
        if (
            self._before is None
            or self._age >= RESEED_EVERY
            or (followed < RESEED_BELOW * self._seeded)
        ):
            self._seed(picture)
        self._before = picture
        sharpness = float(cv2.Laplacian(picture, cv2.CV_16S)[::2, ::2].var())
        source = (self._points + 0.5) * self._factor - 0.5
        return FrameFeatures(self._ids, source, started, followed, change, sharpness)

    def state(self) -> dict[str, NDArray[Any]]:
        """All it knows after the last frame, for :meth:`restore`."""
        assert self._before is not None
        assert self._thumb is not None
        return {
            "before": self._before,
            "thumb": self._thumb,
            "points": self._points,
            "ids": self._ids,
            "counts": np.array([self._next_id, self._seeded, self._age]),
        }

    def restore(self, state: Mapping[str, NDArray[Any]]) -> None:
        """Go on as the follower did whose :meth:`state` this is."""
        self._before, self._thumb = state["before"], state["thumb"]
        self._points, self._ids = state["points"], state["ids"]
        self._next_id, self._seeded, self._age = (int(n) for n in state["counts"])

    def _reduce(self, luma: Plane) -> NDArray[np.uint8]:
        small = cv2.resize(luma, self._size, interpolation=cv2.INTER_AREA)
        if small.dtype != np.uint8:
            small = cv2.convertScaleAbs(small, alpha=0.25)  # 10 bits
        return np.ascontiguousarray(small)

    def _change(self, picture: NDArray[np.uint8]) -> float:
        thumb = cv2.resize(picture, _THUMB, interpolation=cv2.INTER_AREA).astype(np.float32) / 255
        before, self._thumb = self._thumb, thumb
        if before is None:
            return 0.0
        return float(np.abs(thumb - before).mean() / (FLAT + thumb.std()))

    def _follow(self, before: NDArray[np.uint8], picture: NDArray[np.uint8]) -> None:
        there, found, _ = cv2.calcOpticalFlowPyrLK(
            before, picture, self._points, None, winSize=WINDOW, maxLevel=LEVELS, criteria=ENOUGH
        )
        # The way back starts from where it ought to end: a mark that was truly followed stays
        # there, one that slipped onto something else is driven off.
        back, home, _ = cv2.calcOpticalFlowPyrLK(
            picture, before, there, self._points.copy(), winSize=WINDOW, maxLevel=1,
            criteria=ENOUGH, flags=cv2.OPTFLOW_USE_INITIAL_FLOW,
        )  # fmt: skip
        width, height = self._size
        good = (found[:, 0] == 1) & (home[:, 0] == 1)
        good &= np.abs(back - self._points).max(axis=1) < HOME_WITHIN
        good &= (there[:, 0] >= EDGE) & (there[:, 0] < width - EDGE)
        good &= (there[:, 1] >= EDGE) & (there[:, 1] < height - EDGE)
        self._points, self._ids = there[good], self._ids[good]

    def _seed(self, picture: NDArray[np.uint8]) -> None:
        """Give every cell without a mark its strongest corner, if it has one worth following."""
        strength = cv2.cornerMinEigenVal(picture, 5, ksize=3)
        width, height = self._size
        cell = max(12, round(min(width, height) / self._cells))
        columns, rows = width // cell, height // cell
        if columns and rows:
            strength[:EDGE] = strength[-EDGE:] = 0
            strength[:, :EDGE] = strength[:, -EDGE:] = 0
            cells = strength[: rows * cell, : columns * cell]
            cells = cells.reshape(rows, cell, columns, cell).swapaxes(1, 2)
            cells = cells.reshape(rows, columns, cell * cell)
            at = cells.argmax(axis=2)
            best = np.take_along_axis(cells, at[..., None], axis=2)[..., 0]
            wanted = best > max(CORNER_FLOOR, CORNER_SHARE * float(best.max()))
            taken = (self._points // cell).astype(int)
            inside = (taken[:, 0] < columns) & (taken[:, 1] < rows)
            wanted[taken[inside, 1], taken[inside, 0]] = False
            row, column = np.nonzero(wanted)
            place = at[row, column]
            fresh = np.stack([column * cell + place % cell, row * cell + place // cell], axis=-1)
            ids = np.arange(self._next_id, self._next_id + len(fresh), dtype=np.uint32)
            self._next_id += len(fresh)
            self._points = np.concatenate([self._points, fresh.astype(np.float32)])
            self._ids = np.concatenate([self._ids, ids])
        self._seeded = len(self._points)
        self._age = 0
