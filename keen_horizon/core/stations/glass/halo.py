"""Halo: purple and green rims that bright things leave beside them, whatever their place.

A lens that focuses colours at different depths spreads some of them over what lies beside a blown
or very bright edge. There, and nowhere else, chroma that is of a rim's hue is brought back to what
lies around, beyond the rim's reach: where the thing itself is of that hue, there is nothing to
bring back. Where all about it is rim, it is brought back to none.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ...media.decode import Picture
from ...picture.working_space import WorkingSpace, at_chroma_size
from ...types import Real

BRIGHT = (0.72, 0.9)  # code values from which, and at which, something is bright enough to glow
CONTRAST = (0.25, 0.45)  # to what lies beside it
AROUND = 3.0  # widths, within which chroma beyond the rim is looked for
ALIKE = (0.5, 0.77)  # cosine of the angle to a rim's hue from which, and at which, it is of it

Plane32 = NDArray[np.float32]


def hue_direction(degrees: float) -> tuple[float, float]:
    """The direction, in U and V of BT.709, of a hue (0 red, 120 green, 240 blue), of unit length.

    >>> [round(v, 2) for v in hue_direction(240)]
    [1.0, -0.09]
    """
    third = np.clip(np.abs((degrees / 60 - np.array([0, 2, 4]) + 3) % 6 - 3), 0, 2)
    red, green, blue = (np.clip(2 - third, 0, 1)).tolist()
    luma = 0.2126 * red + 0.7152 * green + 0.0722 * blue
    u, v = (blue - luma) / 1.8556, (red - luma) / 1.5748
    length = float(np.hypot(u, v)) or 1.0
    return u / length, v / length


@dataclass(frozen=True)
class Halo:
    """The stage. ``strength`` ``(n,)`` is the share of a rim that is taken away at each frame;
    ``width`` px of the picture that it may be wide; ``hues`` degrees."""

    strength: Real
    width: float
    hues: tuple[float, float]
    height: int  # of the picture
    across: int
    end: ClassVar[Literal["recorded"]] = "recorded"
    name: ClassVar[str] = "halo"
    shader: ClassVar[str] = """
uniform vec4 halo_by;    // strength; width, in shares across and down; times that which is around
uniform vec4 halo_hues;  // two directions in U and V
vec2 halo_chroma(vec3 seen) {
  float luma = dot(seen, vec3(0.2126, 0.7152, 0.0722));
  return vec2((seen.b - luma) / 1.8556, (seen.r - luma) / 1.5748);
}
vec3 halo(vec3 seen, sampler2D from, vec2 at) {
  float luma = dot(seen, vec3(0.2126, 0.7152, 0.0722));
  float low = luma;
  float high = luma;
  vec2 around = vec2(0.0);
  float weight = 0.0;
  for (int k = 0; k < 8; k++) {
    vec2 way = vec2(cos(0.7854 * float(k)), sin(0.7854 * float(k))) * halo_by.yz;
    float there = dot(texture2D(from, at + 0.8 * way).rgb, vec3(0.2126, 0.7152, 0.0722));
    low = min(low, there);
    high = max(high, there);
    vec3 far = texture2D(from, at + halo_by.w * way).rgb;
    float far_luma = dot(far, vec3(0.2126, 0.7152, 0.0722));
    float trust = 1.0 - smoothstep(0.72, 0.9, far_luma);
    around += trust * halo_chroma(far);
    weight += trust;
  }
  vec2 own = halo_chroma(seen);
  around = weight > 0.5 ? around / weight : vec2(0.0);
  float near = smoothstep(0.72, 0.9, high) * smoothstep(0.25, 0.45, high - low);
  vec2 off = own - around;
  float alike = max(dot(off, halo_hues.xy), dot(off, halo_hues.zw)) / max(length(off), 0.0003);
  vec2 chroma = own - halo_by.x * near * smoothstep(0.5, 0.77, alike) * off;
  float red = luma + 1.5748 * chroma.y;
  float blue = luma + 1.8556 * chroma.x;
  return vec3(red, (luma - 0.2126 * red - 0.0722 * blue) / 0.7152, blue);
}"""

    def apply(self, picture: Picture, space: WorkingSpace, frame: int) -> Picture:
        """The recorded picture of one ``frame`` with its chroma changed; luma is left alone."""
        strength = float(self.strength[frame])
        if strength < 1e-3:
            return picture
        luma, u, v = picture.planes
        small = at_chroma_size(luma, picture.chroma, picture.site, u.shape).astype(np.float32)
        value = np.asarray(space.grey_value(small.astype(float)), np.float32)
        wide = max(1.0, self.width / picture.chroma[0])
        near, bright = _near(value, wide)
        near *= np.float32(strength)
        off = []
        for plane in (u, v):
            chroma = plane.astype(np.float32) - np.float32(space.grey)
            off.append(chroma - _around(chroma, near + bright, wide))
        length = cv2.max(cv2.magnitude(off[0], off[1]), 0.05)
        alike = np.zeros_like(value)
        for hue in self.hues:
            hu, hv = hue_direction(hue)
            alike = cv2.max(alike, cv2.addWeighted(off[0], hu, off[1], hv, 0) / length)
        gone = near * _rising(alike, *ALIKE)
        changed = np.empty_like(u), np.empty_like(v)
        for plane, kept, part in zip((u, v), changed, off, strict=True):
            space.round_into(kept, plane - gone * part)
        return replace(picture, planes=(luma, *changed))

    def uniforms(self) -> dict[str, Real]:
        n = len(self.strength)
        sides = [self.width / self.across, self.width / self.height, AROUND]
        hues = [part for hue in self.hues for part in hue_direction(hue)]
        return {
            "halo_by": np.column_stack([self.strength, np.tile(sides, (n, 1))]),
            "halo_hues": np.tile(hues, (n, 1)),
        }


def _near(value: Plane32, wide: float) -> tuple[Plane32, Plane32]:
    """How surely a pixel lies beside something bright, and how bright it is itself, 0 to 1."""
    side = 2 * round(wide) + 1
    around = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (side, side))
    high, low = cv2.dilate(value, around), cv2.erode(value, around)
    near = _rising(high, *BRIGHT) * _rising(cv2.subtract(high, low), *CONTRAST)
    near = np.asarray(cv2.blur(near, (3, 3)), np.float32)
    return near, _rising(value, *BRIGHT)


def _around(chroma: Plane32, near: Plane32, wide: float) -> Plane32:
    """Chroma of what lies about a pixel beyond a rim; none where all about it is rim."""
    side = 2 * round(AROUND * wide) + 1
    trust = cv2.max(1.0 - near, 0.0)
    total = cv2.blur(trust, (side, side))
    mean = cv2.blur(cv2.multiply(chroma, trust), (side, side)) / np.maximum(total, 1e-3)
    return np.asarray(np.clip(total * 20, 0, 1) * mean, np.float32)


def _rising(values: Plane32, low: float, high: float) -> Plane32:
    """0 up to ``low``, 1 from ``high``, smooth between."""
    x = np.clip((values - np.float32(low)) / np.float32(high - low), 0, 1)
    return np.asarray(x * x * (3 - 2 * x), np.float32)
