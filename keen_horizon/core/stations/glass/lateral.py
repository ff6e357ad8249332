"""Lateral colour: red and blue magnified differently from green, and each looked up where it is.

How far a colour lies outside of green is an odd polynomial of the radius (r, r³) about a middle:
the lowest terms by which a lens' magnification can differ between colours.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from ...geometry.canvas import Canvas
from ...geometry.lattice import lattice_points
from ...picture.radial import RadialField, even_powers
from ...types import AnyArray, Real
from .settings import GlassSettings

TERMS = 2  # r, r³
COLOURS = ("red", "blue")
MILLE = 1000.0
MAP = (33, 19)  # places at which an rms over the picture is taken


@dataclass(frozen=True)
class Lateral:
    """``red`` and ``blue``: shares of half the diagonal by which that colour lies further out than
    green at radius 1, by r and by r³."""

    field: RadialField
    red: tuple[float, float]
    blue: tuple[float, float]

    def parted(self, points: AnyArray) -> Real:
        """``(..., 2, 2)`` px, x and y, by which red and blue lie off green at pixels ``(..., 2)``.

        >>> glass = Lateral(RadialField(Canvas(161, 121)), (0.01, 0.0), (0.0, -0.02))
        >>> glass.parted(np.array([160.0, 120])).round(2).tolist()
        [[0.8, 0.6], [-1.6, -1.2]]
        """
        off = self.field.offsets(points)
        grows = even_powers((off**2).sum(axis=-1), TERMS - 1)
        grows = np.concatenate([np.ones_like(grows), grows], axis=-1)  # of what r is multiplied by
        out = grows @ np.array([self.red, self.blue]).T  # (..., 2) by colour
        return np.asarray(out[..., :, None] * (off * self.field.unit)[..., None, :])

    def rms(self) -> tuple[float, float]:
        """How far red and blue lie off green, rms px over the picture."""
        apart = self.parted(lattice_points(self.field.canvas, *MAP))
        red, blue = np.sqrt((apart**2).sum(axis=-1).mean(axis=(0, 1))).tolist()
        return red, blue

    def corners(self) -> tuple[float, float]:
        """How far outside of green red and blue lie at radius 1, px."""
        return sum(self.red) * self.field.canvas.radius, sum(self.blue) * self.field.canvas.radius


def lateral_of(settings: GlassSettings, canvas: Canvas) -> Lateral:
    """What settings tell of red and blue."""
    field = RadialField(canvas, (settings.colour_x / 100, settings.colour_y / 100))
    return Lateral(
        field,
        (settings.red_r / MILLE, settings.red_r3 / MILLE),
        (settings.blue_r / MILLE, settings.blue_r3 / MILLE),
    )


def is_parted(settings: GlassSettings) -> bool:
    """Whether settings tell of any lateral colour."""
    return bool(settings.red_r or settings.red_r3 or settings.blue_r or settings.blue_r3)


def lateral_settings(lateral: Lateral, doubt: float) -> dict[str, Any]:
    """The settings of lateral colour that was found in a clip."""
    across, down = lateral.field.centre
    return {
        **_terms(lateral.red, lateral.blue),
        "colour_x": round(100 * across, 2),
        "colour_y": round(100 * down, 2),
        "colour_found_by": "clip",
        "colour_doubt": round(doubt, 3),
    }


def told_settings(red: tuple[float, float], blue: tuple[float, float]) -> dict[str, Any]:
    """The settings of lateral colour told by hand; its middle stays where it is."""
    return {**_terms(red, blue), "colour_found_by": "hand", "colour_doubt": None}


def _terms(red: tuple[float, float], blue: tuple[float, float]) -> dict[str, float]:
    told = zip(("red_r", "red_r3", "blue_r", "blue_r3"), (*red, *blue), strict=True)
    return {name: round(MILLE * value, 4) for name, value in told}


@dataclass(frozen=True)
class LateralColour:
    """The stage: red and blue looked up where the glass put them. ``amount`` ``(n,)`` is how much
    of it, at each frame."""

    lateral: Lateral
    amount: Real
    end: ClassVar[Literal["colours"]] = "colours"
    name: ClassVar[str] = "lateral"
    shader: ClassVar[str] = """
uniform vec4 lateral_field;  // middle and radii, in shares of the picture
uniform vec4 lateral_out;    // red by r and r3, blue by r and r3
vec2 lateral(vec2 at, float colour) {
  vec2 off = (at - lateral_field.xy) / lateral_field.zw;
  vec2 out_by = mix(lateral_out.xy, lateral_out.zw, colour);
  return at + lateral_field.zw * off * (out_by.x + out_by.y * dot(off, off));
}"""

    def parted(self, points: AnyArray, frame: int) -> Real:
        return self.lateral.parted(points) * self.amount[frame]

    def uniforms(self) -> dict[str, Real]:
        n = len(self.amount)
        told = np.array([*self.lateral.red, *self.lateral.blue])
        return {
            "lateral_field": np.tile(self.lateral.field.shares, (n, 1)),
            "lateral_out": self.amount[:, None] * told,
        }
