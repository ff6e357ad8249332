"""Turns of a camera, many at a time: rays turned by SO(3), exact up to the edge of any lens.

A camera that turns sees every ray turned, whatever its lens and however far the ray is to the
side. Seen in a straight picture of focal length ``F`` that is the homography ``K R inverse(K)``.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from ..stored import stored
from ..types import Complex, Frames, Indices, Rays, Real
from .pinhole import Pinhole
from .ray_motion import RayMotion
from .rotation_vectors import turns_by, vectors_of
from .similarity import Similarities


@stored
@dataclass(frozen=True)
class Rotations(RayMotion):
    """``turns`` ``(n, 3, 3)``: rotations of rays (x right, y down, z forward) as columns.

    ``camera`` is the straight camera whose plane :meth:`apply` works on. Tangent coordinates are
    the roll about the optical axis, radians clockwise, and what happens to the picture's centre,
    right and down, scene units: for a rotation vector ``w`` that is ``(wz, F wy, -F wx)``.
    """

    turns: Real
    camera: Pinhole

    components = ("roll", "across", "updown")
    blocks = (slice(0, 1), slice(1, 3))

    @classmethod
    def none(cls, n: int, camera: Pinhole) -> Rotations:
        """``n`` turns by nothing."""
        return cls(np.broadcast_to(np.eye(3), (n, 3, 3)).copy(), camera)

    @property
    def straight_camera(self) -> Pinhole:
        return self.camera

    @property
    def on_rays(self) -> Real:
        return self.turns

    def __len__(self) -> int:
        return len(self.turns)

    def __getitem__(self, frames: Frames) -> Rotations:
        return Rotations(self.turns[frames], self.camera[frames])

    def after(self, first: Rotations) -> Rotations:
        return Rotations(self.turns @ first.turns, self.camera)

    def inverse(self) -> Rotations:
        return Rotations(self.turns.swapaxes(1, 2), self.camera)

    def to_output(self, points: Rays) -> Rays:
        return np.asarray(points @ self.turns)  # what a turn did is undone by its transpose

    def log(self) -> Real:
        w = vectors_of(self.turns) if len(self) else np.zeros((0, 3))
        focal = self.camera.focal
        return np.stack([w[:, 2], focal * w[:, 1], -focal * w[:, 0]], axis=-1)

    def exp(self, tangents: Real) -> Rotations:
        roll, across, updown = tangents.T
        focal = self.camera.focal
        w = np.stack([-updown / focal, across / focal, roll], axis=-1)
        return Rotations(turns_by(w), self.camera)

    def cumulative(self) -> Rotations:
        """The product of each frame's turn and all before it: doubling, so that a long clip takes a
        dozen steps instead of thousands (Hillis, Steele, *Data parallel algorithms*, CACM 1986)."""
        turns, reach = self.turns.copy(), 1
        while reach < len(turns):
            turns[reach:] = turns[:-reach] @ turns[reach:]
            reach *= 2
        return Rotations(turns, self.camera)

    def transport(self) -> Real:
        # A small turn w before R is R w after it; in tangent coordinates, by their order and unit.
        focal = np.broadcast_to(np.asarray(self.camera.focal, float), len(self))
        one, zero = np.ones_like(focal), np.zeros_like(focal)
        to = np.array([[zero, zero, one], [zero, focal, zero], [-focal, zero, zero]])
        back = np.array([[zero, zero, -1 / focal], [zero, 1 / focal, zero], [one, zero, zero]])
        return np.asarray(to.transpose(2, 0, 1) @ self.turns @ back.transpose(2, 0, 1))

    def jacobian(self, points: Complex) -> Real:
        """The image of a small turn: Longuet-Higgins, Prazdny, *The interpretation of a moving
        retinal image*, Proc. R. Soc. B 1980."""
        focal = float(np.mean(self.camera.focal))
        away = points - np.mean(self.camera.centre)
        u, v = away.real / focal, away.imag / focal
        right = np.stack([-away.imag, 1 + u * u, u * v], axis=-1)
        down = np.stack([away.real, u * v, 1 + v * v], axis=-1)
        return np.stack([right, down], axis=1)


def turn_slopes(between: Real, earlier: Indices, later: Indices, n: int) -> scipy.sparse.csr_array:
    """``(3 m, 3 n)`` how ``m`` turns ``between`` ``(m, 3, 3)`` from one of ``n`` poses to another
    change, as rotation vectors, with small turns after the poses: to first order, by that of the
    later less the earlier one's, carried over."""
    m, axes = len(between), np.arange(3)
    own = np.arange(3 * m)
    ahead = (np.ones(3 * m), (own, (3 * later[:, None] + axes).ravel()))
    of_earlier = np.repeat((3 * earlier[:, None] + axes)[:, None], 3, axis=1)  # (m, row, column)
    behind = (between.ravel(), (np.repeat(own, 3), of_earlier.ravel()))
    shape = (3 * m, 3 * n)
    return scipy.sparse.csr_array(ahead, shape) - scipy.sparse.csr_array(behind, shape)


def turns_from(steps: Similarities, camera: Pinhole) -> Rotations:
    """Turns of a camera that do to the picture's centre what similarities do: where a fit of turns
    begins."""
    tangents = np.stack([np.angle(steps.a), steps.b.real, steps.b.imag], axis=-1)
    return Rotations.none(len(steps), camera).exp(tangents)
