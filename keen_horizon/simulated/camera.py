"""The camera: where it is, where it looks, and how it shakes.

World: X right, Y down, Z forward, metres; the quay's edge is at Y = 0. A camera's rotation takes
world directions to camera directions (x right, y down, z forward).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from .lens import Glass

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Pinhole:
    """Intrinsics: size in pixels and focal length in pixels; ``glass`` bends what it sees; what is
    seen at radius r (1 in the corners) then lies further out by ``spread``, shares of half the
    diagonal, of r and r³."""

    width: int
    height: int
    focal: float
    glass: Glass | None = None
    spread: tuple[float, float] = (0.0, 0.0)

    @property
    def is_straight(self) -> bool:
        """Whether straight edges stay straight."""
        return self.glass is None and not any(self.spread)

    @property
    def middle(self) -> Array:
        """``(2,)`` the pixel in the middle."""
        return np.array([(self.width - 1) / 2, (self.height - 1) / 2])

    def spread_out(self, pixels: Array) -> Array:
        """``(m, 2)`` where pixels come to lie by :attr:`spread`."""
        radius = float(np.hypot(*self.middle))
        off = (pixels - self.middle) / radius
        square = (off**2).sum(axis=-1, keepdims=True)
        return np.asarray(pixels + radius * off * (self.spread[0] + self.spread[1] * square))

    def drawn_in(self, pixels: Array) -> Array:
        """The inverse of :meth:`spread_out`."""
        found = pixels
        for _ in range(6):
            found = found + pixels - self.spread_out(found)
        return found

    @property
    def matrix(self) -> Array:
        """``(3, 3)`` from camera directions to pixels, pixel centres at integers."""
        cx, cy = self.middle
        return np.array([[self.focal, 0, cx], [0, self.focal, cy], [0, 0, 1.0]])

    def seen(self, directions: Array) -> Array:
        """Camera directions ``(m, 3)`` to pixels ``(m, 2)``; NaN behind the camera, and beyond what
        its lens is made for, where formulas fold back."""
        front = directions[:, 2:] > 1e-6
        if self.glass is not None:
            length = np.linalg.norm(directions, axis=1, keepdims=True)
            front &= directions[:, 2:] > self.sideways * length
            safe = np.where(front, directions, [0.0, 0.0, 1.0])
            seen = self.spread_out(self.glass.project(safe, self.matrix))
            return np.where(front, seen, np.nan)
        turned = directions @ self.matrix.T
        with np.errstate(divide="ignore", invalid="ignore"):
            pixels = self.spread_out(turned[:, :2] / turned[:, 2:])
        return np.where(front, pixels, np.nan)

    @cached_property
    def sideways(self) -> float:
        """Cosine of a little more than the widest angle in the picture."""
        return float(np.cos(np.arccos(self.rays[..., 2].min()) + 0.06))

    @property
    def rays(self) -> NDArray[np.float32]:
        """``(height, width, 3)`` the direction of each pixel, of unit length."""
        return _rays_of(self)

    @classmethod
    def from_view(cls, width: int, height: int, degrees: float) -> Pinhole:
        """A camera with this horizontal angle of view."""
        return cls(width, height, width / 2 / np.tan(np.radians(degrees) / 2))


@lru_cache(maxsize=8)
def _rays_of(camera: Pinhole) -> NDArray[np.float32]:
    """As :attr:`.Pinhole.rays`: they take a second, and takes by the same camera share them."""
    width, height = camera.width, camera.height
    x, y = np.meshgrid(np.arange(width, dtype=float), np.arange(height, dtype=float))
    pixels = camera.drawn_in(np.stack([x.ravel(), y.ravel()], axis=-1))
    if camera.glass is not None:
        rays = camera.glass.directions(pixels, camera.matrix)
    else:
        flat = np.concatenate([pixels, np.ones((len(pixels), 1))], axis=1)
        rays = flat @ np.linalg.inv(camera.matrix).T
        rays = rays / np.linalg.norm(rays, axis=1, keepdims=True)
    return rays.reshape(height, width, 3).astype(np.float32)


@dataclass(frozen=True)
class AllAround:
    """A camera that looks everywhere: longitude grows to the right, latitude downwards, the middle
    of the picture looks forward; the left edge of pixel 0 is -180 degrees."""

    width: int
    height: int

    is_straight = False

    def seen(self, directions: Array) -> Array:
        """Camera directions ``(m, 3)`` to pixels ``(m, 2)``."""
        x, y, z = directions.T
        longitude, latitude = np.arctan2(x, z), np.arctan2(y, np.hypot(x, z))
        across = (longitude / (2 * np.pi) + 0.5) * self.width - 0.5
        return np.stack([across, (latitude / np.pi + 0.5) * self.height - 0.5], axis=-1)

    @cached_property
    def rays(self) -> NDArray[np.float32]:
        """``(height, width, 3)`` the direction of each pixel, of unit length."""
        longitude = ((np.arange(self.width) + 0.5) / self.width - 0.5) * 2 * np.pi
        latitude = (((np.arange(self.height) + 0.5) / self.height - 0.5) * np.pi)[:, None]
        level = np.cos(latitude)
        parts = level * np.sin(longitude), np.sin(latitude) + 0 * longitude
        return np.stack([*parts, level * np.cos(longitude)], axis=-1).astype(np.float32)


@dataclass(frozen=True)
class Fisheye:
    """One lens of two that look back to back: ``side`` pixels square, ``centre`` pixels of it; what
    is ``a`` radians off the axis lies ``focal (a + bend a^3)`` pixels away from the centre, as far
    as ``widest``; nothing beyond. ``darker`` is how many stops it lacks all over, ``rim`` how many
    more at a right angle from its axis."""

    side: int
    centre: tuple[float, float]
    focal: float
    bend: float
    widest: float
    darker: float = 0.0
    rim: float = 0.0

    is_straight = False

    @property
    def width(self) -> int:
        return self.side

    @property
    def height(self) -> int:
        return self.side

    def seen(self, directions: Array) -> Array:
        """Camera directions ``(m, 3)`` to pixels ``(m, 2)``."""
        level = np.hypot(directions[:, 0], directions[:, 1])
        angle = np.arctan2(level, directions[:, 2])
        far = self.focal * (angle + self.bend * angle**3)
        return directions[:, :2] * (far / np.maximum(level, 1e-12))[:, None] + self.centre

    @cached_property
    def _angles(self) -> tuple[Array, Array]:
        y, x = np.mgrid[: self.side, : self.side].astype(float)
        away = np.stack([x, y], axis=-1) - self.centre
        far = np.hypot(away[..., 0], away[..., 1])
        angle = far / self.focal
        for _ in range(12):
            angle -= (angle + self.bend * angle**3 - far / self.focal) / (
                1 + 3 * self.bend * angle**2
            )
        return angle, away / np.maximum(far, 1e-12)[..., None]

    @cached_property
    def rays(self) -> NDArray[np.float32]:
        """``(side, side, 3)`` the direction of each pixel, of unit length."""
        angle, way = self._angles
        return np.concatenate(
            [way * np.sin(angle)[..., None], np.cos(angle)[..., None]], axis=-1
        ).astype(np.float32)

    @cached_property
    def inside(self) -> NDArray[np.float32]:
        """``(side, side, 1)`` 1 within the round picture, 0 beyond its rim."""
        rim = (self.widest - self._angles[0]) * self.focal + 0.5
        return np.clip(rim, 0, 1).astype(np.float32)[..., None]

    @cached_property
    def passed(self) -> NDArray[np.float32]:
        """``(side, side, 1)`` the share of light that comes through."""
        stops = self.darker + self.rim * np.clip(self._angles[0] / (np.pi / 2), 0, 2) ** 4
        return np.exp2(-stops).astype(np.float32)[..., None]


@dataclass(frozen=True)
class BackToBack:
    """Two fisheyes in one picture, side by side; each has its turn ``(3, 3)`` from the camera's
    directions to its own, and its place in the camera's axes, metres."""

    lenses: tuple[Fisheye, Fisheye]
    turns: tuple[Array, Array]
    places: tuple[Array, Array]

    is_straight = False

    @property
    def width(self) -> int:
        return 2 * self.lenses[0].side

    @property
    def height(self) -> int:
        return self.lenses[0].side


