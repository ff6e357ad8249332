"""Following one point of the picture by the small pattern around it.

The pattern is found near where it should be by normalised correlation, then fitted to a fraction of
a pixel by maximising the enhanced correlation coefficient over affine warps (Evangelidis, Psarakis,
*Parametric image alignment using enhanced correlation coefficient maximization*, IEEE TPAMI 2008).
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..errors import BadSetting
from ..geometry.canvas import Canvas
from ..media.decode import Plane, eight_bits
from ..types import Luma
from .camera_motion import CameraMotion, PointTrack
from .held_point import HeldPoint

Luminances = Callable[[int, int], Iterator[Plane]]
CHUNK = 48  # frames held at once where they are needed backwards
LOST = 0.7  # correlation below which the pattern is not the one that was shown
FRESH = 0.9  # below this the pattern is taken anew from the frame before, where it was surer
STEPS = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 40, 1e-4)
PLAIN = 2.0  # grey levels: a pattern whose weaker gradient is less has nothing to hold on to
TRACKS = 1  # to be raised when points are followed differently: what is kept is then made anew


def track_name(point: HeldPoint, first: int, last: int) -> str:
    """What a track depends on, hashed."""
    basis = json.dumps([TRACKS, point.model_dump(mode="json"), first, last], sort_keys=True)
    return hashlib.sha256(basis.encode()).hexdigest()


def follow_point(
    luma: Luminances, canvas: Canvas, motion: CameraMotion, point: HeldPoint,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> PointTrack:  # fmt: skip
    """Follow a point forwards and backwards from where it was placed, and from each frame at which
    it was placed again.

    ``luma(first, last)`` gives the luma planes of frames of the recording, in order. Following
    stops where the point is lost. Raises BadSetting where there is nothing to hold on to, or the
    frame is not in the range.
    """
    n, first = len(motion), motion.timeline.first
    anchors = sorted({p.frame: p.at for p in (point, *point.again)}.items())
    for frame, _ in anchors:
        if not first <= frame < first + n:
            raise BadSetting(f"the held point is placed at frame {frame}, outside the clip.")
    places = np.full(n, np.nan + 0j)
    sure = np.zeros(n)
    nearest = np.full(n, n)
    done = 0
    for k, (frame, at) in enumerate(anchors):
        low = anchors[k - 1][0] if k else first
        high = anchors[k + 1][0] if k + 1 < len(anchors) else first + n - 1
        begin = next(luma(frame, frame))
        pattern = _Pattern.shown(eight_bits(begin), canvas, point, at, frame)
        for way, end in ((1, high), (-1, low)):
            walker = _Walker(pattern, canvas, motion, point, frame)
            taken = _ordered(luma, frame, end, way)
            for now, picture in taken:
                done += 1
                progress(min(done, 2 * n), 2 * n)
                found = walker.at_anchor if now == frame else walker.step(eight_bits(picture), now)
                if found is None:
                    break
                t = now - first
                if abs(now - frame) < nearest[t]:
                    nearest[t] = abs(now - frame)
                    places[t], sure[t] = found
    progress(2 * n, 2 * n)
    return PointTrack(places, sure)


def _ordered(luma: Luminances, start: int, end: int, way: int) -> Iterator[tuple[int, Plane]]:
    """Frames from ``start`` to ``end``, whichever way that is, a chunk at a time."""
    if way > 0:
        for i, picture in enumerate(luma(start, end)):
            yield start + i, picture
        return
    high = start
    while high >= end:
        low = max(end, high - CHUNK + 1)
        pictures = [eight_bits(picture) for picture in luma(low, high)]
        for i in range(len(pictures) - 1, -1, -1):
            yield low + i, pictures[i]
        high = low - 1


@dataclass(frozen=True)
class _Pattern:
    """A square of the picture, ``side`` px, and where its middle was, pixels."""

    picture: NDArray[np.float32]
    at: NDArray[np.float64]

    @classmethod
    def shown(
        cls, luma: Luma, canvas: Canvas, point: HeldPoint, at: tuple[float, float], frame: int
    ) -> _Pattern:
        middle = np.array([at[0] * canvas.width - 0.5, at[1] * canvas.height - 0.5])
        pattern = cls.cut(luma, middle, int(point.pattern * canvas.height) | 1)
        across = cv2.Sobel(pattern.picture, cv2.CV_32F, 1, 0, scale=1 / 8)
        down = cv2.Sobel(pattern.picture, cv2.CV_32F, 0, 1, scale=1 / 8)
        tensor = np.array(
            [[(across**2).mean(), (across * down).mean()],
             [(across * down).mean(), (down**2).mean()]]
        )  # fmt: skip
        # Shi, Tomasi, *Good features to track*, CVPR 1994: both directions have to show.
        if np.sqrt(max(float(np.linalg.eigvalsh(tensor)[0]), 0.0)) < PLAIN:
            raise BadSetting(
                f"there is nothing to hold on to at the place chosen in frame {frame}: it is too "
                "plain, or the same all along an edge.",
                remedy="Choose a corner or a spot with contrast, or a larger pattern box.",
            )
        return pattern

    @classmethod
    def cut(cls, luma: Luma, middle: NDArray[np.float64], side: int) -> _Pattern:
        picture = cv2.getRectSubPix(luma.astype(np.float32), (side, side), tuple(middle.tolist()))
        return cls(picture, middle)


class _Walker:
    """Goes from frame to frame with a pattern."""

    def __init__(
        self, pattern: _Pattern, canvas: Canvas, motion: CameraMotion, point: HeldPoint, frame: int
    ) -> None:
        self._pattern, self._canvas = pattern, canvas
        self._steps, self._first = motion.trusted, motion.timeline.first
        self._reach = max(8, int(point.search * canvas.height / 2))
        side = pattern.picture.shape[0]
        self._warp = np.array([[1, 0, 0], [0, 1, 0]], np.float32)
        self._warp[:, 2] = pattern.at - (side - 1) / 2
        self._frame, self._at = frame, pattern.at
        self._speed = np.zeros(2)  # against the camera
        self._before: tuple[Luma, float] | None = None

    @property
    def at_anchor(self) -> tuple[complex, float]:
        return complex(self._canvas.to_scene(self._at[None])[0]), 1.0

    def step(self, luma: Luma, frame: int) -> tuple[complex, float] | None:
        """Where the point is in the next frame and how surely; None if it is lost."""
        carried = self._carried(frame)
        wanted = carried + self._speed
        found = self._fitted(luma, wanted)
        if found is None or found[1] < LOST:
            return None
        at, sure = found
        self._speed = 0.5 * self._speed + 0.5 * (at - carried)
        if sure < FRESH and self._before is not None and self._before[1] >= FRESH:
            self._renew()
            again = self._fitted(luma, at)
            if again is not None and again[1] >= LOST:
                at, sure = again
        self._frame, self._at = frame, at
        self._before = luma, sure
        return complex(self._canvas.to_scene(at[None])[0]), sure

    def _carried(self, frame: int) -> NDArray[np.float64]:
        """Where the camera's own motion would have taken the point."""
        later = max(frame, self._frame) - self._first
        step = self._steps[later : later + 1]
        carried = (step if frame > self._frame else step.inverse()).apply(
            self._canvas.to_scene(self._at[None])
        )
        return np.asarray(self._canvas.to_pixels(carried[0])[0])

    def _fitted(
        self, luma: Luma, wanted: NDArray[np.float64]
    ) -> tuple[NDArray[np.float64], float] | None:
        side = self._pattern.picture.shape[0]
        half = side // 2
        size = np.array([luma.shape[1], luma.shape[0]])
        low = np.maximum(np.floor(wanted).astype(int) - half - self._reach, 0)
        high = np.minimum(np.floor(wanted).astype(int) + half + self._reach + 1, size)
        if (high - low < side).any():
            return None
        window = luma[low[1] : high[1], low[0] : high[0]].astype(np.float32)
        # The pattern as it looked last, to be found to the pixel.
        centred = self._warp.copy()
        middle = centred[:, :2] @ np.full(2, (side - 1) / 2, np.float32)
        centred[:, 2] = (side - 1) / 2 - middle
        seen = cv2.warpAffine(self._pattern.picture, centred, (side, side),
                              borderMode=cv2.BORDER_REPLICATE)  # fmt: skip
        likeness = cv2.matchTemplate(window, seen, cv2.TM_CCOEFF_NORMED)
        _, _, _, (x, y) = cv2.minMaxLoc(likeness)
        start = centred.copy()
        start[:, 2] += np.array([x, y], np.float32)
        try:
            sure, warp = cv2.findTransformECC(
                self._pattern.picture, window, start, cv2.MOTION_AFFINE, STEPS, None, 3
            )
        except cv2.error:  # no overlap, or it does not converge
            return None
        warp = np.asarray(warp, np.float32)
        at = warp[:, :2] @ np.full(2, (side - 1) / 2) + warp[:, 2] + low
        moved = float(np.abs(at - wanted).max())
        if moved > self._reach + 1 or not 0.5 < float(np.linalg.det(warp[:, :2])) < 2.0:
            return None
        self._warp = warp
        return np.asarray(at, float), float(sure)

    def _renew(self) -> None:
        """Take the pattern from the frame before, about the same point."""
        assert self._before is not None
        side = self._pattern.picture.shape[0]
        self._pattern = _Pattern.cut(self._before[0], self._at, side)
        self._warp = np.array([[1, 0, 0], [0, 1, 0]], np.float32)
