"""Motions of a picture: what every kind of them offers, so that solvers and scores know none.

A motion takes points of the scene plane (see :mod:`.canvas`) to others, one map a frame. The kinds
are groups: maps of one kind compose to another of it. Near the identity each map is told by a
*tangent vector* of :attr:`~Motion.dimensions` real numbers; those that belong together (an across
and an up-down, say) form a *block*, whose length is what a path solver counts.
"""

from __future__ import annotations

from abc import abstractmethod
from typing import ClassVar, Self, TypeVar

import numpy as np

from ..types import Complex, Flags, Frames, Real
from .canvas import Canvas
from .stage import WarpStage


class Motion(WarpStage):
    """``n`` maps of one kind. As a stage of the warp chain: output plane to source plane."""

    components: ClassVar[tuple[str, ...]]
    """What each tangent coordinate is called: of ``size`` (log scale), ``roll`` (radians
    clockwise), ``across`` and ``updown`` (scene units at the picture's centre). Coordinates of one
    name add up."""
    blocks: ClassVar[tuple[slice, ...]]
    """The coordinates that make one length each."""
    priced: ClassVar[tuple[slice, ...]] = ()
    """The coordinates that a fit leaves at nothing unless tracks speak for them."""
    side = "output"

    @property
    def dimensions(self) -> int:
        """Length of a tangent vector."""
        return len(self.components)

    @abstractmethod
    def __len__(self) -> int: ...

    @abstractmethod
    def __getitem__(self, frames: Frames) -> Self: ...

    @abstractmethod
    def after(self, first: Self) -> Self:
        """The maps that apply ``first``, then ``self``."""

    @abstractmethod
    def inverse(self) -> Self: ...

    @abstractmethod
    def apply(self, points: Complex) -> Complex:
        """Points ``(m,)``, the same for all frames, or ``(n, m)``, to ``(n, m)``."""

    def undo(self, points: Complex) -> Complex:
        """Points ``(n, m)`` back to where :meth:`apply` had them from."""
        return self.inverse().apply(points)

    @abstractmethod
    def log(self) -> Real:
        """``(n, d)`` the tangent vectors."""

    @abstractmethod
    def exp(self, tangents: Real) -> Self:
        """The maps of this kind (same camera) that ``tangents`` ``(n, d)`` tell."""

    @abstractmethod
    def transport(self) -> Real:
        """``(n, d, d)`` by which a small motion ``q`` before the map is seen after it: to first
        order in ``q``, ``log(self after exp(q)) = transport q + log(self)``; of turns, as long as
        the map itself is small."""

    @abstractmethod
    def jacobian(self, points: Complex) -> Real:
        """``(m, 2, d)`` how points ``(m,)`` move, right and down, per unit of each coordinate."""

    @property
    @abstractmethod
    def matrices(self) -> Real:
        """``(n, 3, 3)`` the maps on homogeneous columns ``(u, v, 1)`` of the scene plane."""

    @abstractmethod
    def cumulative(self) -> Self:
        """``(n,)`` the maps of each frame after those of all frames behind it: entry ``t`` applies
        map ``t`` first, then ``t - 1``, down to map 0."""

    def identity(self, n: int) -> Self:
        """``n`` maps of this kind that move nothing."""
        return self.exp(np.zeros((n, self.dimensions)))

    def toward_identity(self, share: Real) -> Self:
        """Each map weakened to ``share`` ``(n,)`` of it: 0 moves nothing, 1 is the map itself."""
        return self.exp(share[:, None] * self.log())

    def rebased(self) -> Self:
        """The same steps as a stretch of their own: it begins with none."""
        return self.still(np.arange(len(self)) < 1)

    def still(self, where: Flags) -> Self:
        """The maps, but none where ``where`` ``(n,)`` is true."""
        return self.exp(np.where(where[:, None], 0.0, self.log()))

    def pixel_matrices(self, canvas: Canvas) -> Real:
        """``(n, 3, 3)`` the same maps acting on pixels of ``canvas``."""
        scene = canvas.scene_matrix
        return np.linalg.inv(scene) @ self.matrices @ scene


AnyMotion = TypeVar("AnyMotion", bound=Motion)


def cumulative_pose(steps: AnyMotion) -> AnyMotion:
    """The pose of each frame in the first frame's plane.

    ``steps[t]`` maps frame ``t - 1`` to frame ``t`` (``steps[0]`` counts as none); entry ``t`` of
    the result maps frame ``t`` back to frame 0: ``pose[t] = pose[t-1] after inverse(steps[t])``.

    >>> from keen_horizon.core.geometry.similarity import Similarities
    >>> steps = Similarities(np.ones(3, complex), np.array([0, 5 + 0j, 2j]))
    >>> (cumulative_pose(steps).b + 0).tolist()
    [0j, (-5+0j), (-5-2j)]
    """
    return steps.rebased().inverse().cumulative()
