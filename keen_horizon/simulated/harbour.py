"""The scenery of Brindle Quay, a harbour that does not exist.

Looking across the basin from the near quay: paving at our feet, pilings and masts in the water,
painted boathouses and a brick engine shed on the far side, hills behind.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import cv2
import numpy as np

from .scene import Panel, level, turned, upright
from .textures import (
    Colour,
    Image,
    bricks,
    door,
    finished,
    gable,
    hills,
    noise,
    paving,
    planks,
    pole,
    sky,
    tinted,
    water,
    window,
)

FAR_QUAY = 24.0  # metres to the façades
WATER = 1.1  # metres below the quay
METRE = 56  # texture pixels a metre of façade


def _boathouse(width: float, wall: float, paint: Colour, roof: Colour, seed: int) -> Image:
    rng = np.random.default_rng(seed)
    w, h = int(width * METRE), int(wall * METRE)
    body = planks(h, w, paint, rng)
    trim = (214, 222, 224)
    door(body, (int(w * 0.30), int(h * 0.36), int(w * 0.4), h - int(h * 0.36)), (74, 70, 58))
    for at in (0.07, 0.77):
        window(body, (int(w * at), int(h * 0.42), int(w * 0.16), int(h * 0.28)), (2, 3), trim, rng)
    body[:, :6] = trim
    body[:, -6:] = trim
    return gable(body, 0.62, roof, rng)


def _shed(width: float, height: float, seed: int) -> Image:
    rng = np.random.default_rng(seed)
    w, h = int(width * METRE), int(height * METRE)
    wall = bricks(h, w, rng)
    for i in range(5):
        x = int(w * (0.05 + 0.19 * i))
        window(wall, (x, int(h * 0.30), int(w * 0.13), int(h * 0.38)), (4, 6), (70, 88, 62), rng)
        wall[int(h * 0.24) : int(h * 0.29), x - 4 : x + int(w * 0.13) + 4] *= 1.15  # lintel
    wall[: int(h * 0.05)] = tinted((92, 104, 112), 0.1 * noise((int(h * 0.05), w), 3, 3, rng))
    wall[int(h * 0.05) : int(h * 0.11)] *= np.linspace(0.5, 1, int(h * 0.11) - int(h * 0.05))[
        :, None, None
    ]
    return finished(wall)


def mirrored(texture: Image) -> Image:
    """What still water gives back: upside down, darker, fainter with depth, broken by ripples."""
    out = texture[::-1].astype(np.float32)
    rows, columns = out.shape[:2]
    rng = np.random.default_rng(rows)
    sway = 5 * noise((rows, max(4, columns // 40)), 3, 2, rng)
    sway = cv2.resize(sway, (columns, rows))
    y, x = np.mgrid[0:rows, 0:columns].astype(np.float32)
    out = cv2.remap(out, x + sway, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    out[..., :3] *= 0.66
    out[..., 3] *= np.linspace(0.62, 0.12, rows)[:, None]
    return np.clip(out, 0, 255).astype(np.uint8)


@cache
def backdrop() -> tuple[Panel, ...]:
    """Sky, two ranges of hills and the open water."""
    rng = np.random.default_rng(1)
    ridge = hills(190, 2400, (116, 128, 112), rng)
    near = hills(170, 2400, (74, 106, 92), rng)
    parts = [
        upright(sky(760, 2600, rng), -1500, 60, 1000, 860, far=True),
        upright(ridge, -1400, 10, 900, 190, far=True),
        upright(near, -560, 5, 320, 46, far=True),
    ]
    for start, depth, lump, rows in ((60.0, 560.0, 1, 300), (7.0, 53.0, 2, 900)):
        spread = (start + depth) * 1.5
        texture = water(rows, 1400, lump, rng)
        parts.append(level(texture, -spread / 2, start, WATER, spread, depth))
    return tuple(parts)


@cache
def surround() -> tuple[Panel, ...]:
    """As the backdrop, as far to either side as a fisheye sees."""
    rng = np.random.default_rng(8)
    hills_ = backdrop()[1:3]
    parts = [upright(sky(900, 6000, rng), -6000, 120, 1000, 1800, far=True)]
    parts += [turned(panel, way) for panel in hills_ for way in (-88.0, 88.0)]
    parts += [replace(hills_[1], origin=hills_[1].origin + np.array([645.0, 0, 4.0])), *hills_]
    for start, depth, spread, lump, rows in (
        (60.0, 560.0, 2600.0, 1, 300), (7.0, 53.0, 330.0, 2, 900), (-3.0, 10.0, 70.0, 3, 420),
    ):  # fmt: skip
        texture = water(rows, 4200, lump, rng)
        parts.append(level(texture, -spread / 2, start, WATER, spread, depth))
    return tuple(parts)


@cache
def far_side() -> tuple[Panel, ...]:
    """The far quay: wall, houses, their reflections."""
    rng = np.random.default_rng(2)
    houses = [
        (_boathouse(6.5, 3.6, (122, 128, 74), (70, 74, 88), 21), -23.0),
        (_boathouse(7.5, 4.0, (64, 128, 190), (58, 60, 74), 22), -15.6),
        (_shed(15.0, 5.4, 23), -7.4),
        (_boathouse(7.0, 3.8, (60, 66, 140), (84, 86, 92), 24), 8.2),
        (_boathouse(6.2, 3.4, (170, 178, 176), (62, 66, 96), 25), 15.9),
        (_boathouse(8.0, 4.2, (134, 112, 66), (66, 70, 80), 26), 22.8),
        (_boathouse(6.6, 3.7, (76, 150, 178), (70, 72, 84), 27), 31.6),
    ]
    wall = finished(tinted((98, 108, 112), 0.2 * noise((64, 3600), 3, 6, rng)))
    wall[::16, :, :3] = wall[::16, :, :3] * 0.6
    wall[44:, :, :3] = wall[44:, :, :3] * np.array([0.7, 0.85, 0.62])
    parts = [upright(wall, -28.0, WATER, FAR_QUAY - 1.2, WATER)]
    mirror = mirrored(wall)
    parts.append(upright(mirror, -28.0, 2 * WATER, FAR_QUAY - 1.2, WATER))
    for texture, left in houses:
        height = texture.shape[0] / METRE
        parts.append(upright(texture, left, 0.0, FAR_QUAY, height))
        # A mirror image stands as far below the water as the thing above it.
        parts.append(upright(mirrored(texture), left, 2 * WATER + height, FAR_QUAY, height))
    return tuple(parts)


@cache
def basin() -> tuple[Panel, ...]:
    """Masts and pilings between the quays, at different depths."""
    rng = np.random.default_rng(3)
    parts = []
    for left, z, height, paint in (
        (-11.0, 19.0, 9.5, (84, 62, 40)), (-3.2, 17.5, 8.2, (58, 66, 118)),
        (5.4, 18.6, 10.0, (70, 84, 52)), (13.0, 17.0, 8.8, (92, 96, 98)),
        (20.5, 18.4, 9.4, (48, 108, 150)),
    ):  # fmt: skip
        texture = pole(int(height * 60), 12, (112, 152, 186), rng)
        parts.append(upright(texture, left, WATER, z, height))
        hull = np.zeros((76, 300, 4), np.uint8)
        shape = np.array([[6, 16], [294, 6], [262, 70], [40, 70]])
        cv2.fillConvexPoly(hull, shape, (*paint, 255), cv2.LINE_AA)
        cv2.line(hull, (6, 18), (293, 8), (206, 218, 224, 255), 5, cv2.LINE_AA)
        hull[..., :3] = np.clip(
            hull[..., :3] * (1 + 0.12 * noise((76, 300), 3, 4, rng)[..., None]), 0, 255
        )
        parts.append(upright(hull, left - 2.4, WATER + 0.12, z - 0.1, 1.25))
    for i, z in enumerate((12.5, 11.0, 13.2, 10.4, 12.0, 11.4, 13.0)):
        left = -12.0 + 5.1 * i
        texture = pole(int(2.3 * 110), 30, (60, 74, 84), rng)
        parts.append(upright(texture, left, WATER + 0.6, z, 2.3))
    return tuple(sorted(parts, key=lambda p: -p.origin[2]))


@cache
def near_side() -> tuple[Panel, ...]:
    """The paving we stand on, its edge stones and bollards."""
    rng = np.random.default_rng(4)
    parts = []
    for near, depth, rows, columns, slab in ((4.6, 4.0, 420, 4000, 60), (1.6, 3.0, 620, 5200, 110)):
        texture = paving(rows, columns, slab, rng)
        parts.append(level(texture, -14.0, near, 0.0, 36.0, depth))
    for left in (-6.5, -0.8, 4.9, 10.6, 16.3):
        shadow = np.zeros((40, 160, 4), np.uint8)
        cv2.ellipse(shadow, (80, 20), (76, 16), 0, 0, 360, (20, 22, 26, 150), -1, cv2.LINE_AA)
        parts.append(level(cv2.GaussianBlur(shadow, (0, 0), 3), left - 0.1, 7.4, -0.002, 1.3, 0.5))
        post = pole(110, 76, (48, 50, 54), rng)
        post[:16, :, :3] = np.clip(post[:16, :, :3].astype(int) + 46, 0, 255)
        parts.append(upright(post, left, 0.0, 7.7, 0.62))
    return tuple(parts)
