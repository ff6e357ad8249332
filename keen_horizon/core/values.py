"""What settings are made of besides numbers: places in the picture, validated."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from .geometry.canvas import Canvas
from .types import Complex

Share = Annotated[float, Field(ge=-0.5, le=1.5)]  # of the picture's width or height
Place = tuple[Share, Share]


class Value(BaseModel):
    """A value of several parts, which does not change."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


def places_in_scene(places: object, canvas: Canvas) -> Complex:
    """Shares of the picture's size ``(m, 2)`` to the scene plane ``(m,)``."""
    size = np.array([canvas.width, canvas.height])
    return canvas.to_scene(np.asarray(places, float).reshape(-1, 2) * size - 0.5)
