"""Arrays on their way to the browser."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np
from numpy.typing import NDArray


def packed(values: NDArray[Any], kind: Any) -> str:
    """The bytes of an array of numbers of a ``kind``, in base64."""
    return base64.b64encode(np.ascontiguousarray(values, kind).tobytes()).decode()
