"""Grain: what interpolation smoothed away of the source's own noise, put back.

Enlarging, shifting and borrowing blend pixels, and blend their noise away. How noisy the recorded
frame is and how noisy the drawn one, is measured in each frame, by how bright its parts are; noise
is added for the two to be alike.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from ...media.decode import Plane
from ...picture.noise import LEVELS, noise_by_level
from ...picture.working_space import WorkingSpace
from ...types import Real

SLACK = 64  # px by which the field of noise is larger than a picture, and cut differently each time
HARDLY = 0.1  # codes of noise that are not worth adding


@dataclass(frozen=True)
class Grain:
    """The stage. ``amount`` ``(n,)`` is the share, 0..1, of what is missing that is added."""

    amount: Real
    end: ClassVar[Literal["grain"]] = "grain"
    name: ClassVar[str] = "grain"
    shader: ClassVar[str] = ""  # a proxy shows no noise

    def apply(
        self, luma: Plane, recorded: Plane, space: WorkingSpace, frame: int, seed: int
    ) -> None:
        """Add to a drawn luma plane, in place, what it lacks of the noise that the ``recorded`` one
        has; always the same with a ``seed``."""
        missing = self.missing(luma, recorded, space) * float(self.amount[frame])
        if missing.max() < HARDLY:
            return
        height, width = luma.shape
        rng = np.random.default_rng(seed)
        y, x = (int(rng.integers(0, SLACK)) for _ in range(2))
        codes = np.arange(2**space.depth, dtype=float)
        by_code = np.interp(space.grey_value(codes), LEVELS, missing).astype(np.float32)
        added = by_code[luma]
        added *= _field(height, width)[y : y + height, x : x + width]
        space.round_into(luma, np.maximum(luma + added, 0))

    def missing(self, luma: Plane, recorded: Plane, space: WorkingSpace) -> Real:
        """``(3,)`` the standard deviation of noise, in codes, that a drawn plane lacks at each of
        the levels."""
        was, now = noise_by_level(recorded, space), noise_by_level(luma, space)
        return np.asarray(np.sqrt(np.maximum(was**2 - now**2, 0)))

    def uniforms(self) -> dict[str, Real]:
        return {}


@lru_cache(maxsize=2)
def _field(height: int, width: int) -> NDArray[np.float32]:
    """Noise of standard deviation 1, larger than a picture."""
    rng = np.random.default_rng(5)
    return rng.standard_normal((height + SLACK, width + SLACK), np.float32)
