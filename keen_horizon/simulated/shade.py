"""Light that the make-believe glass loses: by the slant of rays, and to a ring before it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Shade:
    """Lengths in halves of the picture's diagonal; ``middle`` from the picture's, right and down.

    ``slant`` is the tangent of the angle from the axis at radius 1: light falls with the fourth
    power of its cosine. ``ring`` is the radius of a filter's ring, None without one; being out of
    focus, it darkens from ``soft`` inside its rim to as much outside.
    """

    width: int
    height: int
    slant: float
    middle: tuple[float, float] = (0.0, 0.0)
    ring: float | None = None
    soft: float = 0.03

    @cached_property
    def passed(self) -> Array:
        """``(height, width)`` the share of light that comes through, 1 in the middle."""
        half = np.hypot(self.width - 1, self.height - 1) / 2
        x, y = np.meshgrid(np.arange(self.width), np.arange(self.height))
        x, y = (x - (self.width - 1) / 2) / half, (y - (self.height - 1) / 2) / half
        square = (x - self.middle[0]) ** 2 + (y - self.middle[1]) ** 2
        slanted = (1 + square * self.slant**2) ** -2.0  # cosine to the fourth
        if self.ring is None:
            return np.asarray(slanted)
        # The share of a round pupil of radius 1 that a straight rim leaves open.
        off = np.clip((self.ring - np.sqrt(square)) / self.soft, -1, 1)
        return np.asarray(slanted * (np.arccos(-off) + off * np.sqrt(1 - off**2)) / np.pi)

    def darken(self, picture: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """A picture in code values of BT.709, as it comes through."""
        return darkened(picture, self._passed)

    @cached_property
    def _passed(self) -> NDArray[np.float32]:
        return np.asarray(self.passed[..., None], np.float32)


def to_light(picture: NDArray[Any]) -> Array:
    """Linear light of code values, white 1, by the curve of BT.709."""
    value = picture / 255.0
    return np.where(value < 0.081, value / 4.5, ((value + 0.099) / 1.099) ** (1 / 0.45))


def from_light(light: Array) -> NDArray[np.uint8]:
    """The inverse of :func:`to_light`."""
    coded = np.where(light < 0.018, 4.5 * light, 1.099 * light**0.45 - 0.099)
    return np.asarray(np.clip(np.rint(255 * coded), 0, 255), np.uint8)


def darkened(picture: NDArray[np.uint8], passed: NDArray[np.float32]) -> NDArray[np.uint8]:
    """A picture in code values of BT.709, of whose light a share ``passed`` through."""
    light = _LIGHT[picture]
    light *= passed
    return np.asarray(_CODES[(light + 0.5).astype(np.uint16)])


# Both curves as tables: of code values, and of light in steps of a 65535th.
_STEPS = 65535
_LIGHT = (_STEPS * to_light(np.arange(256, dtype=np.uint8))).astype(np.float32)
_CODES = from_light(np.arange(_STEPS + 1) / _STEPS)
