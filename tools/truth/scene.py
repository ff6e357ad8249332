"""Photographs on planes in 3-D, seen by a camera whose rows are read one after the other.

World and camera: x right, y down, z forward; metres. Nothing here knows the product.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cache
from importlib.resources import files

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Poses = Callable[[Array], tuple[Array, Array]]
"""Times ``(k,)`` in frames to turns ``(k, 3, 3)``, camera to world, and places ``(k, 3)``."""

PHOTOGRAPHS = (
    "astronaut.png", "brick.png", "chelsea.png", "coffee.png", "rocket.jpg", "gravel.png",
    "grass.png", "motorcycle_left.png", "coins.png", "retina.jpg",
)  # fmt: skip
TILE = 512  # px of a photograph on a wall
OUT_OF_SIGHT = 90  # grey where the camera sees no plane


@cache
def photographs(columns: int, rows: int, shift: int = 0) -> NDArray[np.uint8]:
    """A wall of photographs, ``(rows TILE, columns TILE, 3)``."""
    folder = files("skimage") / "data"
    tiles = [
        cv2.resize(cv2.imread(str(folder / name)), (TILE, TILE), interpolation=cv2.INTER_AREA)
        for name in PHOTOGRAPHS
    ]
    wall = [
        np.hstack([tiles[(3 * column + 7 * row + shift) % len(tiles)] for column in range(columns)])
        for row in range(rows)
    ]
    return np.vstack(wall)


@cache
def plaster() -> NDArray[np.uint8]:
    """A wall with next to nothing on it: two grey levels, and broad shades."""
    random = np.random.default_rng(5)
    shade = cv2.GaussianBlur(random.standard_normal((512, 768)).astype(np.float32), (0, 0), 60)
    grain = cv2.GaussianBlur(random.standard_normal((512, 768)).astype(np.float32), (0, 0), 2.5)
    grey = 150 + 8 * shade / shade.std() + 1.2 * grain / grain.std()
    return np.repeat(np.clip(grey, 0, 255).astype(np.uint8)[..., None], 3, axis=2)


@dataclass(frozen=True)
class Face:
    """A picture on a plane: ``corner`` (3,), and its sides ``across`` and ``down``. It moves by
    ``moves(frame)`` (3,) where that is given, and is then no background."""

    texture: NDArray[np.uint8]
    corner: Array
    across: Array
    down: Array
    moves: Callable[[float], Array] | None = None

    def matrix(self, place: Array, when: float) -> Array:
        """Rays from ``place`` (world) to ``(s w, r w, w)``: shares of the sides, and the inverse of
        the distance in rays."""
        corner = self.corner if self.moves is None else self.corner + self.moves(when)
        return np.linalg.inv(np.stack([self.across, self.down, corner - place], axis=-1))


@dataclass(frozen=True)
class Camera:
    """Sees ``across`` degrees; ``k1`` bends its picture; ``readout`` in frames."""

    width: int
    height: int
    across: float
    k1: float = 0.0
    readout: float = 0.0

    @property
    def focal(self) -> float:
        """px, so that the bent picture is ``across`` degrees wide."""
        x = np.tan(np.radians(self.across) / 2)
        return float((self.width - 1) / 2 / (x * (1 + self.k1 * x * x)))

    @property
    def middle(self) -> Array:
        return np.array([(self.width - 1) / 2, (self.height - 1) / 2])

    def rays(self, pixels: Array) -> Array:
        """``(..., 2)`` px to ``(..., 3)`` with z = 1."""
        bent = (pixels - self.middle) / self.focal
        x = bent
        for _ in range(12 if self.k1 else 0):
            x = bent / (1 + self.k1 * (x * x).sum(axis=-1, keepdims=True))
        return np.concatenate([x, np.ones_like(x[..., :1])], axis=-1)

    def pixels(self, rays: Array) -> Array:
        """``(..., 3)`` to ``(..., 2)`` px."""
        x = rays[..., :2] / rays[..., 2:]
        return x * (1 + self.k1 * (x * x).sum(axis=-1, keepdims=True)) * self.focal + self.middle

    def row_times(self, y: Array, frame: float) -> Array:
        """When rows are read, in frames."""
        return frame + ((y + 0.5) / self.height - 0.5) * self.readout


@dataclass(frozen=True)
class Scene:
    """Faces, a camera and how it moves for ``frames`` frames at ``rate``; each is exposed for
    ``exposure`` of a frame; ``light`` scales it and ``noise`` is added, code values."""

    camera: Camera
    faces: tuple[Face, ...]
    poses: Poses
    frames: int
    rate: float = 30.0
    exposure: float = 0.0
    light: float = 1.0
    noise: float = 1.5
    _rays: list[NDArray[np.float32]] = field(default_factory=list, repr=False)

    def pictures(self) -> Iterator[NDArray[np.uint8]]:
        """The recording, BGR."""
        random = np.random.default_rng(11)
        shutters = np.linspace(-0.5, 0.5, 7) * self.exposure if self.exposure else np.zeros(1)
        for index in range(self.frames):
            views = (self._view(index + late).astype(np.float32) for late in shutters)
            seen = sum(views, np.float32(0)) / np.float32(len(shutters))
            grain = random.standard_normal(seen.shape[:2], dtype=np.float32)[..., None]
            yield np.clip(seen * self.light + self.noise * grain, 0, 255).astype(np.uint8)

    def _view(self, frame: float) -> NDArray[np.uint8]:
        camera = self.camera
        y, x = np.mgrid[0 : camera.height, 0 : camera.width].astype(float)
        if not self._rays:
            rays = camera.rays(np.stack([x, y], axis=-1)).astype(np.float32)
            self._rays.extend(rays.transpose(2, 0, 1)[:2].copy())
        rays = self._rays
        turns, places = self.poses(camera.row_times(y[:, 0], frame))
        picture = np.full((camera.height, camera.width, 3), OUT_OF_SIGHT, np.uint8)
        nearest = np.zeros((camera.height, camera.width), np.float32)
        still = not camera.readout
        for face in self.faces:
            h, w = face.texture.shape[:2]
            rows = 1 if still else camera.height
            to = np.stack([face.matrix(places[i], frame) @ turns[i] for i in range(rows)])
            across, down, depth = to.astype(np.float32).transpose(2, 1, 0)[..., None]
            # The last of the three tells how near the face is, whatever the ray's length.
            seen = [
                a * rays[0] + b * rays[1] + c for a, b, c in zip(across, down, depth, strict=True)
            ]
            near = seen[2]
            with np.errstate(divide="ignore", invalid="ignore"):
                s, r = seen[0] / near, seen[1] / near
            hit = (near > 1e-6) & (s >= 0) & (s <= 1) & (r >= 0) & (r <= 1) & (near > nearest)
            if not hit.any():
                continue
            at = np.where(hit, s * w - 0.5, -10.0), np.where(hit, r * h - 0.5, -10.0)
            drawn = cv2.remap(
                face.texture, at[0].astype(np.float32), at[1].astype(np.float32),
                cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE,
            )  # fmt: skip
            cv2.copyTo(drawn, hit.astype(np.uint8), picture)
            np.copyto(nearest, near, where=hit)
        return picture

    def behind(self, pixels: Array, frame: int) -> Array:
        """``(m, 3)`` the points of the background, world, that are recorded at ``(m, 2)`` px; NaN
        where there is none."""
        rays = self.camera.rays(pixels)
        turns, places = self.poses(self.camera.row_times(pixels[:, 1], frame))
        rays = np.einsum("mij,mj->mi", turns, rays)
        found, nearest = np.full((len(pixels), 3), np.nan), np.zeros(len(pixels))
        for face in self.faces:
            if face.moves is not None:
                continue
            to = np.stack([face.matrix(place, frame) for place in places])
            seen = np.einsum("mij,mj->mi", to, rays)
            near = seen[:, 2]
            with np.errstate(divide="ignore", invalid="ignore"):
                s, r = seen[:, 0] / near, seen[:, 1] / near
            hit = (near > nearest) & (np.abs(s - 0.5) <= 0.5) & (np.abs(r - 0.5) <= 0.5)
            found[hit] = places[hit] + rays[hit] / near[hit, None]
            nearest[hit] = near[hit]
        return found

    def recorded(self, points: Array, frame: int) -> Array:
        """``(m, 2)`` px where points ``(m, 3)`` of the world are recorded."""
        y = np.full(len(points), self.camera.middle[1])
        at = np.zeros((len(points), 2))
        for _ in range(8 if self.camera.readout else 1):
            turns, places = self.poses(self.camera.row_times(y, frame))
            at = self.camera.pixels(np.einsum("mji,mj->mi", turns, points - places))
            y = np.clip(at[:, 1], -200, self.camera.height + 200)
        return at
