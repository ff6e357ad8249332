"""What of the picture's motion a similarity does not explain: keystone, parallax, skew.

For every frame pair a field of displacements on top of the camera's similarity step, fitted to the
marks: either what a richer model of the whole picture adds (perspective, a turning camera), or a
mesh: cubic B-splines with a penalty on their differences (Eilers, Marx, *Flexible smoothing with
B-splines and penalties*, Statistical Science 1996), which fall back to the similarity where marks
are thin. That mesh profiles at fixed places of the picture can be smoothed one by one is from Liu,
Tan, Yuan, Sun, Zeng, *MeshFlow: minimum latency online video stabilization*, ECCV 2016.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..geometry.bend import grid_nodes, turned
from ..geometry.canvas import Canvas, Complex
from ..geometry.similarity import Similarities
from ..tracking.correspondences import Correspondences, correspondences
from ..tracking.tracks import Tracks
from .camera_motion import SIMPLEST_FIRST, CameraMotion, Choice, LocalMotion
from .pairwise import BATCH
from .robust_fit import FADE_END, fade

Real = NDArray[np.float64]
SPLINES = (8, 6)  # across and down
STIFFNESS = 0.1  # price of a spline's difference from its neighbours, at stiffness 50
GROUND = 0.02  # price of a spline at all, of the same
ROUNDS = 3  # of reweighting
WIDE = 4.0  # times FADE_END, at which reweighting begins: parallax is not an outlier
ENOUGH_MARKS = 30  # that a turn explains, for it to be believed whatever a similarity made of it
PAIRS_ASKED = 80  # for choosing a model
WORTH = 0.88  # a richer model must leave less than this share of what a simpler one leaves
WORTH_PX = 0.03  # and at least this much less, working pixels


def local_motion(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion, model: str, stiffness: float = 50.0
) -> LocalMotion:
    """Fit what ``model`` adds to ``motion``; not for *rotation*, see :func:`rotating`."""
    if model in ("shift", "similarity"):
        return LocalMotion(model, None)
    places = grid_nodes(canvas).ravel()
    out = np.zeros((len(motion), places.size), np.complex64)
    fitter = _fitter(model, canvas, stiffness, None)
    at_nodes = fitter.design(places[None])
    for part, pairs in _batches(tracks, canvas, motion):
        rest = _rest(pairs, motion, part)
        coefficients = _robust(fitter, pairs.before, rest, pairs.valid, canvas)
        out[part] = fitter.values(at_nodes, coefficients)
    out[0], out[motion.cuts] = 0, 0
    shape = grid_nodes(canvas).shape
    return LocalMotion(model, out.reshape(len(motion), *shape))


def rotating(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion, angle_of_view: float,
    start: Similarities | None = None,
) -> CameraMotion:  # fmt: skip
    """``motion`` fitted again as that of a camera that turns, ``angle_of_view`` degrees across.
    ``start`` is what the centre does, if that is known better than from ``motion``.

    Its steps are then what happens at the picture's centre: further out, the same turn moves the
    picture more, and what a similarity takes for a mean shift belongs to the turn.
    """
    fitter = _fitter("rotation", canvas, STIFFNESS, angle_of_view)
    focal = _focal(canvas, angle_of_view)
    a, b = motion.steps.a.copy(), motion.steps.b.copy()
    sure, residual = motion.confidence.copy(), motion.residual.copy()
    for part, pairs in _batches(tracks, canvas, motion):
        rest = _rest(pairs, motion, part)
        if start is not None:
            rest = _turned_rest(pairs, start, part, focal)
        moved = np.where(pairs.valid, pairs.after - pairs.before, 0)
        found = _robust(fitter, pairs.before, moved, pairs.valid, canvas, rest)
        miss = np.abs(moved - fitter.values(fitter.design(pairs.before), found))
        # Out where a turn moves the picture most a similarity may have lost the marks.
        weight = pairs.valid * fade(miss, FADE_END * canvas.radius)
        share = weight.sum(axis=1) / np.maximum(pairs.valid.sum(axis=1), 1)
        enough = np.minimum(weight.sum(axis=1) / ENOUGH_MARKS, 1.0)
        sure[part] = np.maximum(sure[part], enough * np.clip(2 * share - 0.3, 0, 1))
        total = np.maximum(weight.sum(axis=1), 1e-9)
        residual[part] = np.sqrt((weight * miss**2).sum(axis=1) / total)
        unit = canvas.radius
        b[part] = found[:, 0] + 1j * found[:, 1]
        a[part] = 1 + (found[:, 2] + 1j * found[:, 3]) / unit
    a[0], a[motion.cuts], b[0], b[motion.cuts] = 1, 1, 0, 0
    return replace(
        motion, steps=Similarities(a, b), confidence=sure, residual=residual,
        local=LocalMotion("rotation", None, focal),
    )  # fmt: skip


def _turned_rest(
    pairs: Correspondences, steps: Similarities, frames: slice | NDArray[np.intp], focal: float
) -> Complex:
    """As :func:`_rest`, of turns that move the centre by the steps' shifts; to first order."""
    a, b = steps.a[frames][:, None], steps.b[frames][:, None]
    z = pairs.before
    more = (z.real * b.real + z.imag * b.imag) / focal**2
    return np.asarray(np.where(pairs.valid, pairs.after - (a * z + b + z * more), 0))


