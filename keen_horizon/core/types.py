"""The array types of the core, each with what it stands for."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Real = NDArray[np.float64]
Complex = NDArray[np.complex128]  # points or vectors of the scene plane, see geometry.canvas
Points = NDArray[np.float64]  # (..., 2) pixels: x right, y down, centres at integers
Rays = NDArray[np.float64]  # (..., 3) directions: x right, y down, z forward; any length
Flags = NDArray[np.bool_]
Indices = NDArray[np.intp]
Frames = slice | NDArray[np.intp]  # which of the n frames that an array has
Luma = NDArray[np.uint8]  # (height, width)
AnyArray = NDArray[Any]
