"""Painted surfaces: planks, bricks, paving, hills, water, sky. BGRA, uint8, straight alpha."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

Image = NDArray[np.uint8]
Field = NDArray[np.float32]
Colour = tuple[int, int, int]  # blue, green, red


def noise(shape: tuple[int, int], finest: int, octaves: int, rng: np.random.Generator) -> Field:
    """Cloudy noise ``(h, w)`` in about -1..1; ``finest`` pixels is the smallest lump."""
    height, width = shape
    total = np.zeros(shape, np.float32)
    weight, size = 1.0, finest
    for _ in range(octaves):
        small = rng.standard_normal((height // size + 2, width // size + 2), np.float32)
        total += weight * cv2.resize(small, (width, height), interpolation=cv2.INTER_CUBIC)
        weight, size = weight * 1.6, size * 2
    return np.asarray(total / (2 * total.std() + 1e-6), np.float32)


def tinted(base: Colour, shade: Field) -> NDArray[np.float32]:
    """A colour made lighter or darker by ``shade`` ``(h, w)``, float ``(h, w, 3)``."""
    return np.asarray(np.array(base, np.float32) * (1 + shade[..., None]), np.float32)


def finished(colour: NDArray[np.float32], alpha: Field | None = None) -> Image:
    """Clip to bytes and add alpha (0..1)."""
    height, width = colour.shape[:2]
    out = np.empty((height, width, 4), np.uint8)
    out[..., :3] = np.clip(colour, 0, 255)
    out[..., 3] = 255 if alpha is None else np.clip(alpha * 255, 0, 255)
    return out


def planks(height: int, width: int, paint: Colour, rng: np.random.Generator) -> NDArray[np.float32]:
    """Painted boards, upright, weathered, with rain streaks."""
    board = 11
    tone = 0.07 * rng.standard_normal(width // board + 1).astype(np.float32)
    shade = np.repeat(tone, board)[:width][None, :].repeat(height, axis=0)
    shade += 0.10 * noise((height, width), 3, 5, rng)
    streaks = noise((height // 24 + 1, width), 2, 3, rng)
    shade += 0.06 * cv2.resize(streaks, (width, height))
    shade[:, ::board] -= 0.35
    shade[:, 1::board] += 0.06
    damp = np.clip((np.arange(height) - 0.82 * height) / (0.18 * height), 0, 1)
    return tinted(paint, shade - 0.35 * damp[:, None].astype(np.float32))


def bricks(height: int, width: int, rng: np.random.Generator) -> NDArray[np.float32]:
    """A stretcher-bond wall with pale mortar and sooty patches."""
    bh, bw = 6, 15
    rows, columns = height // bh + 1, width // bw + 2
    tone = 0.16 * rng.standard_normal((rows, columns)).astype(np.float32)
    y, x = np.mgrid[0:height, 0:width]
    row = y // bh
    column = (x + (row % 2) * (bw // 2)) // bw
    shade = tone[row, column] + 0.12 * noise((height, width), 4, 5, rng)
    wall = tinted((66, 84, 148), shade)
    mortar = (y % bh == 0) | ((x + (row % 2) * (bw // 2)) % bw == 0)
    wall[mortar] = 0.45 * wall[mortar] + 0.55 * np.array([128, 140, 150], np.float32)
    return wall


def window(
    wall: NDArray[np.float32],
    box: tuple[int, int, int, int],
    panes: tuple[int, int],
    frame: Colour,
    rng: np.random.Generator,
) -> None:
    """Cut a mullioned window ``(x, y, w, h)`` into a wall: recess, glass with sky in it, bars."""
    x, y, w, h = box
    wall[y - 3 : y + h + 6, x - 4 : x + w + 4] *= 0.72
    wall[y + h : y + h + 5, x - 5 : x + w + 5] = (150, 165, 172)  # sill
    glass = np.linspace(150, 60, h, dtype=np.float32)[:, None, None] * np.array(
        [1.0, 0.86, 0.72], np.float32
    )
    glass = glass * (1 + 0.25 * noise((h, w), 6, 4, rng)[..., None])
    wall[y : y + h, x : x + w] = glass
    wall[y : y + 5, x : x + w] *= 0.45  # the recess throws a shadow
    wall[y : y + h, x : x + 3] *= 0.55
    for i in range(panes[0] + 1):
        at = x + round(i * w / panes[0])
        wall[y - 1 : y + h + 1, at - 1 : at + 2] = frame
    for j in range(panes[1] + 1):
        at = y + round(j * h / panes[1])
        wall[at - 1 : at + 2, x - 1 : x + w + 1] = frame


def door(wall: NDArray[np.float32], box: tuple[int, int, int, int], paint: Colour) -> None:
    """A boarded double door ``(x, y, w, h)`` with straps."""
    x, y, w, h = box
    wall[y - 4 : y + h, x - 4 : x + w + 4] *= 0.6
    grain = 1 + 0.10 * np.sin(np.arange(w) * 2.1, dtype=np.float32)
    wall[y : y + h, x : x + w] = np.array(paint, np.float32) * grain[None, :, None]
    for at in range(x, x + w + 1, max(6, w // 10)):
        wall[y : y + h, at : at + 1] *= 0.55
    wall[y : y + h, x + w // 2 - 1 : x + w // 2 + 1] *= 0.3
    for at in (y + h // 5, y + 4 * h // 5):
        wall[at : at + 4, x + 3 : x + w - 3] = (42, 44, 46)


def gable(body: NDArray[np.float32], pitch: float, roof: Colour, rng: np.random.Generator) -> Image:
    """Put a pointed roof of ``pitch`` times the half width over a wall, with its shadow on it."""
    height, width = body.shape[:2]
    rise = int(pitch * width / 2)
    out = np.zeros((height + rise, width, 3), np.float32)
    out[rise:] = body
    top = cv2.resize(body[: height // 4], (width, rise))
    out[:rise] = top * 0.94
    y, x = np.mgrid[0 : height + rise, 0:width].astype(np.float32)
    slope = rise * np.abs(x - width / 2) / (width / 2)
    below = y - slope
    shadow = np.clip(1 - (below - 16) / 26, 0, 1)
    out *= (1 - 0.5 * shadow * (below < 42))[..., None]
    edge = (below >= 0) & (below < 15)
    tiles = tinted(roof, 0.12 * noise(out.shape[:2], 3, 4, rng))
    out[edge] = tiles[edge]
    light = np.where(x > width / 2, 0.88, 1.04).astype(np.float32)
    out[:rise] *= light[:rise, :, None]
    return finished(out, (below >= 0).astype(np.float32))


def paving(height: int, width: int, slab: int, rng: np.random.Generator) -> Image:
    """Granite setts with worn joints, damp patches and a mooring-rope shadow."""
    rows, columns = height // slab + 2, width // slab + 3
    y, x = np.mgrid[0:height, 0:width]
    row = y // slab
    shifted = x + (row % 2) * (slab // 2)
    tone = 0.12 * rng.standard_normal((rows, columns)).astype(np.float32)
    shade = tone[row, shifted // slab] + 0.10 * noise((height, width), 2, 6, rng)
    damp = noise((height, width), max(8, slab), 3, rng)
    shade -= 0.22 * np.clip(damp - 0.35, 0, 1)
    stone = tinted((118, 128, 134), shade)
    joint = max(1, slab // 16)
    stone[(y % slab < joint) | (shifted % slab < joint)] *= 0.55
    return finished(stone)


def water(height: int, width: int, lump: int, rng: np.random.Generator) -> Image:
    """Harbour water: ripples longer across than along the view."""
    flat = noise((height, max(4, width // 5)), lump, 4, rng)
    ripples = cv2.resize(flat, (width, height), interpolation=cv2.INTER_CUBIC)
    shade = 0.22 * ripples + 0.06 * noise((height, width), lump, 2, rng)
    colour = tinted((112, 104, 74), shade)
    glint = np.clip(ripples - 0.75, 0, 1)[..., None]
    return finished(colour + 130 * glint)


def hills(height: int, width: int, colour: Colour, rng: np.random.Generator) -> Image:
    """A ridge with fields, hedges and a few pale houses."""
    x = np.linspace(0, 1, width)
    ridge = np.zeros(width)
    for k in range(1, 7):
        ridge += np.sin(2 * np.pi * (k * 1.3 * x + rng.uniform())) / k**1.2
    ridge = 0.42 + 0.16 * ridge / np.abs(ridge).max()
    y = np.linspace(0, 1, height)[:, None]
    shade = 0.14 * noise((height, width), 3, 6, rng)
    patches = noise((height, width), 24, 2, rng)
    shade += 0.16 * np.sign(patches) * (np.abs(patches) > 0.15)
    picture = tinted(colour, shade)
    for _ in range(width // 36):
        at, row = int(rng.integers(4, width - 14)), float(rng.uniform(0.62, 0.93))
        if row > ridge[at] + 0.06:
            top = int(row * height)
            picture[top : top + 6, at : at + 9] = rng.uniform(170, 235)
            picture[top - 3 : top, at - 1 : at + 10] = (58, 66, 96)
    alpha = np.clip((y - ridge[None, :]) * height, 0, 1).astype(np.float32)
    return finished(picture, alpha)


def sky(height: int, width: int, rng: np.random.Generator) -> Image:
    """Morning sky, paler towards the horizon, with broken cloud lit from the left."""
    y = np.linspace(0, 1, height, dtype=np.float32)[:, None, None]
    top, low = np.array([196, 142, 92], np.float32), np.array([222, 214, 204], np.float32)
    base = (top * (1 - y) + low * y).repeat(width, axis=1)
    lumps = noise((height, max(8, width // 2)), 5, 7, rng)
    lumps = cv2.resize(lumps, (width, height), interpolation=cv2.INTER_CUBIC)
    cover = np.clip(1.5 * lumps - 0.15, 0, 1)[..., None]
    lit = np.clip(lumps - np.roll(lumps, -14, axis=1), -0.5, 0.5)[..., None]
    cloud = np.array([240, 238, 236], np.float32) * (0.94 + 0.35 * lit)
    return finished(base * (1 - 0.85 * cover) + cloud * 0.85 * cover)


def pole(height: int, width: int, colour: Colour, rng: np.random.Generator) -> Image:
    """An upright round timber, lit from the left, with bands of weed and iron."""
    across = np.linspace(-1, 1, width, dtype=np.float32)[None, :]
    round_ = 0.35 * np.sqrt(np.clip(1 - (across + 0.35) ** 2 / 1.9, 0, 1)) - 0.25
    shade = round_.repeat(height, axis=0) + 0.14 * noise((height, width), 3, 5, rng)
    picture = tinted(colour, shade)
    for at in rng.integers(0, height, max(2, height // 160)):
        picture[at : at + 3] *= 0.78
    return finished(picture)
