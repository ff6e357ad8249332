"""Marks: feature points followed from frame to frame.

Corners by the smaller eigenvalue of the gradient matrix (Shi, Tomasi, *Good features to track*,
CVPR 1994), one per cell of a grid so that they are well spread; followed by pyramidal
Lucas-Kanade (Bouguet 2000, as OpenCV has it); kept only if following them back leads home.
"""

from __future__ import annotations

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
WINDOW = 13  # working pixels, around a mark
LEVELS = 3
ENOUGH = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 12, 0.03)
BACK = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 6, 0.1)  # it only has to tell home
RESEED_EVERY = 10  # frames
RESEED_BELOW = 0.7  # of the marks that the last seeding left
HOME_WITHIN = 0.5  # working pixels between a mark and itself, followed forth and back
CORNER_FLOOR = 1.5e-5  # least corner strength, for luma in 0..1; below it lies noise
CORNER_SHARE = 0.004  # of the strongest corner in the picture
COARSER = 4  # times smaller is the picture in which shades are followed
COARSE_CELLS = 8  # along its shorter side
SHADES_UPTO = 10.0  # its pixels, beyond which brightness is evened out
SHADE_GAIN = 8.0  # of contrast
SHADE_FLOOR = 2e-4  # least corner strength of shades, their contrast enlarged
SHADE_OVER_NOISE = 3e-4  # likewise, by the square of the picture's noise in code values
# From the median Laplacian to the noise (Immerkaer, Fast noise variance estimation, CVIU 1996).
NOISE_OF_EDGES = 1.4826 / 20**0.5
EDGE = 6  # working pixels kept clear of the border
FLAT = 0.02  # contrast of a thumbnail (of 1) below which differences are noise
_THUMB = (32, 18)
NEAR = 1.5  # working pixels between marks on the same corner, each found by itself
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
    """Feeds on luma planes in order and gives the marks of each. Holds three small pictures.

    Where the picture is too plain for corners, broad shades are followed in a coarser one, whose
    marks are known less exactly, but are better than none. ``closer``: more marks, on larger
    pictures, which takes longer."""

    def __init__(self, width: int, height: int, *, closer: bool = False) -> None:
        shrink = _shrink(width, height, closer)
        cells = round(CELLS * CLOSER) if closer else CELLS
        self._full = np.array([width, height], np.float32)
        self._size = (max(16, round(width * shrink)), max(16, round(height * shrink)))
        coarse = (max(16, self._size[0] // COARSER), max(16, self._size[1] // COARSER))
        self._fine = _Layer(self._size, cells, CORNER_FLOOR, CORNER_SHARE)
        self._coarse = _Layer(coarse, COARSE_CELLS, SHADE_FLOOR, 0.0)
        self._thumb: NDArray[np.float32] | None = None
        self._next_id = 0
        self._age = 0

    def step(self, luma: Plane) -> FrameFeatures:
        """Follow the marks into this frame ``(h, w)``, and look for new ones where few are left."""
        picture = working_picture(luma, self._size)
        layers = (self._fine, self._coarse)
        started = len(self._fine.points)
        self._fine.follow(picture)
        self._coarse.follow(_shades(picture, self._coarse.size))
        followed = len(self._fine.points)
        change, self._thumb = picture_change(picture, self._thumb)
        edges = cv2.Laplacian(picture, cv2.CV_16S)[::2, ::2]
        self._age += 1
        if self._age >= RESEED_EVERY or self._next_id == 0 or self._fine.is_thin:
            # Shades have to stand out from what noise leaves when it is averaged.
            noise = float(np.median(np.abs(edges))) * NOISE_OF_EDGES
            self._coarse.floor = max(SHADE_FLOOR, SHADE_OVER_NOISE * noise**2)
            for layer in layers:
                # Corners come first; shades only have what they leave.
                taken = [self._source(other) / self._full for other in layers]
                self._next_id = layer.seed(np.concatenate(taken), self._next_id)
            self._age = 0
        ids = np.concatenate([layer.ids for layer in layers])
        points = np.concatenate([self._source(layer) for layer in layers])
        order = np.argsort(ids)
        return FrameFeatures(ids[order], points[order], started, followed, change, _variance(edges))

    @property
    def near(self) -> float:
        return NEAR * float(self._full[1]) / self._size[1]

    def _source(self, layer: _Layer) -> NDArray[np.float32]:
        """A layer's marks in source pixels."""
        return np.asarray((layer.points + 0.5) * (self._full / layer.size) - 0.5, np.float32)


def working_picture(luma: Plane, size: tuple[int, int]) -> NDArray[np.uint8]:
    """A luma plane in 8 bits, at a ``size`` (px, width and height)."""
    small = cv2.resize(luma, size, interpolation=cv2.INTER_AREA)
    if small.dtype != np.uint8:
        small = cv2.convertScaleAbs(small, alpha=0.25)  # 10 bits
    return np.ascontiguousarray(small)


def picture_change(
    picture: NDArray[np.uint8], before: NDArray[np.float32] | None
) -> tuple[float, NDArray[np.float32]]:
    """How much a picture differs from the one whose thumbnail is ``before``, 0..1 and above; and
    its own thumbnail."""
    # Of as many rows and columns as thumbnails go into whole, which is averaged in a sixth of the
    # time; what is left over at the border is not missed.
    (width, height), (rows, columns) = _THUMB, picture.shape
    whole = picture[: max(rows - rows % height, height), : max(columns - columns % width, width)]
    thumb = cv2.resize(whole, _THUMB, interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    if before is None:
        return 0.0, thumb
    return float(np.abs(thumb - before).mean() / (FLAT + thumb.std())), thumb


def followed(
    before: NDArray[np.uint8], picture: NDArray[np.uint8], points: NDArray[np.float32],
    size: tuple[int, int], window: int,
) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:  # fmt: skip
    """Where ``points`` ``(m, 2)`` of the picture ``before`` are in a ``picture`` of ``size`` (px,
    width and height), by what is in a ``window`` of so many px around each; and which of them were
    truly found."""
    there, found, _ = cv2.calcOpticalFlowPyrLK(
        before, picture, points, None, winSize=(window, window), maxLevel=LEVELS, criteria=ENOUGH
    )
    # The way back starts from where it ought to end: a mark that was truly followed stays there,
    # one that slipped onto something else is driven off.
    back, home, _ = cv2.calcOpticalFlowPyrLK(
        picture, before, there, points.copy(), winSize=(window, window), maxLevel=0, criteria=BACK,
        flags=cv2.OPTFLOW_USE_INITIAL_FLOW,
    )  # fmt: skip
    width, height = size
    good = (found[:, 0] == 1) & (home[:, 0] == 1)
    good &= np.abs(back - points).max(axis=1) < HOME_WITHIN
    good &= (there[:, 0] >= EDGE) & (there[:, 0] < width - EDGE)
    good &= (there[:, 1] >= EDGE) & (there[:, 1] < height - EDGE)
    return there, good


def strongest_corners(
    strength: NDArray[np.float32], cell: int, weakest: float
) -> tuple[NDArray[np.intp], NDArray[np.bool_]]:
    """Of each cell of ``cell`` px square of a picture's corner ``strength``: the place of its
    strongest corner ``(rows, columns, 2)`` px, and whether it has one above ``weakest``."""
    rows, columns = (n // cell for n in strength.shape)
    cells = strength[: rows * cell, : columns * cell]
    cells = cells.reshape(rows, cell, columns, cell).swapaxes(1, 2)
    cells = cells.reshape(rows, columns, cell * cell)
    at = cells.argmax(axis=2)
    best = np.take_along_axis(cells, at[..., None], axis=2)[..., 0]
    row, column = np.indices((rows, columns))
    place = np.stack([column * cell + at % cell, row * cell + at // cell], axis=-1)
    return place, best > weakest


def _shades(picture: NDArray[np.uint8], size: tuple[int, int]) -> NDArray[np.uint8]:
    """What is left of a picture when noise is averaged away and its light evened out, much
    enlarged in contrast: broad, faint shades."""
    small = cv2.resize(picture.astype(np.float32), size, interpolation=cv2.INTER_AREA)
    # What is that broad is as well told by fewer pixels.
    few = cv2.resize(small, None, fx=0.25, fy=0.25, interpolation=cv2.INTER_AREA)
    light = cv2.resize(cv2.GaussianBlur(few, (0, 0), SHADES_UPTO / 4), size)
    return cv2.convertScaleAbs(np.maximum(128 + SHADE_GAIN * (small - light), 0))


def _variance(values: NDArray[Any]) -> float:
    return float(cv2.meanStdDev(values)[1][0, 0] ** 2)


class _Layer:
    """Marks that are followed in pictures of one ``size`` (working pixels, width and height). A
    corner is worth following from strength ``floor`` on, and from a ``share`` of the strongest."""

    def __init__(self, size: tuple[int, int], cells: int, floor: float, share: float) -> None:
        self.size, self.floor, self._share = size, floor, share
        self._cell = max(12, round(min(size) / cells))
        self._before: NDArray[np.uint8] | None = None
        self.points = np.zeros((0, 2), np.float32)  # pixels of this layer
        self.ids = np.zeros(0, np.uint32)
        self._seeded = 0

    @property
    def is_thin(self) -> bool:
        """Whether many of the marks of the last seeding are lost."""
        return len(self.points) < RESEED_BELOW * self._seeded

    def follow(self, picture: NDArray[np.uint8]) -> None:
        """Follow the marks from the picture before into this one."""
        before, self._before = self._before, picture
        if before is None or not len(self.points):
            return
        there, good = followed(before, picture, self.points, self.size, WINDOW)
        self.points, self.ids = there[good], self.ids[good]

    def seed(self, taken: NDArray[np.float32], next_id: int) -> int:
        """Give every cell without a mark its strongest corner, if it has one worth following.

        ``taken`` ``(k, 2)`` are places of marks, as shares of the picture; new ones are numbered
        from ``next_id`` on. Returns the number after the last."""
        assert self._before is not None
        strength = cv2.cornerMinEigenVal(self._before, 5, ksize=3)
        width, height = self.size
        cell = self._cell
        columns, rows = width // cell, height // cell
        if columns and rows:
            strength[:EDGE] = strength[-EDGE:] = 0
            strength[:, :EDGE] = strength[:, -EDGE:] = 0
            highest = float(strength[: rows * cell, : columns * cell].max())
            weakest = max(self.floor, self._share * highest)
            place, wanted = strongest_corners(strength, cell, weakest)
            inside = (taken * self.size // cell).astype(int)
            inside = inside[(inside[:, 0] < columns) & (inside[:, 1] < rows)]
            wanted[inside[:, 1], inside[:, 0]] = False
            fresh = place[wanted]
            ids = np.arange(next_id, next_id + len(fresh), dtype=np.uint32)
            next_id += len(fresh)
            self.points = np.concatenate([self.points, fresh.astype(np.float32)])
            self.ids = np.concatenate([self.ids, ids])
        self._seeded = len(self.points)
        return next_id
