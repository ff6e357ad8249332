"""How far a finished picture's background still moves: from its pixels, and the scene's truth.

Every output frame is registered to its source frame by what is seen in both; the scene point behind
each place of the output is looked up, and where that is seen in the next output frame. Nothing that
the product says of itself is used.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import av
import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.signal import butter, sosfiltfilt

from keen_horizon.core.geometry.chain import WarpChain

from .scene import Array, Scene

GRID = 5  # places across and down
WITHIN = 0.8  # of the half width and height, that they spread over
CORNERS = 500
DEGREE = 5  # of what a homography leaves of the map from output to source: rows, bends
SHAKE_ABOVE = 1.0  # Hz
NEWTON = 6
ENOUGH = 60  # matches, for a registration to be taken


def luma(path: Path) -> Iterator[NDArray[np.uint8]]:
    with av.open(str(path)) as file:
        for frame in file.decode(video=0):
            yield frame.to_ndarray(format="gray")


class Map(Protocol):
    """Where the output of one frame was fetched from; px ``(m, 2)`` both ways."""

    def to_source(self, at: Array) -> Array: ...

    def to_output(self, source: Array, start: Array) -> Array: ...


@dataclass(frozen=True)
class Drawn:
    """The map of one frame that was drawn through: what its pixels tell, without their noise."""

    frame: WarpChain

    def to_source(self, at: Array) -> Array:
        return self.frame.sampled(at)[0]

    def to_output(self, source: Array, start: Array) -> Array:
        view = self.frame.view
        shown = self.frame.to_output(self.frame.source.to_scene(source)[None])
        return view.output.to_pixels(view.similarities(1).to_output(shown))[0]


@dataclass(frozen=True)
class Registration:
    """Output pixels to source pixels: a homography, and a polynomial on top."""

    homography: Array
    rest: Array  # (terms, 2)
    size: tuple[int, int]

    def to_source(self, at: Array) -> Array:
        return _mapped(self.homography, at) + _terms(at, self.size) @ self.rest

    def to_output(self, source: Array, start: Array) -> Array:
        at = start
        for _ in range(NEWTON):
            e = 0.5
            now = self.to_source(at)
            across = (self.to_source(at + np.array([e, 0])) - now) / e
            down = (self.to_source(at + np.array([0, e])) - now) / e
            jacobian = np.stack([across, down], axis=-1)
            at = at + np.linalg.solve(jacobian, (source - now)[..., None])[..., 0]
        return at

    @classmethod
    def nothing(cls, size: tuple[int, int]) -> Registration:
        return cls(np.eye(3), np.zeros((len(_terms(np.zeros((1, 2)), size)[0]), 2)), size)


def _mapped(h: Array, at: Array) -> Array:
    seen = np.concatenate([at, np.ones_like(at[..., :1])], axis=-1) @ h.T
    return seen[..., :2] / seen[..., 2:]


def _terms(at: Array, size: tuple[int, int]) -> Array:
    x, y = (2 * at / np.array(size) - 1).T
    return np.stack(
        [x**i * y**j for i in range(DEGREE + 1) for j in range(DEGREE + 1 - i)], axis=-1
    )


def registered(
    output: NDArray[np.uint8], source: NDArray[np.uint8], before: Registration | None
) -> Registration | None:
    """The map from an output frame to its source frame."""
    size = output.shape[1], output.shape[0]
    h = before.homography if before is not None else _from_nothing(output, source)
    if h is None:
        return None
    corners = cv2.goodFeaturesToTrack(output, CORNERS, 0.002, size[1] / 45)
    if corners is None or len(corners) < ENOUGH:
        return None
    here = corners[:, 0].astype(np.float32)
    wide = (31, 31)
    for _ in range(3):
        warped = cv2.warpPerspective(
            source, h, size, flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_REPLICATE,
        )  # fmt: skip
        there, ok, _ = cv2.calcOpticalFlowPyrLK(
            output, warped, here, None, winSize=wide, maxLevel=4
        )
        back, again, _ = cv2.calcOpticalFlowPyrLK(
            warped, output, there, None, winSize=wide, maxLevel=4
        )
        good = (ok[:, 0] > 0) & (again[:, 0] > 0) & (np.linalg.norm(back - here, axis=1) < 0.5)
        if good.sum() < ENOUGH:
            return registered(output, source, None) if before is not None else None
        on_source = _mapped(h, there[good].astype(float))
        h, inside = cv2.findHomography(here[good], on_source, cv2.RANSAC, 1.5)
        if h is None or inside.sum() < ENOUGH:
            return registered(output, source, None) if before is not None else None
    at = here[good].astype(float)
    off = on_source - _mapped(h, at)
    design = _terms(at, size)
    weight = np.ones(len(at))
    rest = np.zeros((design.shape[1], 2))
    for _ in range(6):
        w = weight[:, None]
        gram = design.T @ (w * design) + 1e-3 * len(at) * np.eye(design.shape[1]) * 1e-2
        rest = np.linalg.solve(gram, design.T @ (w * off))
        miss = np.linalg.norm(off - design @ rest, axis=1)
        weight = 1 / (1 + (miss / 0.15) ** 2) ** 2
    return Registration(h, rest, size)


def _from_nothing(output: NDArray[np.uint8], source: NDArray[np.uint8]) -> Array | None:
    finder = cv2.ORB_create(2500, fastThreshold=5)
    (ka, da), (kb, db) = (finder.detectAndCompute(p, None) for p in (output, source))
    if da is None or db is None:
        return None
    matches = cv2.BFMatcher(cv2.NORM_HAMMING, crossCheck=True).match(da, db)
    if len(matches) < 12:
        return None
    a = np.float32([ka[m.queryIdx].pt for m in matches])
    b = np.float32([kb[m.trainIdx].pt for m in matches])
    h, _ = cv2.findHomography(a, b, cv2.RANSAC, 3.0)
    return h


def grid(size: tuple[int, int]) -> Array:
    """``(25, 2)`` px."""
    w, h = size
    u = np.linspace(-WITHIN, WITHIN, GRID)
    x, y = np.meshgrid((w - 1) / 2 * (1 + u), (h - 1) / 2 * (1 + u))
    return np.stack([x.ravel(), y.ravel()], axis=-1)


@dataclass(frozen=True)
class Judged:
    """``shake`` px rms above 1 Hz of the output, ``before`` of the source; ``jump`` the largest
    step of any place between two frames, against ``jump_before``; ``still`` rms and ``strayed``
    the most that the background strays from where one frame has it; ``lost`` frames that could not
    be registered."""

    shake: float
    before: float
    jump: float
    jump_before: float
    still: float
    strayed: float
    lost: int

    @property
    def left(self) -> float:
        """Percent."""
        return 100 * self.shake / self.before


def judged(scene: Scene, source: Path, output: Path) -> Judged:
    """The finished picture ``output`` of a recording ``source`` of ``scene``."""
    maps: list[Registration | None] = []
    before = None
    for out, src in zip(luma(output), luma(source), strict=True):
        before = registered(out, src, before)
        maps.append(before)
    known = [m for m in maps if m is not None]
    if not known:
        raise RuntimeError("no output frame could be registered")
    last = known[0]
    filled = []
    for m in maps:
        last = m if m is not None else last
        filled.append(last)
    size = filled[0].size
    plain = [Registration.nothing((scene.camera.width, scene.camera.height))] * scene.frames
    paths, jump = _paths(scene, filled, grid(size))
    source_paths, source_jump = _paths(scene, plain, grid(plain[0].size))
    still = _stillness(scene, filled, grid(size))
    return Judged(
        _fast(paths, scene.rate), _fast(source_paths, scene.rate), jump, source_jump,
        float(np.sqrt((still**2).mean())), float(still.max()), maps.count(None),
    )  # fmt: skip


def shake_drawn(scene: Scene, chain: WarpChain) -> float:
    """Px rms above 1 Hz of the background, as :attr:`Judged.shake`, by the map itself: for what is
    too much to be rendered."""
    size = chain.view.output.width, chain.view.output.height
    maps = [Drawn(chain[t : t + 1]) for t in range(len(chain))]
    return _fast(_paths(scene, maps, grid(size))[0], scene.rate)


def _paths(scene: Scene, maps: Sequence[Map], places: Array) -> tuple[Array, float]:
    """``(n, 25, 2)`` where the background at each place has gone, and the largest step."""
    steps = np.zeros((len(maps), *places.shape))
    for t in range(len(maps) - 1):
        points = scene.behind(maps[t].to_source(places), t)
        gone = scene.recorded(np.nan_to_num(points), t + 1)
        step = maps[t + 1].to_output(gone, places) - places
        steps[t + 1] = np.where(np.isfinite(points[:, :1]), step, 0)
    return np.cumsum(steps, axis=0), float(np.linalg.norm(steps, axis=-1).max())


def _fast(paths: Array, rate: float) -> float:
    """Rms length of what is faster than 1 Hz."""
    high = butter(3, SHAKE_ABOVE, "highpass", fs=rate, output="sos")
    fast = sosfiltfilt(high, paths, axis=0, padtype="odd", padlen=min(len(paths) - 1, 45))
    return float(np.sqrt((fast**2).sum(axis=-1).mean()))


def _stillness(scene: Scene, maps: list[Registration], places: Array) -> Array:
    """``(n, 25)`` px that the background at each place of the middle frame strays in the others."""
    middle = len(maps) // 2
    points = scene.behind(maps[middle].to_source(places), middle)
    known = np.isfinite(points[:, 0])
    away = []
    for t, seen in enumerate(maps):
        at = seen.to_output(scene.recorded(points[known], t), places[known])
        away.append(np.linalg.norm(at - places[known], axis=1))
    return np.array(away)
