"""Lenses of the make-believe camera, by OpenCV's own formulas: so that what the product finds out
about a lens is held against something else than its own arithmetic."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
DONE = (cv2.TERM_CRITERIA_MAX_ITER + cv2.TERM_CRITERIA_EPS, 200, 1e-12)


@dataclass(frozen=True)
class Glass:
    """``brown`` (k1 k2 p1 p2 k3, as OpenCV orders them) or ``fisheye`` (k1 k2 k3 k4)."""

    kind: Literal["brown", "fisheye"]
    coefficients: tuple[float, ...]

    def project(self, directions: Array, matrix: Array) -> Array:
        """Camera directions ``(m, 3)`` to pixels ``(m, 2)``, of a camera with ``matrix``."""
        points = np.ascontiguousarray(directions, float).reshape(-1, 1, 3)
        none = np.zeros(3)
        if self.kind == "fisheye":
            seen, _ = cv2.fisheye.projectPoints(
                points, none, none, matrix, np.array(self.coefficients)
            )
        else:
            seen, _ = cv2.projectPoints(points, none, none, matrix, np.array(self.coefficients))
        return np.asarray(seen.reshape(-1, 2), float)

    def directions(self, pixels: Array, matrix: Array) -> Array:
        """Pixels ``(m, 2)`` to camera directions ``(m, 3)`` of unit length."""
        points = np.ascontiguousarray(pixels, float).reshape(-1, 1, 2)
        coefficients = np.array(self.coefficients)
        if self.kind == "fisheye":
            flat = cv2.fisheye.undistortPoints(points, matrix, coefficients, criteria=DONE)
        else:
            flat = cv2.undistortPoints(points, matrix, coefficients, criteria=DONE)
        flat = flat.reshape(-1, 2)
        rays = np.concatenate([flat, np.ones((len(flat), 1))], axis=1)
        return np.asarray(rays / np.linalg.norm(rays, axis=1, keepdims=True))
