"""Fall-off: light that a lens loses towards the edge of the picture, and its return.

What is lost is told in stops (halvings of light), an even polynomial of the radius up to r⁶; a gain
of linear light by as many stops brings it back. Being a product, it is the same in all colours.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from ...geometry.canvas import Canvas
from ...geometry.lattice import cell_middles, lattice_points
from ...media.decode import Plane
from ...picture.radial import RadialField, even_powers
from ...picture.warp import Places
from ...picture.working_space import LinearPicture, WorkingSpace
from ...types import AnyArray, Points, Real
from .settings import GlassSettings

TERMS = 3  # r², r⁴, r⁶
MAP = (97, 55)  # places at which shares of the picture are counted


@dataclass(frozen=True)
class FallOff:
    """Light lost about a middle: ``stops`` ``(3,)`` at radius 1, of r², r⁴ and r⁶."""

    field: RadialField
    stops: tuple[float, float, float]

    def lost(self, points: Points) -> Real:
        """``(...)`` stops lost at pixels ``(..., 2)``; never less than none.

        >>> glass = FallOff(RadialField(Canvas(161, 121)), (1.0, 0.0, 0.5))
        >>> glass.lost(np.array([[80.0, 60], [160, 120]])).round(2).tolist()
        [0.0, 1.5]
        """
        told = even_powers(self.field.squared(points), TERMS) @ np.array(self.stops)
        return np.asarray(np.maximum(told, 0.0))


def fall_off_of(settings: GlassSettings, canvas: Canvas) -> FallOff:
    """The fall-off that settings tell of, all of it."""
    field = RadialField(
        canvas, (settings.centre_x / 100, settings.centre_y / 100), settings.roundness
    )
    return FallOff(field, (settings.loss_r2, settings.loss_r4, settings.loss_r6))


def settings_of(fall_off: FallOff, found_by: str, doubt: float) -> dict[str, Any]:
    """The settings of a fall-off that was found."""
    across, down = fall_off.field.centre
    return {
        **_losses(fall_off.stops),
        "centre_x": round(100 * across, 2),
        "centre_y": round(100 * down, 2),
        "roundness": fall_off.field.roundness,
        "found_by": found_by,
        "doubt": round(doubt, 3),
    }


def hand_settings(stops: tuple[float, float, float]) -> dict[str, Any]:
    """The settings of a fall-off told by hand; its middle stays where it is."""
    return {**_losses(stops), "found_by": "hand", "doubt": None}


def _losses(stops: tuple[float, float, float]) -> dict[str, float]:
    return {f"loss_r{2 * k + 2}": round(float(s), 4) for k, s in enumerate(stops)}


@dataclass(frozen=True)
class FallOffGain:
    """The pixel stage: light times what was lost. ``amount`` ``(n,)`` is the share of it that is
    brought back at each frame; ``limit`` the most stops anywhere."""

    fall_off: FallOff
    amount: Real
    limit: float
    end: ClassVar[Literal["source", "output"]] = "source"
    name: ClassVar[str] = "fall_off"
    shader: ClassVar[str] = """
uniform vec4 fall_off_field;  // middle and radii, in shares of the picture
uniform vec4 fall_off_stops;  // of r2, r4, r6; the most of all
vec3 fall_off(vec3 seen, vec2 at) {
  vec2 off = (at - fall_off_field.xy) / fall_off_field.zw;
  float q = dot(off, off);
  float lost = q * (fall_off_stops.x + q * (fall_off_stops.y + q * fall_off_stops.z));
  float stops = clamp(lost, 0.0, fall_off_stops.w);
  // Of the curve of sRGB, a gain of light is this in code values; near black, where it is straight,
  // the lesser.
  vec3 raised = exp2(stops / 2.4) * (seen + 0.055) - 0.055;
  return min(min(raised, seen * exp2(stops)), 1.0);
}"""
    coded: ClassVar[bool] = True

    def stops(self, points: AnyArray, frame: int) -> Real:
        """``(...)`` by how much the light of pixels ``(..., 2)`` is raised."""
        lost = self.fall_off.lost(points) * self.amount[frame]
        return np.asarray(np.minimum(lost, self.limit))

    def limited_share(self) -> float:
        """The share of the picture, 0..1, that would need more than there may be."""
        lost = self.fall_off.lost(lattice_points(self.fall_off.field.canvas, *MAP))
        return float((lost * self.amount.max() > self.limit).mean())

    def unblown(self, light: Real, white: float, spare: float) -> float:
        """The most of what is lost, as a share, that may be brought back for no more than a
        ``spare`` share of a picture to become ``white`` that was not: ``light`` ``(height, width)``
        linear, of the whole recorded picture. Infinite where none does."""
        height, width = light.shape
        canvas = self.fall_off.field.canvas
        lost = self.fall_off.lost(cell_middles(canvas, width, height))
        room = np.log2(white / np.maximum(light, 1e-6))  # stops to white
        with np.errstate(divide="ignore"):
            each = np.where((room > 0) & (room <= self.limit) & (lost > 0), room / lost, np.inf)
        allowed = int(spare * each.size)
        return float(np.partition(each.ravel(), allowed)[allowed])

    def apply(self, picture: LinearPicture, places: Places, frame: int) -> LinearPicture:
        height, width = picture.shape[:2]
        gain = places.spread(np.exp2(self.stops(places.source, frame)), width, height)
        picture *= gain[..., None]
        return picture

    def apply_coded(
        self, planes: tuple[Plane, ...], space: WorkingSpace, places: Places, frame: int
    ) -> None:
        stops = self.stops(places.source, frame).astype(np.float32)
        space.raise_light(planes, stops, places, self.limit)

    def uniforms(self) -> dict[str, Real]:
        n = len(self.amount)
        stops = self.amount[:, None] * np.array(self.fall_off.stops)
        return {
            "fall_off_field": np.tile(self.fall_off.field.shares, (n, 1)),
            "fall_off_stops": np.column_stack([stops, np.full(n, self.limit)]),
        }
