"""Painted planes in space, and drawing them as a camera sees them: by homographies through a
pinhole, ray by ray through a lens or where rows are read one by one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from .camera import AllAround, Array, Fisheye, Pinhole, Truth
from .textures import Image

COARSE = 6  # pixels between the rays by which a panel is looked for


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
    def smaller(self) -> list[Image]:
        """The paint at halves of its size, so that what is seen from afar does not shimmer."""
        sizes = [self.paint]
        while min(sizes[-1].shape[:2]) > 8 and len(sizes) < 5:
            rows, columns = sizes[-1].shape[:2]
            half = (max(1, columns // 2), max(1, rows // 2))
            sizes.append(np.asarray(cv2.resize(sizes[-1], half, interpolation=cv2.INTER_AREA)))
        return sizes

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
        assert isinstance(truth.camera, Pinhole)
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
        straight = camera.is_straight and truth.row_rotation is None
        rays = None if straight else truth.world_rays(frame)
        for part in self.parts:
            panel = part if isinstance(part, Panel) else part(float(truth.times[frame]))
            if panel is None:
                continue
            if rays is None:
                _paint(picture, panel, panel.homography(truth, frame))
            else:
                _paint_by_rays(picture, panel, truth, frame, rays)
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


def turned(panel: Panel, degrees: float) -> Panel:
    """The panel carried around the upright axis through the world's origin, to the right."""
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    turn = np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]])
    return replace(
        panel, origin=turn @ panel.origin, across=turn @ panel.across, down=turn @ panel.down
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


def _paint_by_rays(
    picture: NDArray[np.uint8], panel: Panel, truth: Truth, frame: int,
    rays: NDArray[np.float32],
) -> None:  # fmt: skip
    """Draw one panel where the rays ``(height, width, 3)`` meet it, inside the box it can touch."""
    position = np.zeros(3) if panel.far else truth.position[frame]
    spanned = np.stack([panel.across, panel.down, panel.origin - position], axis=-1)
    rows, columns = panel.texture.shape[:2]
    found = _box(panel, truth, frame, position)
    all_around = isinstance(truth.camera, AllAround | Fisheye)
    low, high, detail = found or _box_by_rays(panel, rays, spanned, all_around)
    if (high - low < 1).any():
        return
    paint = panel.smaller[min(detail, len(panel.smaller) - 1)]
    fx, fy = columns / paint.shape[1], rows / paint.shape[0]
    # A point of the panel is `spanned (i, j, 1)`: so a ray tells i, j and how near it is.
    back = np.diag([1 / fx, 1 / fy, 1.0]) @ np.linalg.inv(spanned)
    box = slice(low[1], high[1]), slice(low[0], high[0])
    met = cv2.transform(np.ascontiguousarray(rays[box]), back.astype(np.float32))
    near = met[..., 2]
    behind = cv2.threshold(near, 1e-6, 1.0, cv2.THRESH_BINARY_INV)[1]
    near = near + behind  # nothing is divided by nothing
    x = met[..., 0] / near + np.float32(0.5 / fx - 0.5)
    y = met[..., 1] / near + np.float32(0.5 / fy - 0.5)
    np.clip(x, -9, paint.shape[1] + 9, out=x)
    np.clip(y, -9, paint.shape[0] + 9, out=y)
    x -= behind * np.float32(1e6)
    drawn = cv2.remap(
        paint, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(0, 0, 0, 0)
    )
    colour, alpha = cv2.cvtColor(drawn, cv2.COLOR_BGRA2BGR), cv2.extractChannel(drawn, 3)
    _lay_over(picture[box], colour, alpha)


def _box(
    panel: Panel, truth: Truth, frame: int, position: Array
) -> tuple[NDArray[np.int_], NDArray[np.int_], int] | None:
    """The part of the picture that a panel can touch, and how many halves its detail is above what
    can be seen there; None for one that reaches to the side of the camera, or behind it."""
    camera = truth.one_lens
    if isinstance(camera, AllAround | Fisheye):
        return None  # a panel may lie on both sides of the seam, or around a pole
    rows, columns = panel.texture.shape[:2]
    along = np.linspace(0, 1, 13)
    zero, one = np.zeros(13), np.ones(13)
    i = columns * np.concatenate([along, one, along, zero])
    j = rows * np.concatenate([zero, along, one, along])
    rim = panel.origin + i[:, None] * panel.across + j[:, None] * panel.down
    whole = np.array([0, 0]), np.array([camera.width, camera.height])
    away = rim - position
    margin = 2 if truth.row_rotation is None else 40  # rows that were read at another time
    seen = camera.seen(away @ truth.rotation[frame].T)
    if not np.isfinite(seen).all():
        return None
    low = np.clip(np.floor(seen.min(axis=0)) - margin, *whole).astype(int)
    high = np.clip(np.ceil(seen.max(axis=0)) + margin, *whole).astype(int)
    shown = np.ptp(seen, axis=0).max()
    return low, high, max(0, int(np.log2(max(columns, rows) / max(shown, 1.0) / 1.2)))


def _box_by_rays(
    panel: Panel, rays: NDArray[np.float32], spanned: Array, all_around: bool
) -> tuple[NDArray[np.int_], NDArray[np.int_], int]:
    """As :func:`_box`, by looking where a few rays go."""
    rows, columns = panel.texture.shape[:2]
    met = rays[::COARSE, ::COARSE] @ np.linalg.inv(spanned).T.astype(np.float32)
    with np.errstate(divide="ignore", invalid="ignore"):
        i, j = met[..., 0] / met[..., 2], met[..., 1] / met[..., 2]
    hit = (met[..., 2] > 0) & (i > -0.1 * columns) & (i < 1.1 * columns)
    hit &= (j > -0.1 * rows) & (j < 1.1 * rows)
    if not hit.any():
        return np.zeros(2, int), np.zeros(2, int), 0
    y, x = np.nonzero(hit)
    low = np.array([x.min() - 1, y.min() - 1]) * COARSE
    high = np.array([x.max() + 2, y.max() + 2]) * COARSE
    size = np.array([rays.shape[1], rays.shape[0]])
    detail = 0
    if (
        all_around
    ):  # whose pixels are coarse: by how many of the paint's it passes from one to the next
        beside = hit[:, 1:] & hit[:, :-1]
        passed = np.hypot(np.diff(i, axis=1), np.diff(j, axis=1))[beside] / COARSE
        detail = max(0, int(np.log2(max(float(np.median(passed)), 1.0)))) if passed.size else 0
    return np.clip(low, 0, size), np.clip(high, 0, size), detail


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
