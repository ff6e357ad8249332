"""Point lock: a correction on top of another that keeps followed points where they are wanted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import groupby
from typing import Any

import cv2
import numpy as np
import scipy

from ..geometry.chain import WarpChain
from ..geometry.displacement import DisplacementGrid, grid_nodes
from ..geometry.motion import Motion
from ..geometry.similarity import Similarities
from ..motion.camera_motion import CameraMotion
from ..types import Complex, Flags, Real
from .mesh_smoothing import limit_strain
from .zoom import clip_to_zoom, zoom_needed

LOOSEST = 1.5  # seconds over which a gently centred point comes back
SOFT = 45  # frames over which a lock gives way to the zoom ceiling and comes back
FITTING_ROUNDS = 12
SMALLEST = 1e-4  # of the half-diagonal squared: four points that span less tell no perspective


@dataclass(frozen=True)
class PointLock:
    """What is asked for: the first point's frame in the recording, where it is wanted (shares of
    the picture's size; None for where it is), how tightly, 0..100, and the most strain that
    perspective may bring."""

    frame: int
    at: tuple[float, float] | None
    tightness: float
    most_strain: float


@dataclass(frozen=True)
class _Points:
    """``seen`` ``(n, k)`` where the points are, steadied plane, gaps bridged; ``known`` ``(n,)``;
    ``wanted`` ``(k,)`` where they are to be."""

    seen: Complex
    known: Flags
    wanted: Complex


def lock_points(
    chain: WarpChain, motion: CameraMotion, lock: PointLock, ceiling: float | Real, rim: Complex
) -> WarpChain:
    """``chain``, which follows the camera, with a correction on top that holds the motion's held
    points; as far as the ceiling lets it.

    One point holds the position, two roll and size as well, four perspective: as a mesh, which
    is never strained by more than the limit.
    """
    points = _points(chain, motion, lock)
    if points is None:
        return chain
    on_top = _similarities(points, motion, lock.tightness)
    share = _fitting(chain, on_top, ceiling, rim)
    if (share < 1).any():
        eased = scipy.ndimage.minimum_filter1d(share, SOFT, mode="nearest")
        share = scipy.ndimage.uniform_filter1d(eased, SOFT, mode="nearest")
    held = _with(chain, on_top.toward_identity(share))
    if points.seen.shape[1] >= 4 and lock.tightness >= 100:
        held = _with_perspective(held, _perspective(points, chain, held, lock.most_strain))
    return clip_to_zoom(held, ceiling, rim)


def _with(chain: WarpChain, on_top: Similarities) -> WarpChain:
    """The chain with a correction before its own steadying."""
    at = next(k for k, stage in enumerate(chain.stages) if isinstance(stage, Motion))
    return chain.with_stages(*chain.stages[:at], on_top, *chain.stages[at:])


def _with_perspective(chain: WarpChain, mesh: DisplacementGrid) -> WarpChain:
    """The chain with a mesh after its steadying, in place of any that it has."""
    stages = [s for s in chain.stages if not isinstance(s, DisplacementGrid)]
    last = max(k for k, stage in enumerate(stages) if isinstance(stage, Motion))
    return chain.with_stages(*stages[: last + 1], mesh, *stages[last + 1 :])


def _fitting(chain: WarpChain, on_top: Similarities, ceiling: float | Real, rim: Complex) -> Real:
    """``(n,)`` how much of a correction on top fits under the ceiling, 0..1; ``chain`` does."""
    low, high = np.zeros(len(chain)), np.ones(len(chain))
    whole = zoom_needed(_with(chain, on_top), rim) <= ceiling
    low[whole] = 1.0
    if whole.all():
        return low
    for _ in range(FITTING_ROUNDS):
        middle = (low + high) / 2
        fits = zoom_needed(_with(chain, on_top.toward_identity(middle)), rim) <= ceiling
        low, high = np.where(fits, middle, low), np.where(fits, high, middle)
    return low


def _unbent(chain: WarpChain) -> WarpChain:
    """The part of a chain on the source's side, what a mesh bends apart."""
    return chain.only(lambda s: s.side == "source" and not isinstance(s, DisplacementGrid))


def _motions(chain: WarpChain) -> WarpChain:
    """The steadying of the whole picture alone."""
    return chain.only(lambda stage: isinstance(stage, Motion))


