"""Painted planes in space, and drawing them as a pinhole camera sees them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

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

    @cached_property
    def solid(self) -> bool:
        """Whether nothing shows through it anywhere."""
        return int(self.texture[..., 3].min()) == 255

    @cached_property
    def paint(self) -> Image:
        """The texture with its colours multiplied by its alpha, so that outlines do not fringe."""
        if self.solid:
            return self.texture
        alpha = cv2.extractChannel(self.texture, 3)
        colour = cv2.multiply(
            self.texture[..., :3], cv2.merge([alpha, alpha, alpha]), scale=1 / 255
        )
        return np.dstack([colour, alpha])

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
    in_front = seen[:, 2] > 0.05
    if not in_front.any():
        return
    low, high = np.array([0, 0]), np.array([width, height])
    inner = None
    if in_front.all():
        flat = seen[:, :2] / seen[:, 2:]
        low = np.maximum(np.floor(flat.min(axis=0)).astype(int) - 1, 0)
        high = np.minimum(np.ceil(flat.max(axis=0)).astype(int) + 2, high)
        inner = _inner_box(flat, low, high) if panel.solid else None
    if (high - low < 1).any():
        return
    shift = np.array([[1, 0, -low[0]], [0, 1, -low[1]], [0, 0, 1.0]])
    drawn = cv2.warpPerspective(
        panel.paint, shift @ homography, (int(high[0] - low[0]), int(high[1] - low[1])),
        flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(0, 0, 0, 0),
    )  # fmt: skip
    colour, alpha = cv2.cvtColor(drawn, cv2.COLOR_BGRA2BGR), cv2.extractChannel(drawn, 3)
    box = picture[low[1] : high[1], low[0] : high[0]]
    if inner is None:
        _lay_over(box, colour, alpha)
        return
    # Most of a solid panel hides what is behind it; only the rim has to be mixed.
    x0, y0, x1, y1 = inner
    box[y0:y1, x0:x1] = colour[y0:y1, x0:x1]
    whole = slice(None)
    for rim in (
        (slice(0, y0), whole), (slice(y1, None), whole),
        (slice(y0, y1), slice(0, x0)), (slice(y0, y1), slice(x1, None)),
    ):  # fmt: skip
        if box[rim].size:
            _lay_over(box[rim], colour[rim], alpha[rim])


def _inner_box(
    flat: Array, low: NDArray[np.int_], high: NDArray[np.int_]
) -> tuple[int, int, int, int] | None:
    """The box well inside a panel's outline ``flat`` ``(4, 2)``, counted from ``low``."""
    (ax, ay), (bx, by), (cx, cy), (dx, dy) = flat
    size = high - low
    start = np.ceil([max(ax, dx) + 1, max(ay, by) + 1]).astype(int) - low
    stop = np.floor([min(bx, cx) - 1, min(cy, dy) - 1]).astype(int) - low
    start, stop = np.clip(start, 0, size), np.clip(stop, 0, size)
    if (stop <= start).any():
        return None
    return int(start[0]), int(start[1]), int(stop[0]), int(stop[1])


def _lay_over(under: Image, colour: Image, alpha: Image) -> None:
    """Blend premultiplied ``colour`` ``(h, w, 3)`` onto ``under`` in place, by ``alpha`` of 255."""
    through = cv2.bitwise_not(alpha)
    rest = cv2.multiply(under, cv2.merge([through, through, through]), scale=1 / 255)
    under[:] = cv2.add(colour, rest)