@dataclass(frozen=True)
class Truth:
    """What really happened, ``n`` frames.

    ``position`` ``(n, 3)`` metres, ``rotation`` ``(n, 3, 3)`` world to camera, ``times`` ``(n,)``
    seconds, ``row_times`` ``(n, rows)`` seconds (all rows at once: a global shutter).
    ``row_rotation`` ``(n, rows, 3, 3)`` is how the camera was turned when each row was read, if not
    all were read at once.
    """

    camera: Pinhole | AllAround | Fisheye | BackToBack
    times: Array
    row_times: Array
    position: Array
    rotation: Array
    row_rotation: Array | None = None

    def __len__(self) -> int:
        return len(self.times)

    @property
    def one_lens(self) -> Pinhole | AllAround | Fisheye:
        """The camera, which has to have one lens only: see :meth:`through`."""
        assert not isinstance(self.camera, BackToBack)
        return self.camera

    def through(self, which: int) -> Truth:
        """What happened to one lens of two."""
        assert isinstance(self.camera, BackToBack)
        turn, place = self.camera.turns[which], self.camera.places[which]
        position = self.position + np.einsum("nji,j->ni", self.rotation, place)
        lens = self.camera.lenses[which]
        return replace(self, camera=lens, position=position, rotation=turn @ self.rotation)

    def project(self, points: Array, frame: int) -> Array:
        """World points ``(m, 3)`` to pixels ``(m, 2)``; NaN behind the camera."""
        off = points - self.position[frame]
        pixels = self.one_lens.seen(off @ self.rotation[frame].T)
        if self.row_rotation is not None:
            for _ in range(4):  # the row tells the time, and the time the row
                row = np.clip(np.nan_to_num(pixels[:, 1]), 0, self.camera.height - 1)
                turned = self.row_rotation[frame][np.rint(row).astype(int)]
                pixels = self.one_lens.seen(np.einsum("mij,mj->mi", turned, off))
        return pixels

    def at_once(self, frame: int) -> Array:
        """``(height, width, 2)`` where each pixel of a frame that was read row by row would lie,
        had all rows been read at the frame's own time."""
        directions = self.world_rays(frame).reshape(-1, 3).astype(float) @ self.rotation[frame].T
        return self.one_lens.seen(directions).reshape(self.camera.height, self.camera.width, 2)

    def world_rays(self, frame: int) -> NDArray[np.float32]:
        """``(height, width, 3)`` where each pixel looks in the world, row by row if need be."""
        if self.row_rotation is None:
            return np.asarray(self.one_lens.rays @ self.rotation[frame].astype(np.float32))
        return np.asarray(self.one_lens.rays @ self.row_rotation[frame].astype(np.float32))


