"""A photograph of a plastered wall, as good as even, through make-believe glass."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np

from .shade import Array


def photograph_wall(
    path: Path, passed: Array, tilt: tuple[float, float] = (0.0, 0.0), level: float = 0.5
) -> Path:
    """A JPEG of a plastered wall, ``level`` of white, lit by so many stops more to the right and
    below, through glass that lets ``passed`` ``(height, width)`` of its light through."""
    rng = np.random.default_rng(3)
    y, x = (np.linspace(-0.5, 0.5, n) for n in passed.shape)
    light = level * 2.0 ** (tilt[0] * x + tilt[1] * y[:, None]) * passed
    light *= 1 + 0.2 * cv2.GaussianBlur(rng.standard_normal(light.shape), (0, 0), 3)
    value = np.where(light < 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055)
    grey = np.clip(np.rint(255 * value + rng.normal(0, 2, light.shape)), 0, 255)
    cv2.imwrite(str(path), grey.astype(np.uint8), [cv2.IMWRITE_JPEG_QUALITY, 88])
    return path
