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
DEGREES = (0, 2, 3, 5)  # of what a homography leaves of the map from output to source: rows, bends
HARDLY = 1.02  # times the least that pixels are apart, that a simpler map may leave
EVERY = 6  # pixels, one that is compared
SOFTENED = 3  # px, by which pictures of half the size are blurred to be laid upon each other
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
    degree: int

    def to_source(self, at: Array) -> Array:
        return _mapped(self.homography, at) + _terms(at, self.size, self.degree) @ self.rest

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
        return cls(np.eye(3), np.zeros((1, 2)), size, 0)


def _mapped(h: Array, at: Array) -> Array:
    seen = np.concatenate([at, np.ones_like(at[..., :1])], axis=-1) @ h.T
    return seen[..., :2] / seen[..., 2:]


def _terms(at: Array, size: tuple[int, int], degree: int) -> Array:
    x, y = (2 * at / np.array(size) - 1).T
    return np.stack(
        [x**i * y**j for i in range(degree + 1) for j in range(degree + 1 - i)], axis=-1
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
    h = _refined(output, source, h)
    at, off = here[good].astype(float), on_source - _mapped(h, here[good].astype(float))
    known = [
        Registration(h, _polynomial(at, off, size, degree), size, degree) for degree in DEGREES
    ]
    unlike = [_unlike(output, source, one) for one in known]
    return next(one for one, far in zip(known, unlike, strict=True) if far < HARDLY * min(unlike))


def _unlike(output: NDArray[np.uint8], source: NDArray[np.uint8], seen: Registration) -> float:
    """How far the pixels of the two are apart, rms."""
    width, height = seen.size
    x, y = np.meshgrid(np.arange(0, width, EVERY), np.arange(0, height, EVERY))
    places = np.stack([x.ravel(), y.ravel()], axis=-1).astype(float)
    at = seen.to_source(places).reshape(*x.shape, 2).astype(np.float32)
    shown = cv2.remap(source, at, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    return float(np.sqrt(((shown.astype(float) - output[y, x]) ** 2).mean()))


def _refined(output: NDArray[np.uint8], source: NDArray[np.uint8], h: Array) -> Array:
    """The homography by all pixels, where corners are few or lie together: Evangelidis, Psarakis,
    *Parametric image alignment using enhanced correlation coefficient maximization*, PAMI 2008."""
    rounds = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 60, 1e-7)
    # At half the size: quicker, and exact to a hundredth of a pixel all the same.
    half = np.array([[0.5, 0, -0.25], [0, 0.5, -0.25], [0, 0, 1]])
    small = [cv2.resize(p, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
             for p in (output, source)]  # fmt: skip
    start = half @ h @ np.linalg.inv(half)
    try:
        found = cv2.findTransformECC(
            *small, (start / start[2, 2]).astype(np.float32), cv2.MOTION_HOMOGRAPHY, rounds, None,
            SOFTENED,
        )  # fmt: skip
    except cv2.error:  # it does not settle on one
        return h
    return np.asarray(np.linalg.inv(half) @ found[1] @ half)


def _polynomial(at: Array, off: Array, size: tuple[int, int], degree: int) -> Array:
    """``(terms, 2)``, by robust least squares."""
    design = _terms(at, size, degree)
    weight = np.ones(len(at))
    rest = np.zeros((design.shape[1], 2))
    for _ in range(6):
        w = weight[:, None]
        gram = design.T @ (w * design) + 1e-5 * len(at) * np.eye(design.shape[1])
        rest = np.linalg.solve(gram, design.T @ (w * off))
        miss = np.linalg.norm(off - design @ rest, axis=1)
        weight = 1 / (1 + (miss / 0.15) ** 2) ** 2
    return rest


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
    the most that the background strays from where one frame has it, ``still_before`` rms of the
    source; ``lost`` frames that could not be registered."""

    shake: float
    before: float
    jump: float
    jump_before: float
    still: float
    still_before: float
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
        _rms(still), _rms(_stillness(scene, plain, grid(plain[0].size))), float(still.max()),
        maps.count(None),
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


def _rms(values: Array) -> float:
    return float(np.sqrt((values**2).mean()))


def _fast(paths: Array, rate: float) -> float:
    """Rms length of what is faster than 1 Hz."""
    high = butter(3, SHAKE_ABOVE, "highpass", fs=rate, output="sos")
    fast = sosfiltfilt(high, paths, axis=0, padtype="odd", padlen=min(len(paths) - 1, 45))
    return float(np.sqrt((fast**2).sum(axis=-1).mean()))


def _stillness(scene: Scene, maps: Sequence[Map], places: Array) -> Array:
    """``(n, 25)`` px that the background at each place of the middle frame strays in the others."""
    middle = len(maps) // 2
    points = scene.behind(maps[middle].to_source(places), middle)
    known = np.isfinite(points[:, 0])
    away = []
    for t, seen in enumerate(maps):
        at = seen.to_output(scene.recorded(points[known], t), places[known])
        away.append(np.linalg.norm(at - places[known], axis=1))
    return np.array(away)