def rotations(yaw: Array, pitch: Array, roll: Array) -> Array:
    """``(n, 3, 3)`` world to camera. Radians: yaw right, pitch up, roll clockwise, seen by the
    camera's operator; applied yaw first."""

    def stack(rows: list[list[Array]]) -> Array:
        return np.stack([np.stack(r, axis=-1) for r in rows], axis=-2)

    one, zero = np.ones_like(yaw), np.zeros_like(yaw)
    cy, sy, cp, sp, cr, sr = (f(a) for a in (yaw, pitch, roll) for f in (np.cos, np.sin))
    turn = stack([[cy, zero, -sy], [zero, one, zero], [sy, zero, cy]])
    nod = stack([[one, zero, zero], [zero, cp, sp], [zero, -sp, cp]])
    lean = stack([[cr, sr, zero], [-sr, cr, zero], [zero, zero, one]])
    return np.asarray(lean @ nod @ turn)


def tremor(times: Array, low: float, high: float, rng: np.random.Generator) -> Array:
    """``(n,)`` noise of unit rms between ``low`` and ``high`` Hz: a sum of 24 sines."""
    frequencies = np.exp(rng.uniform(np.log(low), np.log(high), 24))
    phases = rng.uniform(0, 2 * np.pi, 24)
    # Falls off with frequency, as a hand's does.
    strengths = (low / frequencies) ** 0.5
    wave = np.sin(2 * np.pi * frequencies * times[:, None] + phases) @ strengths
    return np.asarray(wave / np.sqrt((strengths**2).sum() / 2))


def footfall(times: Array, steps_per_second: float, rng: np.random.Generator) -> Array:
    """``(n,)`` bounce of a walk, amplitude about 1: a sharp dip at every step."""
    sway = 0.06 * tremor(times, 0.2, 0.7, rng)
    phase = 2 * np.pi * steps_per_second * times + sway * 2 * np.pi
    return np.asarray(np.cos(phase) + 0.35 * np.cos(2 * phase + 0.6) + 0.12 * np.cos(3 * phase))


def buzz(times: Array, hertz: float, rng: np.random.Generator) -> Array:
    """``(n,)`` vibration of an engine: ``hertz`` and two harmonics, unit rms."""
    wave = np.zeros_like(times)
    for harmonic, strength in ((1, 1.0), (2, 0.5), (3, 0.25)):
        wave += strength * np.sin(2 * np.pi * harmonic * hertz * times + rng.uniform(0, 6.3))
    return np.asarray(wave / np.sqrt((1 + 0.25 + 0.0625) / 2))


def ease(times: Array, start: float, end: float) -> Array:
    """0 before ``start``, 1 after ``end``, smooth between."""
    x = np.clip((times - start) / (end - start), 0, 1)
    return np.asarray(x * x * x * (10 - 15 * x + 6 * x * x))
