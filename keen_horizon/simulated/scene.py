"""Painted planes in space, and drawing them as a pinhole camera sees them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from .camera import Array, Truth
from .textures import Image


@dataclass(frozen=True)
class Panel:
    """A painted rectangle in space.

    Texture pixel ``(i, j)`` lies at ``origin + i across + j down`` (world metres). ``far`` panels
    turn with the camera's direction but not with its position: sky and distant hills.
    """

    texture: Image
    origin: Array
    across: Array
    down: Array
    far: bool = False

    def homography(self, truth: Truth, frame: int) -> Array:
        """``(3, 3)`` from texture pixels to picture pixels."""
        position = np.zeros(3) if self.far else truth.position[frame]
        frame_of = np.stack([self.across, self.down, self.origin - position], axis=-1)
        return np.asarray(truth.camera.matrix @ truth.rotation[frame] @ frame_of)


# An actor gives the panel to draw at a time in seconds: a figure, a gull.
Actor = Callable[[float], Panel | None]


@dataclass(frozen=True)
class Scene:
    """Panels and actors from back to front."""

    parts: Sequence[Panel | Actor]

    def draw(self, truth: Truth, frame: int) -> NDArray[np.uint8]:
        """``(height, width, 3)`` BGR picture of one frame."""
        camera = truth.camera
        picture = np.zeros((camera.height, camera.width, 3), np.uint8)
        for part in self.parts:
            panel = part if isinstance(part, Panel) else part(float(truth.times[frame]))
            if panel is not None:
                _paint(picture, panel, panel.homography(truth, frame))
        return picture


def upright(
    texture: Image, left: float, bottom: float, z: float, height: float, *, far: bool = False
) -> Panel:
    """A panel facing the quay: ``left`` and ``bottom`` edges in metres (Y down), ``height`` m."""
    metre = height / texture.shape[0]
    return Panel(
        texture,
        np.array([left, bottom - height, z]),
        np.array([metre, 0.0, 0.0]),
        np.array([0.0, metre, 0.0]),
        far,
    )


def level(texture: Image, left: float, near: float, y: float, width: float, depth: float) -> Panel:
    """A horizontal panel at height ``y``; the texture's lower edge is the near one."""
    rows, columns = texture.shape[:2]
    return Panel(
        texture,
        np.array([left, y, near + depth]),
        np.array([width / columns, 0.0, 0.0]),
        np.array([0.0, 0.0, -depth / rows]),
    )


def _paint(picture: NDArray[np.uint8], panel: Panel, homography: Array) -> None:
    """Draw one panel over the picture, inside the box it can touch."""
    rows, columns = panel.texture.shape[:2]
    corners = np.array([[0, 0, 1], [columns, 0, 1], [columns, rows, 1], [0, rows, 1.0]])
    seen = corners @ homography.T
    height, width = picture.shape[:2]
    if (seen[:, 2] > 0.05).all():
        flat = seen[:, :2] / seen[:, 2:]
        low = np.maximum(np.floor(flat.min(axis=0)).astype(int) - 1, 0)
        high = np.minimum(np.ceil(flat.max(axis=0)).astype(int) + 2, [width, height])
    elif (seen[:, 2] > 0.05).any():
        low, high = np.array([0, 0]), np.array([width, height])
    else:
        return
    if (high - low < 1).any():
        return
    (x0, y0), (x1, y1) = low, high
    shift = np.array([[1, 0, -x0], [0, 1, -y0], [0, 0, 1.0]])
    size = (int(x1 - x0), int(y1 - y0))
    drawn = cv2.warpPerspective(
        panel.texture, shift @ homography, size, flags=cv2.INTER_LINEAR,
        borderMode=cv2.BORDER_CONSTANT, borderValue=(0, 0, 0, 0),
    )  # fmt: skip
    alpha = drawn[..., 3]
    box = picture[y0:y1, x0:x1]
    if alpha.min() == 255:
        box[:] = drawn[..., :3]
        return
    wide = cv2.merge([alpha, alpha, alpha])
    over = cv2.multiply(drawn[..., :3], wide, scale=1 / 255)
    under = cv2.multiply(box, 255 - wide, scale=1 / 255)
    cv2.add(over, under, dst=box)