def _points(chain: WarpChain, motion: CameraMotion, lock: PointLock) -> _Points | None:
    tracks = [track for track in motion.held if track.known.any()]
    if not tracks:
        return None
    source = np.stack([track.places for track in tracks], axis=-1)
    known: Flags = np.asarray(np.isfinite(source).all(axis=1))
    if not known.any():  # never all at once: hold the first alone
        source = source[:, :1]
        known = np.isfinite(source[:, 0])
    straight = _unbent(chain).to_output(np.nan_to_num(source))
    known &= np.isfinite(straight).all(axis=1)
    if not known.any():
        return None
    seen = _motions(chain).to_output(np.where(known[:, None], straight, 0))
    # Where a point is not known it is taken to stand still in the steadied picture.
    at = np.arange(len(source))
    columns = [
        np.interp(at, at[known], column[known].real)
        + 1j * np.interp(at, at[known], column[known].imag)
        for column in seen.T
    ]
    seen = np.stack(columns, axis=-1)
    anchor = lock.frame - motion.timeline.first
    if not 0 <= anchor < len(known) or not known[anchor]:
        anchor = int(np.nonzero(known)[0][0])
    wanted = seen[anchor].copy()
    if lock.at is not None:
        canvas = chain.source
        place = np.array(lock.at) * [canvas.width, canvas.height] - 0.5
        wanted += canvas.to_scene(place[None])[0] - wanted[0]
    return _Points(seen, known, wanted)


def _similarities(points: _Points, motion: CameraMotion, tightness: float) -> Similarities:
    """Steadied plane to steadied plane: what to see where a point is wanted."""
    u, o = points.seen, points.wanted
    middle, target = u.mean(axis=1), o.mean()
    a = np.ones(len(u), complex)
    if len(o) >= 2:
        spread = o - target
        a = ((u - middle[:, None]) * spread.conj()).sum(axis=1) / (np.abs(spread) ** 2).sum()
    b = middle - a * target
    loose = LOOSEST * (1 - tightness / 100)
    times = motion.timeline.times
    rate = (len(u) - 1) / max(float(times[-1] - times[0]), 1e-6)
    if loose > 0:
        width = max(loose * rate, 1e-3)
        for start, stop in motion.segments:
            part = slice(start, stop)
            turned = _smoothed(np.log(a[part]), width)
            moved = _smoothed(middle[part] - target, width)
            a[part] = np.exp(turned)
            b[part] = moved + target - a[part] * target
    return Similarities(a, b)


def _smoothed(values: Complex, width: float) -> Complex:
    real, imaginary = (
        scipy.ndimage.gaussian_filter1d(part, width, mode="nearest")
        for part in (values.real, values.imag)
    )
    return np.asarray(real + 1j * imaginary)


def _perspective(
    points: _Points, chain: WarpChain, held: WarpChain, most_strain: float
) -> DisplacementGrid:
    """What four points want beyond the motion of the whole."""
    canvas = chain.source
    nodes = grid_nodes(canvas)
    out = np.zeros((len(chain), *nodes.shape), np.complex64)
    flat = np.stack([nodes.real, nodes.imag], axis=-1).reshape(1, -1, 2)
    source = _motions(chain).to_source(points.seen)
    wanted = np.broadcast_to(points.wanted, points.seen.shape)
    placed = _motions(held).to_source(wanted)
    for t in range(len(chain)):
        pair = [
            np.stack([z[t, :4].real, z[t, :4].imag], axis=-1).astype(np.float32)
            for z in (placed, source)
        ]
        if abs(_area(placed[t, :4])) < SMALLEST * canvas.radius**2:
            continue
        matrix = cv2.getPerspectiveTransform(*pair)
        moved = cv2.perspectiveTransform(flat, matrix)[0]
        out[t] = (moved[:, 0] + 1j * moved[:, 1]).reshape(nodes.shape) - nodes
    return limit_strain(DisplacementGrid(canvas, out), most_strain)


def _area(corners: Complex) -> float:
    following = np.roll(corners, -1)
    return float(0.5 * (corners.conj() * following).imag.sum())


def lock_report(chain: WarpChain, motion: CameraMotion, lock: PointLock) -> dict[str, Any] | None:
    """Where the held points were lost, how far the first strays, and where it costs most."""
    points = _points(_unbent(chain), motion, lock)
    if points is None:
        return None
    first = motion.timeline.first
    known = points.known
    # Where the first point comes out, against where it does at its anchor or is wanted.
    out = _motions(chain).to_output(points.seen[:, :1])[:, 0]
    target = points.wanted[0]
    if lock.at is None:
        anchor = lock.frame - first
        target = out[anchor] if 0 <= anchor < len(out) else out[known][0]
    off = np.abs(out - target)
    far = np.abs(points.seen[:, 0] - target)
    far[~known] = 0
    return {
        "points": points.seen.shape[1],
        "known_frames": int(known.sum()),
        "lost": [
            [first + run[0], first + run[-1]] for run in _runs(np.nonzero(~known)[0].tolist())
        ],
        "furthest_frame": first + int(far.argmax()),
        "furthest": float(far.max()),
        "strays": float(np.sqrt((off[known] ** 2).mean())),
    }


def _runs(frames: Sequence[int]) -> list[list[int]]:
    return [
        [frame for _, frame in run]
        for _, run in groupby(enumerate(frames), lambda pair: pair[1] - pair[0])
    ]
