"""Turns of a camera that also travels: what its travel does to the depth that fills the picture.

A camera that moves by a little beside turning sees a wall at the depth ``Z`` slide by ``F t / Z``
and grow by ``1 + tz / Z``: a shift and a scale of the straight plane, on top of the turn. Slide and
turn are told apart by what a turn does to the sides of the picture alone.

The two do not make a group, so they are kept side by side, each composed with its own kind: slides
are smaller than the picture and steps are smaller than that, so what the order changes is of second
order (a slide of a pixel under a correction by two degrees: 0.03 px). Points are mapped exactly.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

import numpy as np

from ..stored import stored
from ..types import Complex, Flags, Frames, Real
from .pinhole import Pinhole
from .ray_motion import RayMotion
from .rotation import Rotations
from .similarity import Similarities


@stored
@dataclass(frozen=True)
class Slides(Similarities):
    """Similarities that do not turn: ``a`` is real and positive throughout."""

    components = ("size", "across", "updown")
    blocks = (slice(0, 1), slice(1, 3))

    def log(self) -> Real:
        return np.stack([np.log(self.a.real), self.b.real, self.b.imag], axis=-1)

    def exp(self, tangents: Real) -> Self:
        size, across, updown = tangents.T
        return type(self)(np.exp(size) + 0j, across + 1j * updown)

    def transport(self) -> Real:
        size = self.a.real
        out = np.zeros((len(self), 3, 3))
        out[:, 0, 0], out[:, 1, 1], out[:, 2, 2] = 1.0, size, size
        return out

    def jacobian(self, points: Complex) -> Real:
        one, zero = np.ones(len(points)), np.zeros(len(points))
        right = np.stack([points.real, one, zero], axis=-1)
        down = np.stack([points.imag, zero, one], axis=-1)
        return np.stack([right, down], axis=1)


@stored
@dataclass(frozen=True)
class TurnsAndSlides(RayMotion):
    """``n`` slides, and the turns that follow them: ``slides`` act about the camera's centre.

    Tangent coordinates are those of the turns, then those of the slides; a coordinate of the same
    name in both adds up.
    """

    turns: Rotations
    slides: Slides

    components = (*Rotations.components, *Slides.components)
    blocks = (*Rotations.blocks, slice(3, 4), slice(4, 6))
    priced = (slice(4, 6),)

    @classmethod
    def of_turns(cls, turns: Rotations) -> TurnsAndSlides:
        """Turns alone."""
        return cls(turns, Slides.none(len(turns)))

    @property
    def straight_camera(self) -> Pinhole:
        return self.turns.camera

    def __len__(self) -> int:
        return len(self.turns)

    def __getitem__(self, frames: Frames) -> TurnsAndSlides:
        return TurnsAndSlides(self.turns[frames], self.slides[frames])

    def after(self, first: TurnsAndSlides) -> TurnsAndSlides:
        slides = self.slides.after(first.slides)
        return TurnsAndSlides(self.turns.after(first.turns), Slides(slides.a, slides.b))

    def inverse(self) -> TurnsAndSlides:
        return TurnsAndSlides(self.turns.inverse(), self.slides.inverse())

    def cumulative(self) -> TurnsAndSlides:
        return TurnsAndSlides(self.turns.cumulative(), self.slides.cumulative())

    @property
    def on_rays(self) -> Real:
        """A ray ``(X, Y, Z)`` slides to ``(a X + b Z / F, ...)``, then turns."""
        n, focal = len(self), self.straight_camera.focal
        slide = np.zeros((n, 3, 3))
        slide[:, 0, 0] = slide[:, 1, 1] = self.slides.a.real
        slide[:, 0, 2], slide[:, 1, 2] = self.slides.b.real / focal, self.slides.b.imag / focal
        slide[:, 2, 2] = 1.0
        return np.asarray(self.turns.turns @ slide)

    def log(self) -> Real:
        return np.concatenate([self.turns.log(), self.slides.log()], axis=1)

    def exp(self, tangents: Real) -> TurnsAndSlides:
        return TurnsAndSlides(self.turns.exp(tangents[:, :3]), self.slides.exp(tangents[:, 3:]))

    def still(self, where: Flags) -> TurnsAndSlides:
        return TurnsAndSlides(self.turns.still(where), self.slides.still(where))

    def transport(self) -> Real:
        out = np.zeros((len(self), 6, 6))
        out[:, :3, :3], out[:, 3:, 3:] = self.turns.transport(), self.slides.transport()
        return out

    def jacobian(self, points: Complex) -> Real:
        away = points - np.mean(self.straight_camera.centre)
        return np.concatenate([self.turns.jacobian(points), self.slides.jacobian(away)], axis=-1)
