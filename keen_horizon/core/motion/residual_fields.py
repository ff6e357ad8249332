"""What of the picture's motion a motion of the whole does not explain: keystone, parallax, skew.

For every frame pair a field of displacements on top of the camera's step, fitted to the tracks:
either what perspective adds, or a mesh: cubic B-splines with a penalty on their differences
(Eilers, Marx, *Flexible smoothing with B-splines and penalties*, Statistical Science 1996), which
fall back to the step where tracks are thin. That mesh profiles at fixed places of the picture can
be smoothed one by one is from Liu, Tan, Yuan, Sun, Zeng, *MeshFlow: minimum latency online video
stabilization*, ECCV 2016.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.displacement import grid_nodes
from ..tracking.tracks import Tracks
from ..types import AnyArray, Complex, Flags, Real
from .camera_motion import CameraMotion, DisplacementField
from .refit import batches, misses
from .robust_fit import FADE_END, fade

SPLINES = (8, 6)  # across and down
USUAL_STIFFNESS = 50.0  # of a mesh, at which splines cost what follows
SPLINE_PRICE = 0.1  # of a spline's difference from its neighbours, at the usual stiffness
GROUND_PRICE = 0.02  # of a spline at all, of the same
DECADE = 25.0  # of stiffness, over which the price grows tenfold
ROUNDS = 3  # of reweighting
WIDE = 4.0  # times FADE_END, at which reweighting begins: parallax is not an outlier
FIELD_MODELS = ("perspective", "mesh")  # those of MOTION_MODELS that add a field to the steps


def displacement_field(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion, model: str,
    stiffness: float = USUAL_STIFFNESS, half: int | None = None,
) -> DisplacementField | None:  # fmt: skip
    """What ``model`` (perspective or mesh) adds to the steps of ``motion``; None where it adds
    nothing. By every other track alone, the even or odd ones, if a ``half`` is named.

    ``(n, rows, columns)`` complex at the nodes of a :class:`.DisplacementGrid`, scene units, from
    frame ``t - 1`` to frame ``t``. A mesh is held together by ``stiffness`` 0..100 (cubic B-splines
    with a price on bending: Eilers, Marx, *Flexible smoothing with B-splines and penalties*,
    Statistical Science 1996); perspective has eight degrees of freedom.

    >>> from keen_horizon.core.motion.pairwise import pairwise_motion
    >>> x, y = np.meshgrid(np.arange(20.0, 620, 30), np.arange(20.0, 460, 30))
    >>> at = np.stack([x.ravel(), y.ravel()], axis=-1)
    >>> bulge = np.stack([at, at + 4 * np.exp(-((at - [320, 240]) ** 2).sum(-1) / 2e4)[:, None]])
    >>> tracks, canvas = Tracks.from_places(bulge, np.arange(2) / 30), Canvas(640, 480)
    >>> motion = pairwise_motion(tracks, canvas, "similarity")
    >>> displacement_field(tracks, canvas, motion, "similarity") is None
    True
    >>> bool(np.abs(displacement_field(tracks, canvas, motion, "mesh", 10.0)[1]).max() > 1)
    True
    """
    if model not in FIELD_MODELS:
        return None
    nodes = grid_nodes(canvas)
    places = nodes.ravel()
    out = np.zeros((len(motion), places.size), np.complex64)
    fitter = field_fitter(model, canvas, stiffness)
    at_nodes = fitter.design(places[None])
    for part, pairs in batches(tracks, canvas, motion):
        rest = misses(pairs, motion.steps[part])
        out[part] = fitter.values(at_nodes, fitter.fit(pairs.before, rest, pairs.of_half(half)))
    out[0], out[motion.timeline.cuts] = 0, 0
    return out.reshape(len(motion), *nodes.shape)


@dataclass(frozen=True)
class FieldFitter(ABC):
    """A family of displacement fields, linear in its coefficients; for many frame pairs at once."""

    canvas: Canvas

    @abstractmethod
    def design(self, z: Complex) -> AnyArray:
        """What each coefficient does at points ``(p, m)``."""

    @abstractmethod
    def solve(self, design: AnyArray, d: Complex, weight: Real) -> AnyArray:
        """The coefficients that explain displacements ``d`` ``(p, m)`` best."""

    @abstractmethod
    def values(self, design: AnyArray, coefficients: AnyArray) -> Complex:
        """``(p, m)``: the fitted displacements."""

    def fit(self, z: Complex, d: Complex, valid: Flags) -> AnyArray:
        """The coefficients for displacements ``d`` of points ``z``, with weights that fade out
        what the fit does not explain."""
        design = self.design(z)
        end = FADE_END * self.canvas.radius
        rest = np.abs(d)
        coefficients = self.solve(design, d, valid * fade(rest, WIDE * end))
        for width in end * np.geomspace(WIDE, 1.0, ROUNDS)[1:]:
            rest = np.abs(d - self.values(design, coefficients))
            coefficients = self.solve(design, d, valid * fade(rest, width))
        return coefficients


@dataclass(frozen=True)
class _Perspective(FieldFitter):
    """Eight real coefficients for the whole picture: an affine map, and keystone both ways."""

    def design(self, z: Complex) -> AnyArray:
        """``(p, 2 m, 8)``: what each coefficient moves points by, across, then down."""
        z = z / self.canvas.radius
        one = np.ones_like(z)
        columns = [one, 1j * one, z, 1j * z, z.conj(), 1j * z.conj(), z * z.real, z * z.imag]
        moved = np.stack(columns, axis=-1)
        return np.concatenate([moved.real, moved.imag], axis=1)

    def solve(self, design: AnyArray, d: Complex, weight: Real) -> AnyArray:
        weighed = (design * np.concatenate([weight, weight], axis=1)[..., None]).swapaxes(1, 2)
        gram = weighed @ design + 1e-3 * np.eye(design.shape[-1])
        right = weighed @ np.concatenate([d.real, d.imag], axis=1)[..., None]
        return np.asarray(np.linalg.solve(gram, right)[..., 0])

    def values(self, design: AnyArray, coefficients: AnyArray) -> Complex:
        across, down = np.split((design @ coefficients[..., None])[..., 0], 2, axis=1)
        return np.asarray(across + 1j * down)


@dataclass(frozen=True)
class _Mesh(FieldFitter):
    """B-splines over the picture, complex coefficients, real design."""

    stiffness: float

    def design(self, z: Complex) -> AnyArray:
        """``(p, m, k)`` float32."""
        hu, hv = self.canvas.half
        across = _splines(z.real / hu, SPLINES[0])
        down = _splines(z.imag / hv, SPLINES[1])
        return (down[..., :, None] * across[..., None, :]).reshape(*z.shape, -1)

    @property
    def penalty(self) -> Real:
        """``(k, k)`` what coefficients cost."""
        columns, rows = SPLINES
        across = np.diff(np.eye(columns), axis=0)
        down = np.diff(np.eye(rows), axis=0)
        rough = np.kron(np.eye(rows), across.T @ across) + np.kron(down.T @ down, np.eye(columns))
        scale = SPLINE_PRICE * 10 ** ((self.stiffness - USUAL_STIFFNESS) / DECADE)
        return np.asarray(scale * (rough + GROUND_PRICE / SPLINE_PRICE * np.eye(columns * rows)))

    def solve(self, design: AnyArray, d: Complex, weight: Real) -> AnyArray:
        weighed = (design * weight[..., None].astype(np.float32)).swapaxes(1, 2)
        gram = weighed @ design
        right = weighed @ np.stack([d.real, d.imag], axis=-1).astype(np.float32)
        solved = np.linalg.solve(gram + self.penalty.astype(np.float32), right)
        return solved[..., 0] + 1j * solved[..., 1]

    def values(self, design: AnyArray, coefficients: AnyArray) -> Complex:
        parts = np.stack([coefficients.real, coefficients.imag], axis=-1).astype(np.float32)
        both = design @ parts
        return np.asarray(both[..., 0] + 1j * both[..., 1])


def field_fitter(model: str, canvas: Canvas, stiffness: float = USUAL_STIFFNESS) -> FieldFitter:
    """The fitter of one of :data:`FIELD_MODELS`."""
    return _Mesh(canvas, stiffness) if model == "mesh" else _Perspective(canvas)


def _splines(x: Real, count: int) -> NDArray[np.float32]:
    """``(..., count)`` uniform cubic B-splines over -1..1 at ``x``."""
    at = np.clip((x.astype(np.float32) + 1) / 2, 0, 1) * np.float32(count - 3) + 1
    away = np.abs(at[..., None] - np.arange(count, dtype=np.float32))
    inner, outer = np.maximum(1 - away, 0), np.maximum(2 - away, 0)
    return np.asarray((outer * outer * outer - 4 * inner * inner * inner) / 6, np.float32)
