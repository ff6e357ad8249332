"""The take that looks everywhere: *harbour sphere*, from a boat that rolls in the basin.

Around the boat lie the far quay, a second one behind, masts and pilings on both sides, water, hills
and sky; below the camera are the boat's deck and whoever holds the stick.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from .camera import AllAround, BackToBack, Fisheye, Truth, rotations, tremor
from .harbour import WATER, backdrop, basin, far_side
from .scene import Actor, Panel, Scene, level, turned, upright
from .take import RATE, Take
from .textures import Image, finished, noise, planks, sky, water

SPHERE_SIZE = (2048, 1024)
WAYS = (0.0, 90.0, 180.0, 270.0)
BELOW = 1.35  # metres from the camera to the deck


def harbour_sphere(
    seconds: float = 8.0, size: tuple[int, int] = SPHERE_SIZE, *, rolling: float = 1.0,
    operator: bool = True,
) -> Take:  # fmt: skip
    """From a boat that drifts, rolls and turns; ``rolling`` is how much, 0 for a boat on land."""
    return _from_the_boat("harbour sphere", AllAround(*size), seconds, rolling, operator)


def twin_fisheye(
    seconds: float = 3.0, side: int = 1024, *, rolling: float = 1.0, darker: float = 0.0,
    rim: float = 0.0,
) -> Take:  # fmt: skip
    """The same by two fisheyes back to back, as they recorded it: not quite opposite each other,
    nor quite in the middle of their pictures, nor in one place. The second is ``darker`` by so many
    stops, and both lose ``rim`` more there."""
    focal = side * 0.48 / np.radians(98.0)  # so that the round picture, 196 degrees, fits
    middle = (side - 1) / 2
    lenses = tuple(
        Fisheye(
            side,
            (middle + x * side, middle + y * side),
            focal * finer,
            -0.004,
            np.radians(98.0),
            less,
            rim,
        )
        for x, y, finer, less in ((0.004, -0.003, 0.987, 0.0), (-0.002, 0.005, 0.989, darker))
    )
    turns = (np.eye(3), Rotation.from_euler("yxz", [180.6, -0.4, 0.7], degrees=True).as_matrix())
    apart = np.array([0.0, 0.0, 0.013])
    camera = BackToBack((lenses[0], lenses[1]), turns, (apart, -apart))
    return _from_the_boat("twin fisheye", camera, seconds, rolling, True)


def _from_the_boat(
    name: str, camera: AllAround | BackToBack, seconds: float, rolling: float, operator: bool
) -> Take:
    times = np.arange(round(seconds * RATE)) / RATE
    rng = np.random.default_rng(61)
    yaw = rolling * (1.6 * tremor(times, 0.1, 0.4, rng) + 0.35 * tremor(times, 1.0, 5, rng))
    pitch = rolling * (1.5 * tremor(times, 0.2, 0.6, rng) + 0.3 * tremor(times, 1.0, 5, rng))
    roll = rolling * (4.0 * tremor(times, 0.2, 0.5, rng) + 0.4 * tremor(times, 1.0, 5, rng))
    heave = rolling * 0.06 * tremor(times, 0.2, 0.6, rng)
    drift = 8.0 + 0.35 * times
    position = np.stack([1.0 + 0.1 * times, -1.2 + heave, drift], axis=-1)
    rotation = rotations(np.radians(yaw + 20.0), np.radians(pitch), np.radians(roll))
    rows = np.repeat(times[:, None], camera.height, 1)
    truth = Truth(camera, times, rows, position, rotation)
    boat = (_boat(truth, rng),) if operator else ()
    return Take(name, Scene((*around(), *boat)), truth, camera="Limpet all-round")


@cache
def around() -> tuple[Panel, ...]:
    """All that lies around the boat, from far to near."""
    rng = np.random.default_rng(62)
    blue, pale = np.array([196, 142, 92.0]), np.array([222, 214, 204.0])
    down = np.linspace(0, 1, 512)[:, None, None]
    plain = finished(np.repeat(blue * (1 - down) + pale * down, 64, axis=1))
    wall = upright(plain, -1100, 40, 1000, 1100, far=True)
    wall = replace(wall, across=wall.across * (2200 / 64 / np.linalg.norm(wall.across)))
    over = replace(
        level(finished(np.full((64, 64, 3), blue)), -1200, -1200, -1055, 2400, 2400), far=True
    )
    # Clouds end softly, so that those of one side do not show where those of the next begin.
    clouds = sky(700, 2300, rng).copy()
    x, y = np.linspace(-1, 1, clouds.shape[1]), np.linspace(0, 1, clouds.shape[0])[:, None]
    veil = np.clip((1 - np.abs(x)) * 4, 0, 1) * np.clip(y * 4, 0, 1) * np.clip((1 - y) * 4, 0, 1)
    clouds[..., 3] = 255 * veil
    cloudy = upright(clouds, -1050, -90, 990, 640, far=True)
    hills = [turned(panel, way) for way in WAYS for panel in backdrop()[1:3]]
    skies = [turned(panel, way) for panel in (wall, cloudy) for way in WAYS]
    parts = [over, *skies, *hills]
    for near, far, lump, rows in ((60.0, 600.0, 1, 700), (0.0, 90.0, 2, 1800)):
        texture = water(rows, rows, lump, rng)
        parts.append(level(texture, -far, near - far, WATER, 2 * far, 2 * far))
    both = [turned(panel, way) for way in (180.0, 0.0) for panel in far_side()]
    masts = [turned(panel, way) for way in (180.0, 0.0) for panel in basin()]
    return (*parts, *both, *masts)


def _boat(truth: Truth, rng: np.random.Generator) -> Actor:
    """The deck and who stands on it, which turn with the camera, but for a sway of their own."""
    deck = _deck()
    sway = 0.03 * np.stack([tremor(truth.times, 0.3, 1.5, rng) for _ in range(2)], axis=-1)

    def at(time: float) -> Panel:
        frame = min(round(time * RATE), len(truth) - 1)
        back = truth.rotation[frame].T
        east, north = sway[frame]
        metre = 3.2 / deck.shape[0]
        local = np.array([-0.9 + east, BELOW, 1.6 + north])
        return Panel(
            deck, truth.position[frame] + back @ local,
            back @ np.array([metre, 0.0, 0.0]), back @ np.array([0.0, 0.0, -metre]),
        )  # fmt: skip

    return at


@cache
def _deck() -> Image:
    """A boat's planks with a hat and shoulders in their middle, seen from above."""
    rng = np.random.default_rng(63)
    height, width = 640, 360
    wood = planks(height, width, (96, 132, 158), rng)
    alpha = np.zeros((height, width), np.float32)
    cv2.ellipse(alpha, (180, 320), (176, 316), 0, 0, 360, 1.0, -1, cv2.LINE_AA)
    cv2.ellipse(wood, (180, 330), (92, 46), 0, 0, 360, (52, 150, 208), -1, cv2.LINE_AA)
    cv2.circle(wood, (180, 322), 34, (60, 64, 76), -1, cv2.LINE_AA)
    wood += (10 * noise((height, width), 3, 4, rng))[..., None]
    return finished(wood, alpha)
