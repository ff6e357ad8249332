"""Similarities of the plane, many at a time, as complex numbers.

A similarity maps ``z`` to ``a z + b``: ``a = s * exp(i r)`` turns by ``r`` radians and scales by
``s``; ``b`` shifts. With y down, a positive ``r`` turns clockwise on screen.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np

from ..stored import stored
from ..types import Complex, Flags, Frames, Real
from .motion import Motion
from .stage import Smoothness


@stored
@dataclass(frozen=True)
class Similarities(Motion):
    """``n`` similarities: ``a`` and ``b`` are complex128 arrays of shape ``(n,)``.

    Tangent coordinates are the log of the scale, the turn, and the shift right and down.
    """

    a: Complex
    b: Complex

    components: ClassVar[tuple[str, ...]] = ("size", "roll", "across", "updown")
    blocks: ClassVar[tuple[slice, ...]] = (slice(0, 2), slice(2, 4))

    @classmethod
    def none(cls, n: int) -> Self:
        """``n`` maps that move nothing."""
        return cls(np.ones(n, np.complex128), np.zeros(n, np.complex128))

    @property
    def smoothness(self) -> Smoothness:
        return Smoothness.AFFINE

    def __len__(self) -> int:
        return len(self.a)

    def __getitem__(self, frames: Frames) -> Self:
        return type(self)(self.a[frames], self.b[frames])

    def after(self, first: Similarities) -> Similarities:
        """The maps that apply ``first``, then ``self``.

        >>> turn = Similarities(np.array([1j]), np.array([0j]))
        >>> move = Similarities(np.array([1 + 0j]), np.array([3 + 0j]))
        >>> turn.after(move).apply(np.array([1 + 0j]))
        array([[0.+4.j]])
        """
        # Shifts after shifts are shifts; whatever turns makes the whole turn.
        kind = type(self) if isinstance(first, type(self)) else Similarities
        return kind(self.a * first.a, self.a * first.b + self.b)

    def inverse(self) -> Self:
        return type(self)(1.0 / self.a, -self.b / self.a)

    def apply(self, points: Complex) -> Complex:
        return np.asarray(self.a[:, None] * points + self.b[:, None])

    to_source = apply

    def to_output(self, points: Complex) -> Complex:
        return np.asarray((points - self.b[:, None]) / self.a[:, None])

    def log(self) -> Real:
        turned = np.log(self.a)
        return np.stack([turned.real, turned.imag, self.b.real, self.b.imag], axis=-1)

    def exp(self, tangents: Real) -> Self:
        size, roll, across, updown = tangents.T
        return type(self)(np.exp(size + 1j * roll), across + 1j * updown)

    def still(self, where: Flags) -> Self:
        return type(self)(np.where(where, 1.0 + 0j, self.a), np.where(where, 0j, self.b))

    def cumulative(self) -> Self:
        a = np.asarray(np.cumprod(self.a))
        # b[t] = a[t-1] * own b[t] + b[t-1]
        before = np.concatenate([np.ones(1, complex), a[:-1]])
        return type(self)(a, np.asarray(np.cumsum(before * self.b)))

    def transport(self) -> Real:
        out = np.zeros((len(self), 4, 4))
        out[:, 0, 0] = out[:, 1, 1] = 1.0
        out[:, 2:, 2:] = self.linear_parts
        return out

    def jacobian(self, points: Complex) -> Real:
        one, zero = np.ones(len(points)), np.zeros(len(points))
        right = np.stack([points.real, -points.imag, one, zero], axis=-1)
        down = np.stack([points.imag, points.real, zero, one], axis=-1)
        return np.stack([right, down], axis=1)

    @property
    def linear_parts(self) -> Real:
        """``(n, 2, 2)``: the maps without their shifts, on columns ``(u, v)``."""
        a = self.a
        return np.stack([np.stack([a.real, -a.imag], -1), np.stack([a.imag, a.real], -1)], axis=-2)

    @property
    def matrices(self) -> Real:
        m = np.zeros((len(self), 3, 3))
        m[:, :2, :2] = self.linear_parts
        m[:, 0, 2], m[:, 1, 2], m[:, 2, 2] = self.b.real, self.b.imag, 1.0
        return m


@stored
@dataclass(frozen=True)
class Shifts(Similarities):
    """Similarities that neither turn nor scale: ``a`` is 1 throughout."""

    components = ("across", "updown")
    blocks = (slice(0, 2),)

    def log(self) -> Real:
        return np.stack([self.b.real, self.b.imag], axis=-1)

    def exp(self, tangents: Real) -> Self:
        across, updown = tangents.T
        return type(self)(np.ones(len(tangents), complex), across + 1j * updown)

    def transport(self) -> Real:
        return np.broadcast_to(np.eye(2), (len(self), 2, 2))

    def jacobian(self, points: Complex) -> Real:
        return np.broadcast_to(np.eye(2), (len(points), 2, 2))


def nearest_similarity(places: Complex, moved: Complex) -> Similarities:
    """The similarities that take ``places`` ``(m,)`` nearest to where they ``moved`` ``(n, m)``.

    Least squares, in closed form; exact if that is what they did (Umeyama, *Least-squares
    estimation of transformation parameters between two point patterns*, PAMI 1991).

    >>> places = np.array([0j, 10 + 0j, 10j])
    >>> found = nearest_similarity(places, 2j * places[None] + 3)
    >>> np.allclose(found.a, 2j), np.allclose(found.b, 3)
    (True, True)
    """
    middle, there = places.mean(), moved.mean(axis=1)
    away = places - middle
    a = ((moved - there[:, None]) * away.conj()).sum(axis=1) / (np.abs(away) ** 2).sum()
    return Similarities(a, there - a * middle)
