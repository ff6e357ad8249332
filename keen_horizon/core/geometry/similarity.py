"""Similarities of the plane, many at a time, as complex numbers.

A similarity maps ``z`` to ``a z + b``: ``a = s * exp(i r)`` turns by ``r`` radians and scales by
``s``; ``b`` shifts. With y down, a positive ``r`` turns clockwise on screen.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .canvas import Canvas, Complex


@dataclass(frozen=True)
class Similarities:
    """``n`` similarities: ``a`` and ``b`` are complex128 arrays of shape ``(n,)``."""

    a: Complex
    b: Complex

    @classmethod
    def identity(cls, n: int) -> Similarities:
        return cls(np.ones(n, np.complex128), np.zeros(n, np.complex128))

    def __len__(self) -> int:
        return len(self.a)

    def __getitem__(self, where: slice | NDArray[np.intp]) -> Similarities:
        return Similarities(self.a[where], self.b[where])

    def after(self, first: Similarities) -> Similarities:
        """The maps that apply ``first``, then ``self``.

        >>> turn = Similarities(np.array([1j]), np.array([0j]))
        >>> move = Similarities(np.array([1 + 0j]), np.array([3 + 0j]))
        >>> turn.after(move).apply(np.array([1 + 0j]))
        array([[0.+4.j]])
        """
        return Similarities(self.a * first.a, self.a * first.b + self.b)

    def inverse(self) -> Similarities:
        return Similarities(1.0 / self.a, -self.b / self.a)

    def apply(self, z: Complex) -> Complex:
        """Map points ``(m,)`` by each of the ``n`` maps, giving ``(n, m)``."""
        return self.a[:, None] * z[None, :] + self.b[:, None]

    @property
    def rebased(self) -> Similarities:
        """The same steps as a stretch of their own: it begins with none."""
        a, b = self.a.copy(), self.b.copy()
        a[:1], b[:1] = 1.0, 0.0
        return Similarities(a, b)

    def toward_identity(self, share: NDArray[np.float64]) -> Similarities:
        """Each map weakened to ``share`` (0 = identity, 1 = itself); ``share`` is ``(n,)``."""
        return Similarities(np.exp(share * np.log(self.a)), share * self.b)

    @property
    def linear_parts(self) -> NDArray[np.float64]:
        """``(n, 2, 2)``: the maps without their shifts, on columns ``(u, v)``."""
        a = self.a
        return np.stack([np.stack([a.real, -a.imag], -1), np.stack([a.imag, a.real], -1)], axis=-2)

    @property
    def matrices(self) -> NDArray[np.float64]:
        """``(n, 3, 3)``: the maps on homogeneous columns ``(u, v, 1)`` of the scene plane."""
        m = np.zeros((len(self), 3, 3))
        m[:, :2, :2] = self.linear_parts
        m[:, 0, 2], m[:, 1, 2], m[:, 2, 2] = self.b.real, self.b.imag, 1.0
        return m

    def pixel_matrices(self, canvas: Canvas) -> NDArray[np.float64]:
        """``(n, 3, 3)``: the same maps acting on pixels of ``canvas`` (source pixels)."""
        scene = canvas.scene_matrix
        return np.linalg.inv(scene) @ self.matrices @ scene


def cumulative_pose(steps: Similarities) -> Similarities:
    """Pose of each frame in the first frame's plane.

    ``steps[t]`` maps frame ``t - 1`` to frame ``t`` (``steps[0]`` is ignored); the result's entry
    ``t`` maps frame ``t`` back to frame 0, so that ``pose[t] = pose[t-1] after inverse(steps[t])``.
    """
    back = steps.inverse()
    a = np.cumprod(np.concatenate([[1.0 + 0j], back.a[1:]]))
    # pose_b[t] = pose_a[t-1] * back_b[t] + pose_b[t-1]
    b = np.cumsum(np.concatenate([[0j], a[:-1] * back.b[1:]]))
    return Similarities(a, b)
