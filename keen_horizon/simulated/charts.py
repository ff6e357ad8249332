"""Photographs of a chessboard by the make-believe camera."""

from __future__ import annotations

from collections.abc import Iterator

import cv2
import numpy as np
from numpy.typing import NDArray

from .brindle_quay import tender_deck
from .camera import Array, Pinhole, Truth, rotations
from .scene import Panel, Scene

SQUARE = 40  # texture pixels
SIDE = 0.03  # metres of a square
COUNT = 14


def deck_camera() -> Pinhole:
    """The camera on the tender."""
    camera = tender_deck(0.2, readout=0.0).truth.camera
    assert isinstance(camera, Pinhole)
    return camera


def photographs(
    camera: Pinhole, columns: int = 9, rows: int = 6, count: int = COUNT, seed: int = 71
) -> Iterator[NDArray[np.uint8]]:
    """``count`` grey pictures ``(height, width)`` of the board, near and far, tilted, out to the
    corners of the frame; with grain."""
    rng = np.random.default_rng(seed)
    texture = _board(columns, rows)
    bench = np.full((900, 1600, 4), 255, np.uint8)
    bench[..., :3] = np.clip(96 + 10 * rng.standard_normal((900, 1600, 1)), 0, 255)
    for k in range(count):
        away = rng.uniform(0.22, 0.34)
        # Where in the frame its middle is looked for: all around, and in the middle.
        turn = 2 * np.pi * k / (count - 2)
        off = (0.0 if k >= count - 2 else rng.uniform(0.22, 0.31)) * np.array(
            [np.cos(turn) * camera.width, np.sin(turn) * camera.height]
        )
        pixel = np.array([[(camera.width - 1) / 2, (camera.height - 1) / 2]]) + off
        ray = camera.rays[int(pixel[0, 1]), int(pixel[0, 0])].astype(float)
        yield _photograph(camera, texture, bench, ray * away / max(ray[2], 0.35), rng)


def _photograph(
    camera: Pinhole, texture: NDArray[np.uint8], bench: NDArray[np.uint8], middle: Array,
    rng: np.random.Generator,
) -> NDArray[np.uint8]:  # fmt: skip
    tilt = rng.uniform(-0.4, 0.4, 3)
    # Faces the camera, more or less.
    yaw, pitch = np.arctan2(middle[0], middle[2]), -np.arctan2(middle[1], np.hypot(*middle[::2]))
    facing = rotations(
        np.array([0.6 * yaw + tilt[0]]), np.array([0.6 * pitch + tilt[1]]), np.array([tilt[2]])
    )[0].T
    metre = SIDE / SQUARE
    across, down = facing @ [metre, 0, 0], facing @ [0, metre, 0]
    height, width = texture.shape[:2]
    board = Panel(texture, middle - width / 2 * across - height / 2 * down, across, down)
    behind = middle + facing @ [0, 0, 0.9]
    wall = Panel(bench, behind - 800 * 40 * across - 450 * 40 * down, 40 * across, 40 * down)
    truth = Truth(
        camera, np.zeros(1), np.zeros((1, camera.height)), np.zeros((1, 3)), np.eye(3)[None]
    )
    picture = cv2.cvtColor(Scene((wall, board)).draw(truth, 0), cv2.COLOR_BGR2GRAY)
    soft = cv2.GaussianBlur(picture, (0, 0), 0.7).astype(float)
    return np.clip(soft + 2.0 * rng.standard_normal(soft.shape), 0, 255).astype(np.uint8)


def _board(columns: int, rows: int) -> NDArray[np.uint8]:
    x, y = np.meshgrid(np.arange(columns + 1), np.arange(rows + 1))
    squares = np.where((x + y) % 2 == 0, 28, 226).astype(np.uint8)
    large = np.kron(squares, np.ones((SQUARE, SQUARE), np.uint8))
    framed = np.pad(large, SQUARE, constant_values=232)
    grey = np.repeat(framed[..., None], 4, axis=2)
    grey[..., 3] = 255
    return np.ascontiguousarray(grey)
