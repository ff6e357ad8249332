"""What scaling takes of a picture's sharpness, and sharpening that puts it back.

A picture that is enlarged shows the same edge over more pixels, and interpolation dulls it a little
more. How much is told for an edge as sharp as cameras draw it; so is by how much detail (the
picture less its own blur) has to be raised for the edge to be as sharp again, pixel for pixel.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import ClassVar, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ...media.decode import Plane
from ...picture.working_space import WorkingSpace
from ...types import Real

EDGE = 0.8  # px: standard deviation of the blur with which cameras draw an edge, about
HALF = float(np.sqrt(np.log(2) / 2) / np.pi / EDGE)  # cycles a px that such an edge halves
BLUR = 0.8  # source px: standard deviation of the blur that detail is told from
KEYS = -0.75  # the cubic's one parameter, as OpenCV has it
MOST_GAIN = 4.0  # of detail, however much scaling took
HARDLY = 1e-3  # of magnification that is none


def _cubic(f: Real) -> Real:
    """The response of cubic interpolation at ``f`` cycles a source px (Keys, *Cubic convolution
    interpolation for digital image processing*, IEEE TASSP 1981)."""
    f = np.maximum(np.asarray(f, float), 1e-6)
    one, two, four = (np.sinc(k * f) for k in (1, 2, 4))
    smooth = 3 / (np.pi * f) ** 2 * (one**2 - two)
    steep = 2 / (np.pi * f) ** 2 * (3 * two**2 - 2 * two - four)
    return np.asarray(smooth + KEYS * steep)


def sharpness_left(magnification: Real) -> Real:
    """The share of contrast, of the fineness that a camera's edge halves, that is left per pixel
    once the picture is enlarged by ``magnification``; 1 where it is not.

    >>> sharpness_left(np.array([1.0, 1.06, 1.3])).round(2).tolist()
    [1.0, 0.91, 0.58]
    """
    told = np.asarray(magnification, float)
    left = 2 * 2.0 ** -(told**2) * _cubic(HALF * np.maximum(told, 1e-3))
    return np.asarray(np.where(told < 1 + HARDLY, 1.0, np.minimum(left, 1.0)))


def gain_for(magnification: Real) -> Real:
    """By how much detail is raised to put back what enlarging by ``magnification`` took.

    >>> gain_for(np.array([0.5, 1.0, 1.15])).round(2).tolist()
    [0.0, 0.0, 0.48]
    """
    blur = BLUR * np.asarray(magnification, float)
    blurred = np.exp(-2 * (np.pi * blur * HALF) ** 2)
    gain = (1 / sharpness_left(magnification) - 1) / np.maximum(1 - blurred, 1e-6)
    return np.asarray(np.clip(gain, 0, MOST_GAIN))


@dataclass(frozen=True)
class Sharpen:
    """The stage. ``gain`` ``(n,)`` raises detail at each frame; ``magnification`` ``(n,)`` output
    px that a source px takes; ``overshoot`` is a share of what lies about a pixel; ``floor`` a
    share of the way from black to white."""

    gain: Real
    magnification: Real
    overshoot: float
    floor: float
    end: ClassVar[Literal["detail"]] = "detail"
    name: ClassVar[str] = "sharpen"
    reach: ClassVar[float] = BLUR
    shader: ClassVar[str] = """
uniform vec3 sharpen_by;  // gain; overshoot; floor
float sharpen(float here, float detail, float low, float high) {
  float power = detail * detail;
  float kept = detail * power / (power + sharpen_by.z * sharpen_by.z + 1e-9);
  float room = sharpen_by.y * (high - low);
  return clamp(here + sharpen_by.x * kept, low - room, high + room);
}"""

    def apply(self, luma: Plane, space: WorkingSpace, frame: int) -> None:
        """Sharpen a luma plane of one ``frame``, in place."""
        gain = float(self.gain[frame])
        if gain < 1e-3:
            return
        blur = BLUR * float(np.clip(self.magnification[frame], 0.6, 4.0))
        detail = cv2.subtract(luma, cv2.GaussianBlur(luma, (0, 0), blur), dtype=cv2.CV_16S)
        most = 2**space.depth - 1
        raised = _raised(most, gain, self.floor * space.luma_span).take(detail + np.int16(most))
        sharp = cv2.add(luma, raised, dtype=space.code_type)
        side = 3 if blur < 1.1 else 5
        around = np.ones((side, side), np.uint8)
        low, high = cv2.erode(luma, around), cv2.dilate(luma, around)
        room = cv2.addWeighted(high, self.overshoot, low, -self.overshoot, 0)
        sharp = cv2.min(sharp, cv2.add(high, room))
        cv2.max(sharp, cv2.subtract(low, room), dst=luma)
        space.bound(luma)

    def uniforms(self) -> dict[str, Real]:
        n = len(self.gain)
        return {
            "sharpen_by": np.column_stack(
                [self.gain, np.full(n, self.overshoot), np.full(n, self.floor)]
            )
        }


@lru_cache(maxsize=16)
def _raised(most: int, gain: float, floor: float) -> NDArray[np.int16]:
    """What is added to a pixel, by its detail from ``-most`` to ``most`` codes."""
    detail = np.arange(-most, most + 1, dtype=float)
    power = detail**2
    return np.rint(gain * detail * power / (power + floor**2 + 1e-9)).astype(np.int16)
