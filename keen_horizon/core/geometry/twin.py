"""Two fisheyes back to back, as many cameras record a sphere: side by side, or one above the other.

Axes are the first lens': it looks along z (x right, y down), the second about the other way. Each
sees a little more than half of the sphere; where both do, along the great circle about z, what is
near lies further back in either picture than what is far, by half of the *gap* each, because the
lenses are not in one place.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from ..types import AnyArray, Points, Rays, Real
from .canvas import Canvas

HALF_PI = np.pi / 2
FADES = np.radians(25.0)  # from the great circle, within which pictures give way to the gap
BLENDS = np.radians(2.0)  # at most, on either side of it: there one picture fades into the other
LIGHT_TERMS = 2  # even powers of the angle off the axis, by which lenses lose light
ROUNDS = 8  # of finding the angle of a radius
SIDES = 16  # whole spheres are as wide as a multiple of this


@dataclass(frozen=True)
class FisheyeLens:
    """One lens: its ``centre``, ``(x, y)`` pixels of the file's picture; ``focal``, pixels a radian
    at 90 degrees from its axis; ``bend``, by which the rest is closer together or wider apart;
    ``turn`` ``(3, 3)`` from the sphere's rays to its own (x right, y down in its picture);
    ``reach``, radians from its axis to where its picture ends.

    A ray ``a`` radians off the axis is ``focal a (1 + bend (a^2 - pi^2 / 4))`` pixels from the
    centre (the first terms of Kannala, Brandt, *A generic camera model*, TPAMI 2006).

    >>> lens = FisheyeLens((99.5, 99.5), 60.0, 0.0, np.eye(3), 1.7)
    >>> lens.to_pixels(np.array([1.0, 0.0, 0.0])).round(2).tolist()
    [193.75, 99.5]
    >>> (lens.to_rays(np.array([193.75, 99.5])).round(3) + 0.0).tolist()
    [1.0, 0.0, 0.0]
    """

    centre: tuple[float, float]
    focal: float
    bend: float
    turn: Real
    reach: float

    def radius(self, angle: AnyArray) -> AnyArray:
        """Pixels from the centre of what is ``angle`` radians off the axis."""
        return np.asarray(self.focal * angle * (1 + self.bend * (angle**2 - HALF_PI**2)))

    def to_pixels(self, rays: Rays, further: AnyArray | float = 0.0) -> Points:
        """Rays ``(..., 3)`` to pixels ``(..., 2)`` of the file, each seen ``further`` off the axis,
        radians, than it is."""
        own = rays @ self.turn.T
        level = np.hypot(own[..., 0], own[..., 1])
        far = self.radius(np.arctan2(level, own[..., 2]) + further)
        away = own[..., :2] * (far / np.maximum(level, 1e-12))[..., None]
        return np.asarray(away + np.asarray(self.centre))

    def to_rays(self, pixels: Points) -> Rays:
        """The inverse: unit rays."""
        away = np.asarray(pixels, float) - np.asarray(self.centre)
        far = np.hypot(away[..., 0], away[..., 1])
        angle = far / self.focal
        for _ in range(ROUNDS):
            slope = self.focal * (1 + self.bend * (3 * angle**2 - HALF_PI**2))
            angle = angle - (self.radius(angle) - far) / slope
        level = np.sin(angle) / np.maximum(far, 1e-12)
        own = np.concatenate([away * level[..., None], np.cos(angle)[..., None]], axis=-1)
        return np.asarray(own @ self.turn)

    def to_json(self) -> dict[str, Any]:
        return {
            "centre": list(self.centre), "focal": self.focal, "bend": self.bend,
            "turn": self.turn.tolist(), "reach": self.reach,
        }  # fmt: skip

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> FisheyeLens:
        x, y = data["centre"]
        return cls((x, y), data["focal"], data["bend"], np.array(data["turn"]), data["reach"])


def light_powers(angle: AnyArray) -> Real:
    """``(..., 2)`` of angles off the axis, radians: their shares of a right angle, to the power of
    two and of four."""
    square = (np.asarray(angle) / HALF_PI) ** 2
    return np.stack([square, square**2], axis=-1)


@dataclass(frozen=True)
class TwinLight:
    """How the lenses' light differs: ``falls`` ``(2,)`` stops that each loses, by
    :func:`light_powers`; and in ``frames`` ``(k,)`` of the file, rising, by how many stops the
    first lens' picture is brighter than the second's, ``apart`` ``(k,)``; evenly between."""

    falls: Real
    frames: Real
    apart: Real

    def missing(self, which: int, angle: AnyArray, frame: int) -> Real:
        """Stops, never below 0, by which the light of a lens' picture is to be raised at ``angle``
        off its axis: the darker one's up to the brighter one's.

        >>> light = TwinLight(np.array([0.5, 0.0]), np.array([0, 10]), np.array([0.0, 0.4]))
        >>> axis_and_rim = np.array([0.0, HALF_PI])
        >>> [light.missing(which, axis_and_rim, 5).round(2).tolist() for which in (0, 1)]
        [[0.0, 0.5], [0.2, 0.7]]
        """
        apart = float(np.interp(frame, self.frames, self.apart))
        darker = max(0.0, apart if which else -apart)
        return np.maximum(light_powers(angle) @ self.falls, 0.0) + darker

    def to_json(self) -> dict[str, Any]:
        return {name: getattr(self, name).tolist() for name in ("falls", "frames", "apart")}

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> TwinLight:
        falls, frames, apart = (np.array(data[name]) for name in ("falls", "frames", "apart"))
        return cls(falls, frames, apart)


@dataclass(frozen=True)
class Twin:
    """Both lenses in a file's picture of size ``canvas``, and how wide the ``gap`` between them is
    around the great circle: ``(2 k + 1,)`` radians, of a constant and of cosines and sines of the
    azimuth, once to ``k`` times around; how their ``light`` differs, if it is known to."""

    canvas: Canvas
    lenses: tuple[FisheyeLens, FisheyeLens]
    gap: Real
    light: TwinLight | None = None

    @cached_property
    def whole(self) -> Canvas:
        """The size of a picture all around that is as fine as the lenses' are at its equator."""
        across = 2 * np.pi * float(np.mean([lens.focal for lens in self.lenses]))
        width = max(SIDES, round(across / SIDES) * SIDES)
        return Canvas(width, width // 2)

    @property
    def blends(self) -> float:
        """Radians on either side of the great circle within which one picture goes over in the
        other."""
        both = min(lens.reach for lens in self.lenses) - HALF_PI
        return float(np.clip(0.6 * both, np.radians(0.25), BLENDS))

    def gap_at(self, azimuth: AnyArray) -> Real:
        """Radians, at azimuths about z: 0 to the right, growing downwards."""
        waves = np.arange(1, len(self.gap) // 2 + 1)
        turns = np.asarray(azimuth)[..., None] * waves
        return np.asarray(
            self.gap[0] + np.cos(turns) @ self.gap[1::2] + np.sin(turns) @ self.gap[2::2]
        )

    def to_pixels(self, rays: Rays, which: int) -> Points:
        """Rays ``(..., 3)`` to where the first lens (0) or the second shows them, ``(..., 2)``
        pixels of the file."""
        if not self.gap.any():
            return self.lenses[which].to_pixels(rays)
        off = self._off_circle(rays)
        near = np.cos(np.clip(off / FADES, -1, 1) * HALF_PI) ** 2
        azimuth = np.arctan2(rays[..., 1], rays[..., 0])
        return self.lenses[which].to_pixels(rays, 0.5 * near * self.gap_at(azimuth))

    def share(self, rays: Rays) -> Real:
        """``(...)`` how much of each ray the first lens shows; the second has the rest."""
        at = np.clip(0.5 - self._off_circle(rays) / (2 * self.blends), 0, 1)
        return np.asarray(at * at * (3 - 2 * at))

    @staticmethod
    def _off_circle(rays: Rays) -> Real:
        """Radians from the great circle, to the second lens' side."""
        level = np.hypot(rays[..., 0], rays[..., 1])
        return np.asarray(np.arctan2(level, rays[..., 2]) - HALF_PI)

    def with_gap(self, gap: Real) -> Twin:
        return replace(self, gap=gap)

    def to_json(self) -> dict[str, Any]:
        return {
            "size": [self.canvas.width, self.canvas.height],
            "lenses": [lens.to_json() for lens in self.lenses],
            "gap": self.gap.tolist(),
            "light": None if self.light is None else self.light.to_json(),
        }

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Twin:
        first, second = (FisheyeLens.from_json(lens) for lens in data["lenses"])
        light = data.get("light")
        return cls(Canvas(*data["size"]), (first, second), np.array(data["gap"], float),
                   None if light is None else TwinLight.from_json(light))  # fmt: skip
