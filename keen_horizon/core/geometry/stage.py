"""One stage of the warp chain: the protocol that everything geometric keeps.

Stages work backward, as the whole chain does: from where a point is shown to where it was recorded.
Whoever walks a chain (coverage, storing, easing, lending, holding) asks the stages what they can
do; nothing lists them by name.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from enum import IntEnum
from typing import Any, ClassVar, Literal, Self

import numpy as np

from ..types import Complex, Frames, Rays, Real


class Smoothness(IntEnum):
    """How finely a map has to be sampled to be drawn, and what closed forms it has."""

    AFFINE = 0  # told by its matrix; linear
    PROJECTIVE = 1  # told by its matrix
    SMOOTH = 2  # strays from its chain's matrix by a few pixels, slowly over the picture
    CURVED = 3  # anything else: a lens, a reshaped picture


class WarpStage(ABC):
    """A backward map for each of ``n`` frames, on points of the scene plane (see :mod:`.canvas`) or
    on rays of a camera.

    A stage that ``takes_rays`` is given directions ``(n, m, 3)`` (x right, y down, z forward);
    others complex points ``(n, m)``, those of a frame a row. Where two that know rays follow each
    other, rays are handed on, so that nothing is lost to the side.
    """

    side: ClassVar[Literal["output", "source"]] = "source"
    """Whether it belongs to what is shown, or to how one source frame was recorded: a frame that
    lends to another is looked at through its own source side."""
    takes_rays: ClassVar[bool] = False
    gives_rays: ClassVar[bool] = False

    @property
    @abstractmethod
    def smoothness(self) -> Smoothness: ...

    @abstractmethod
    def __getitem__(self, frames: Frames) -> Self:
        """The stage of some frames."""

    @abstractmethod
    def to_source(self, points: Any) -> Any:
        """One step towards the source."""

    @abstractmethod
    def to_output(self, points: Any) -> Any:
        """The way back; NaN where nothing leads there."""

    def toward_identity(self, share: Real) -> Self:
        """The stage weakened to ``share`` ``(n,)`` of what it does, 0..1. What cannot be weakened
        (a lens is what it is) stays."""
        return self

    @property
    def matrices(self) -> Real:
        """``(n, 3, 3)`` on homogeneous columns ``(u, v, 1)`` of the scene plane; of a stage that
        is affine or projective."""
        raise TypeError(f"{type(self).__name__} is not told by matrices")


class RayStage(WarpStage):
    """A stage that takes rays, and knows how points of its plane and rays belong together."""

    takes_rays = True

    @abstractmethod
    def to_rays(self, plane: Complex) -> Rays:
        """Points ``(n, m)`` of the straight plane to rays ``(n, m, 3)``, forward part positive."""

    @abstractmethod
    def to_plane(self, rays: Rays) -> Complex:
        """And back. Rays that point sideways or backward, which no straight picture can show, come
        out far off in their direction."""


def column(value: Any) -> Any:
    """A number as it is, values ``(n,)`` as ``(n, 1)``: to go with points ``(n, m)``."""
    return value[:, None] if isinstance(value, np.ndarray) and value.ndim == 1 else value


def of_frames(value: Any, frames: Frames) -> Any:
    """A number as it is, values ``(n, …)`` those of some frames."""
    return value[frames] if isinstance(value, np.ndarray) else value
