"""Rims that the make-believe glass leaves beside bright things: colours that are out of focus."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from .shade import from_light, to_light


@dataclass(frozen=True)
class Glow:
    """Red and blue are spread over ``radius`` px where light is strong: a picture's white stands
    for light up to ``strong`` times as much; ``share`` of it goes astray."""

    radius: float = 3.0
    share: float = 0.10
    strong: float = 3.0

    def spread(self, picture: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """A picture (blue, green, red) in code values of BT.709, as it comes through."""
        light = to_light(picture)
        blown = light * (1 + (self.strong - 1) * np.clip((light - 0.75) / 0.2, 0, 1))
        for channel in (0, 2):
            spread = cv2.GaussianBlur(blown[..., channel], (0, 0), self.radius)
            # What is beside the bright is lit by what went astray.
            stray = self.share * np.maximum(spread - blown[..., channel], 0)
            light[..., channel] = np.clip(light[..., channel] + stray, 0, 1)
        return from_light(light)
