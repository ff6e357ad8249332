"""Holding: a correction on top of another that keeps followed points where they are wanted."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import groupby
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, minimum_filter1d, uniform_filter1d

from ..geometry.bend import DisplacementGrid, grid_nodes
from ..geometry.canvas import Canvas, Complex
from ..geometry.chain import WarpChain
from ..geometry.similarity import Similarities
from ..motion.camera_motion import CameraMotion
from ..treatment import MotionSettings
from .coverage import clip_to_zoom, zoom_needed
from .mesh_smoothing import limit_strain

LOOSEST = 1.5  # seconds over which a gently centred point comes back
SOFT = 45  # frames over which a hold gives way to the zoom ceiling and comes back


@dataclass(frozen=True)
class _Points:
    """``seen`` ``(n, k)`` where the points are, steadied plane, gaps bridged; ``known`` ``(n,)``;
    ``wanted`` ``(k,)`` where they are to be."""

    seen: Complex
    known: NDArray[np.bool_]
    wanted: Complex


def held_chain(
    chain: WarpChain, motion: CameraMotion, settings: MotionSettings,
    ceiling: float | NDArray[np.float64], rim: Complex,
) -> WarpChain:  # fmt: skip
    """``chain``, which follows the camera, held to the points; as far as the ceiling lets it.

    One point holds the position, two roll and size as well, four perspective: as a bend, which
    never stretches more than the limit.
    """
    points = _points(chain, motion, settings)
    if points is None:
        return chain
    on_top = _similarities(points, motion, settings)
    share = _fitting(chain, on_top, ceiling, rim)
    if (share < 1).any():
        share = uniform_filter1d(
            minimum_filter1d(share, SOFT, mode="nearest"), SOFT, mode="nearest"
        )
    held = _laid(chain, on_top, share)
    if points.seen.shape[1] >= 4 and settings.tightness >= 100:
        bend = _perspective(points, chain, held.steady, settings)
        held = replace(held, bend=bend)
    return clip_to_zoom(held, ceiling, rim)


def _laid(chain: WarpChain, on_top: Similarities, share: NDArray[np.float64]) -> WarpChain:
    """``chain`` with ``share`` ``(n,)`` of a correction on top."""
    part = Similarities(1 + share * (on_top.a - 1), share * on_top.b)
    return replace(chain, steady=chain.steady.after(part))


def _fitting(
    chain: WarpChain, on_top: Similarities, ceiling: float | NDArray[np.float64], rim: Complex
) -> NDArray[np.float64]:
    """``(n,)`` how much of a correction on top fits under the ceiling, 0..1; ``chain`` does."""
    low, high = np.zeros(len(chain)), np.ones(len(chain))
    whole = zoom_needed(_laid(chain, on_top, high), rim) <= ceiling
    low[whole] = 1.0
    if whole.all():
        return low
    for _ in range(12):
        middle = (low + high) / 2
        fits = zoom_needed(_laid(chain, on_top, middle), rim) <= ceiling
        low, high = np.where(fits, middle, low), np.where(fits, high, middle)
    return low


def _points(chain: WarpChain, motion: CameraMotion, settings: MotionSettings) -> _Points | None:
    tracks = [track for track in motion.held if track.known.any()]
    if not tracks:
        return None
    source = np.stack([track.places for track in tracks], axis=-1)
    known: NDArray[np.bool_] = np.asarray(np.isfinite(source).all(axis=1))
    if not known.any():  # never all at once: hold the first alone
        source = source[:, :1]
        known = np.isfinite(source[:, 0])
    if chain.lens is not None:
        source = np.where(known[:, None], chain.lens.straighten(np.nan_to_num(source)), np.nan)
        known &= np.isfinite(source).all(axis=1)
        if not known.any():
            return None
    if chain.rows is not None:
        source = np.where(np.isfinite(source), chain.rows.undo(np.nan_to_num(source)), np.nan)
    seen = (source - chain.steady.b[:, None]) / chain.steady.a[:, None]
    # Where a point is not known it is taken to stand still in the steadied picture.
    at = np.arange(len(source))
    seen = np.stack(
        [
            np.interp(at, at[known], column[known].real)
            + 1j * np.interp(at, at[known], column[known].imag)
            for column in seen.T
        ],
        axis=-1,
    )
    anchor = settings.hold[0].frame - motion.first
    if not 0 <= anchor < len(known) or not known[anchor]:
        anchor = int(np.nonzero(known)[0][0])
    wanted = seen[anchor].copy()
    if settings.hold_at is not None:
        canvas = chain.source
        place = np.array(settings.hold_at) * [canvas.width, canvas.height] - 0.5
        wanted += canvas.to_scene(place[None])[0] - wanted[0]
    return _Points(seen, known, wanted)


def _similarities(points: _Points, motion: CameraMotion, settings: MotionSettings) -> Similarities:
    """Steadied plane to steadied plane: what to see where a point is wanted."""
    u, o = points.seen, points.wanted
    middle, target = u.mean(axis=1), o.mean()
    a = np.ones(len(u), complex)
    if len(o) >= 2:
        spread = o - target
        a = ((u - middle[:, None]) * spread.conj()).sum(axis=1) / (np.abs(spread) ** 2).sum()
    b = middle - a * target
    loose = LOOSEST * (1 - settings.tightness / 100)
    rate = (len(u) - 1) / max(float(motion.times[-1] - motion.times[0]), 1e-6)
    if loose > 0:
        for start, stop in motion.segments:
            part = slice(start, stop)
            turned, moved = np.log(a[part]), middle[part] - target
            width = max(loose * rate, 1e-3)
            turned, moved = (
                gaussian_filter1d(v.real, width, mode="nearest")
                + 1j * gaussian_filter1d(v.imag, width, mode="nearest")
                for v in (turned, moved)
            )
            a[part] = np.exp(turned)
            b[part] = moved + target - a[part] * target
    return Similarities(a, b)


def _perspective(
    points: _Points, chain: WarpChain, steady: Similarities, settings: MotionSettings
) -> DisplacementGrid:
    """What four points want beyond the similarity."""
    canvas = chain.source
    nodes = grid_nodes(canvas)
    out = np.zeros((len(steady), *nodes.shape), np.complex64)
    flat = np.stack([nodes.real, nodes.imag], axis=-1).reshape(1, -1, 2)
    source = chain.steady.a[:, None] * points.seen + chain.steady.b[:, None]
    placed = steady.a[:, None] * points.wanted[None, :] + steady.b[:, None]
    for t in range(len(steady)):
        pair = [
            np.stack([z[t, :4].real, z[t, :4].imag], axis=-1).astype(np.float32)
            for z in (placed, source)
        ]
        if abs(_area(placed[t, :4])) < 1e-4 * canvas.radius**2:
            continue
        matrix = cv2.getPerspectiveTransform(*pair)
        moved = cv2.perspectiveTransform(flat, matrix)[0]
        out[t] = (moved[:, 0] + 1j * moved[:, 1]).reshape(nodes.shape) - nodes
    return limit_strain(DisplacementGrid(canvas, out), settings.stretch_limit / 100.0)


def _area(corners: Complex) -> float:
    following = np.roll(corners, -1)
    return float(0.5 * (corners.conj() * following).imag.sum())


def hold_report(
    chain: WarpChain, motion: CameraMotion, settings: MotionSettings
) -> dict[str, Any] | None:
    """Where the held points were lost, how far the first strays, and where it costs most."""
    points = _points(
        replace(chain, steady=Similarities.identity(len(motion)), bend=None), motion, settings
    )
    if points is None:
        return None
    first = motion.first
    known = points.known
    # Where the first point comes out, against where it does at its anchor or is wanted.
    out = (points.seen[:, 0] - chain.steady.b) / chain.steady.a
    target = points.wanted[0]
    if settings.hold_at is None:
        anchor = settings.hold[0].frame - first
        target = out[anchor] if 0 <= anchor < len(out) else out[known][0]
    off = np.abs(out - target)
    far = np.abs(points.seen[:, 0] - target)
    far[~known] = 0
    return {
        "points": points.seen.shape[1],
        "known_frames": int(known.sum()),
        "lost": [
            [first + int(run[0]), first + int(run[-1])] for run in _runs(np.nonzero(~known)[0])
        ],
        "furthest_frame": first + int(far.argmax()),
        "furthest": float(far.max()),
        "strays": float(np.sqrt((off[known] ** 2).mean())),
    }


def _runs(frames: NDArray[np.intp]) -> list[list[int]]:
    return [
        [frame for _, frame in run]
        for _, run in groupby(enumerate(frames.tolist()), lambda pair: pair[1] - pair[0])
    ]


def hold_words(
    canvas: Canvas, settings: MotionSettings, report: dict[str, Any] | None
) -> list[str]:
    """Sentences about a hold."""
    if report is None:
        return ["No point is held yet, so the camera is followed. Place a point to hold."]
    said = []
    if report["lost"]:
        start, stop = report["lost"][0]
        where = f"frames {start} to {stop}" if stop > start else f"frame {start}"
        said.append(
            f"The held point is not known in {where}; place it there by hand, and it is followed "
            "on."
        )
    if report["strays"] > 2.0 * canvas.height / 720:
        better = "A higher zoom ceiling" if settings.tightness >= 100 else "More tightness"
        said.append(
            f"The point strays {report['strays']:.1f} px from its place. {better} holds it better."
        )
    return said