def fit_residual(tracks: Tracks, canvas: Canvas, motion: CameraMotion) -> float | None:
    """Rms distance, px of the recorded picture, by which marks that are near it miss the motion's
    similarity or turn; of evenly spread frame pairs. The same for straightened marks and others."""
    n = len(motion)
    if n < 2:
        return None
    asked = np.unique(np.linspace(1, n - 1, min(n - 1, PAIRS_ASKED)).astype(int))
    near = WIDE * FADE_END * canvas.radius
    total, count = 0.0, 0
    for frames in np.array_split(asked, max(1, len(asked) // 40)):
        pairs = correspondences(tracks, canvas, frames, motion.aside)
        miss = np.abs(_rest(pairs, motion, frames))
        if motion.lens is not None:
            lens = motion.lens[frames]
            miss = miss / np.maximum(lens.stretch(lens.bend(pairs.before)), 1e-6)
        kept = pairs.valid & (miss < near) & (motion.confidence[frames] > 0.5)[:, None]
        total, count = total + float((miss[kept] ** 2).sum()), count + int(kept.sum())
    return float(np.sqrt(total / count)) if count else None


def rotation_steps(motion: CameraMotion, canvas: Canvas) -> NDArray[np.complex64]:
    """``(n, rows, columns)`` what the turns of :func:`rotating` add to their own similarity."""
    focal = motion.local.focal if motion.local is not None else None
    if focal is None:
        raise ValueError("this is not the motion of a turning camera")
    places = grid_nodes(canvas)
    added = [turned(places, complex(b), focal) - places - b for b in motion.steps.b]
    return np.stack(added).astype(np.complex64)


def choose_model(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion, stiffness: float = 50.0,
    angle_of_view: float | None = None,
) -> Choice:  # fmt: skip
    """The simplest model that explains marks it was not fitted to about as well as any.

    Of evenly spread frame pairs, every other mark is held out.
    """
    n = len(motion)
    asked = np.unique(np.linspace(1, n - 1, min(n - 1, PAIRS_ASKED)).astype(int))
    left = {}
    wide = WIDE * FADE_END * canvas.radius
    for model in SIMPLEST_FIRST:
        if model == "rotation" and angle_of_view is None:
            continue
        fitter = _fitter(model, canvas, stiffness, angle_of_view)
        total, weight = 0.0, 0.0
        for t in np.array_split(asked, max(1, len(asked) // 40)):
            pairs = correspondences(tracks, canvas, t, motion.aside)
            part = rest = _rest(pairs, motion, t)
            if model == "rotation":
                part = np.where(pairs.valid, pairs.after - pairs.before, 0)
            odd = pairs.mark % 2 == 1
            found = _robust(fitter, pairs.before, part, pairs.valid & ~odd, canvas, rest)
            miss = np.abs(part - fitter.values(fitter.design(pairs.before), found))
            held = pairs.valid & odd
            # What no model explains (a subject) counts the same for all.
            miss = np.where(held, np.minimum(miss, wide), 0.0)
            confident = motion.confidence[t][:, None]
            total += float((confident * miss**2).sum())
            weight += float((confident * held).sum())
        left[model] = float(np.sqrt(total / max(weight, 1e-9)))
    chosen = "similarity" if left["shift"] > WORTH * left["similarity"] * 1.05 else "shift"
    if chosen == "shift" and left["similarity"] < WORTH * left["shift"]:
        chosen = "similarity"
    step = WORTH_PX * canvas.height / 540
    for model in ("rotation", "perspective", "mesh"):
        better = left.get(model, np.inf) < WORTH * left[chosen]
        if better and left[model] < left[chosen] - step:
            chosen = model
    return Choice(chosen, left)


class _Fitter:
    """Weighted least squares of displacements ``(p, m)`` at places ``(p, m)``, a pair a row."""

    def design(self, z: Complex) -> NDArray[Any]:
        raise NotImplementedError

    def solve(self, design: NDArray[Any], d: Complex, weight: Real) -> NDArray[Any]:
        raise NotImplementedError

    def values(self, design: NDArray[Any], found: NDArray[Any]) -> Complex:
        """``(p, m)``: the fitted displacements."""
        raise NotImplementedError


@dataclass(frozen=True)
class _Whole(_Fitter):
    """A few real coefficients for the whole picture."""

    model: str
    radius: float
    focal: float = 1.0  # of the half-diagonal

    def design(self, z: Complex) -> NDArray[Any]:
        """``(p, 2 m, k)``: what each coefficient moves points by, across, then down."""
        z = z / self.radius
        one = np.ones_like(z)
        columns = [one, 1j * one]
        if self.model == "rotation":
            # The image of a small turn: Longuet-Higgins, Prazdny, *The interpretation of a moving
            # retinal image*, Proc. R. Soc. B 1980.
            columns = [one + z * z.real / self.focal**2, 1j * one + z * z.imag / self.focal**2]
        if self.model != "shift":
            columns += [z, 1j * z]
        if self.model == "perspective":
            columns += [z.conj(), 1j * z.conj(), z * z.real, z * z.imag]
        moved = np.stack(columns, axis=-1)
        return np.concatenate([moved.real, moved.imag], axis=1)

    def solve(self, design: NDArray[Any], d: Complex, weight: Real) -> NDArray[Any]:
        weighed = (design * np.concatenate([weight, weight], axis=1)[..., None]).swapaxes(1, 2)
        gram = weighed @ design + 1e-3 * np.eye(design.shape[-1])
        right = weighed @ np.concatenate([d.real, d.imag], axis=1)[..., None]
        return np.asarray(np.linalg.solve(gram, right)[..., 0])

    def values(self, design: NDArray[Any], found: NDArray[Any]) -> Complex:
        across, down = np.split((design @ found[..., None])[..., 0], 2, axis=1)
        return np.asarray(across + 1j * down)


@dataclass(frozen=True)
class _Mesh(_Fitter):
    """B-splines over the picture, complex coefficients, real design."""

    half: tuple[float, float]
    stiffness: float

    def design(self, z: Complex) -> NDArray[Any]:
        """``(p, m, k)`` float32."""
        across = _splines(z.real / self.half[0], SPLINES[0])
        down = _splines(z.imag / self.half[1], SPLINES[1])
        return (down[..., :, None] * across[..., None, :]).reshape(*z.shape, -1)

    @property
    def penalty(self) -> Real:
        columns, rows = SPLINES
        across = np.diff(np.eye(columns), axis=0)
        down = np.diff(np.eye(rows), axis=0)
        rough = np.kron(np.eye(rows), across.T @ across) + np.kron(down.T @ down, np.eye(columns))
        scale = STIFFNESS * 10 ** ((self.stiffness - 50) / 25)
        return np.asarray(scale * (rough + GROUND / STIFFNESS * np.eye(columns * rows)))

    def solve(self, design: NDArray[Any], d: Complex, weight: Real) -> NDArray[Any]:
        weighed = (design * weight[..., None].astype(np.float32)).swapaxes(1, 2)
        gram = weighed @ design
        right = weighed @ np.stack([d.real, d.imag], axis=-1).astype(np.float32)
        solved = np.linalg.solve(gram + self.penalty.astype(np.float32), right)
        return solved[..., 0] + 1j * solved[..., 1]

    def values(self, design: NDArray[Any], found: NDArray[Any]) -> Complex:
        parts = np.stack([found.real, found.imag], axis=-1).astype(np.float32)
        both = design @ parts
        return np.asarray(both[..., 0] + 1j * both[..., 1])


def _fitter(model: str, canvas: Canvas, stiffness: float, angle_of_view: float | None) -> _Fitter:
    if model == "mesh":
        return _Mesh(canvas.half, stiffness)
    focal = 1.0
    if model == "rotation":
        if angle_of_view is None:
            raise ValueError("a turning camera needs an angle of view")
        focal = _focal(canvas, angle_of_view) / canvas.radius
    return _Whole(model, canvas.radius, focal)


def _focal(canvas: Canvas, angle_of_view: float) -> float:
    """Scene units, of ``angle_of_view`` degrees across."""
    return float(canvas.half[0] / np.tan(np.radians(angle_of_view) / 2))


def _splines(x: Real, count: int) -> NDArray[np.float32]:
    """``(..., count)`` uniform cubic B-splines over -1..1 at ``x``."""
    at = np.clip((x.astype(np.float32) + 1) / 2, 0, 1) * np.float32(count - 3) + 1
    away = np.abs(at[..., None] - np.arange(count, dtype=np.float32))
    inner, outer = np.maximum(1 - away, 0), np.maximum(2 - away, 0)
    return np.asarray((outer * outer * outer - 4 * inner * inner * inner) / 6, np.float32)


def _robust(
    fitter: _Fitter, z: Complex, d: Complex, valid: NDArray[np.bool_], canvas: Canvas,
    strays: Complex | None = None,
) -> NDArray[Any]:  # fmt: skip
    """The coefficients, with weights that fade out what the fit does not explain; at first, what
    strays far, if that is not all there is to fit."""
    design = fitter.design(z)
    end = FADE_END * canvas.radius
    rest = np.abs(d if strays is None else strays)
    found = None
    for width in end * np.geomspace(WIDE, 1.0, ROUNDS):
        found = fitter.solve(design, d, valid * fade(rest, width))
        rest = np.abs(d - fitter.values(design, found))
    assert found is not None
    return found


def _rest(
    pairs: Correspondences, motion: CameraMotion, frames: slice | NDArray[np.intp]
) -> Complex:
    """``(p, m)`` how far each mark is from where the similarity, or the turn, puts it."""
    if motion.local is not None and motion.local.focal is not None:
        return _turned_rest(pairs, motion.steps, frames, motion.local.focal)
    a, b = motion.steps.a[frames][:, None], motion.steps.b[frames][:, None]
    return np.asarray(np.where(pairs.valid, pairs.after - (a * pairs.before + b), 0))


def _batches(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion
) -> Iterator[tuple[slice, Correspondences]]:
    for start in range(1, len(motion), BATCH):
        frames = np.arange(start, min(start + BATCH, len(motion)))
        yield (
            slice(start, int(frames[-1]) + 1),
            correspondences(tracks, canvas, frames, motion.aside),
        )
