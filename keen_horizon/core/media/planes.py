"""A decoded frame's memory as arrays."""

from __future__ import annotations

from typing import Any

import av.video.plane
import numpy as np
from numpy.typing import NDArray


def plane_view(plane: av.video.plane.VideoPlane, deep: bool) -> NDArray[Any]:
    """A plane's pixels as an array over the frame's own memory, ``(h, w)``, no copy."""
    kind = np.uint16 if deep else np.uint8
    rows = np.frombuffer(memoryview(plane), kind).reshape(plane.height, -1)
    return rows[:, : plane.width]
