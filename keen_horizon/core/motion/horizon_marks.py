"""Which way is down, by the horizon as it was drawn: what is on it is level with the camera."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from pydantic import Field

from ..geometry.canvas import Canvas
from ..geometry.projection import Equirectangular
from ..types import Rays
from ..values import Place, Value
from .uprights import Vertical

PLACED = np.radians(0.3)  # about by how much an end of a line is placed beside the horizon
UNSURE = np.radians(5.0)  # doubt beyond which a line tells nothing


class HorizonMark(Value):
    """Two places of the horizon, drawn in a frame."""

    frame: int = Field(ge=0, description="Frame of the recording.")
    ends: tuple[Place, Place] = Field(description="Two places on it, as shares of the picture.")


def drawn_vertical(marks: Sequence[HorizonMark], canvas: Canvas, about: Rays) -> Vertical:
    """The vertical by ``marks`` of one frame of size ``canvas``, in that frame's axes, near to
    where ``about`` points: across all rays to the horizon.

    >>> mark = HorizonMark(frame=0, ends=((0.25, 0.5), (0.5, 0.5)))
    >>> drawn_vertical([mark], Canvas(200, 100), np.array([0.0, 1.0, 0.0])).down.round(6).tolist()
    [0.0, 1.0, 0.0]
    """
    size = np.array([canvas.width, canvas.height])
    places = np.array([mark.ends for mark in marks]).reshape(-1, 2) * size - 0.5
    rays = Equirectangular.of(canvas).to_rays(canvas.to_scene(places))
    rays = rays / np.linalg.norm(rays, axis=1, keepdims=True)
    values, vectors = np.linalg.eigh(rays.T @ rays)
    down = vectors[:, 0] * (np.sign(vectors[:, 0] @ about) or 1.0)
    # What ends of a line are beside the horizon by, and what the lines miss each other by.
    missed = float(np.sqrt(max(values[0], 0.0) / max(len(rays) - 2, 1)))
    doubt = max(PLACED, missed) / float(np.sqrt(max(values[1], 1e-9)))
    if doubt > UNSURE:
        words = "The ends of the drawn horizon are too close together to tell which way is down."
        return Vertical(None, doubt, 0, words)
    return Vertical(down, doubt, 0, "")
