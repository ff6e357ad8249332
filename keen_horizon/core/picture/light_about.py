"""How bright a picture is about places: log2 of linear light, of what is averaged there."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.decode import Plane
from ..types import Points, Real
from .working_space import WorkingSpace

SMALLEST = 5  # pixels, side of a patch
ROW = 8192  # places that are looked up at once: the library has no longer rows


@dataclass(frozen=True)
class LightAbout:
    """A luma plane, averaged over patches of ``side`` pixels, and what light its codes mean."""

    mean: NDArray[np.float32]
    side: int
    space: WorkingSpace

    @classmethod
    def of(cls, luma: Plane, across: float, space: WorkingSpace) -> LightAbout:
        """Of patches that are about so many pixels ``across``."""
        side = max(SMALLEST, round(across)) | 1
        mean = np.asarray(cv2.boxFilter(luma, cv2.CV_32F, (side, side)))
        return cls(mean, side, space)

    def at(self, points: Points, darkest: float) -> tuple[Real, Real]:
        """``(m,)`` about pixels ``(m, 2)``: the mean code value, black 0 and white 1; and log2 of
        its light, where it is darker than a quarter of the ``darkest`` value as if it were that."""
        if not len(points):
            return np.empty(0), np.empty(0)
        rows = [np.asarray(part, np.float32)[None]
                for part in np.array_split(points, 1 + len(points) // ROW)]  # fmt: skip
        codes = np.concatenate(
            [cv2.remap(self.mean, row, None, cv2.INTER_LINEAR)[0] for row in rows]
        )
        value = self.space.grey_value(codes.astype(float))
        return value, np.log2(self.space.light(np.clip(value, darkest / 4, 1)))
