"""Living things: a walking figure and a gull, drawn phase by phase."""

from __future__ import annotations

from functools import cache

import cv2
import numpy as np

from .scene import Panel, upright
from .textures import Image, finished, noise, planks

_PHASES = 16
_OVER = 2  # drawn larger, then reduced, for smooth outlines


@cache
def _walker(phase: int) -> Image:
    """A figure in patched oilskins, 720 x 400 pixels, at one of the phases of a stride."""
    rows, columns = 360 * _OVER, 200 * _OVER
    art = np.zeros((rows, columns, 4), np.uint8)
    swing = np.sin(2 * np.pi * phase / _PHASES)
    lift = abs(np.cos(2 * np.pi * phase / _PHASES))
    mid, hip, neck = columns // 2, int(rows * 0.54), int(rows * 0.20)
    hip -= int(6 * lift * _OVER)
    neck -= int(6 * lift * _OVER)

    def limb(
        start: tuple[int, int], angle: float, bend: float, length: int, width: int,
        colour: tuple[int, int, int],
    ) -> None:  # fmt: skip
        knee = (int(start[0] + length * np.sin(angle)), int(start[1] + length * np.cos(angle)))
        end = angle - bend
        foot = (int(knee[0] + length * np.sin(end)), int(knee[1] + length * np.cos(end)))
        for a, b in ((start, knee), (knee, foot)):
            cv2.line(art, a, b, (*colour, 255), width, cv2.LINE_AA)
        cv2.circle(art, foot, width * 5 // 8, (36, 38, 44, 255), -1, cv2.LINE_AA)

    leg, arm = int(rows * 0.215), int(rows * 0.15)
    limb((mid + 8, neck + 34), -0.55 * swing, -0.3, arm, 26, (38, 118, 168))
    limb((mid, hip), 0.5 * swing, 0.5 * max(0.0, -swing), leg, 40, (66, 52, 44))
    limb((mid, hip), -0.5 * swing, 0.5 * max(0.0, swing), leg, 44, (86, 66, 54))
    body = np.array(
        [[mid - 42, neck + 14], [mid + 42, neck + 14], [mid + 54, hip + 34], [mid - 54, hip + 34]]
    )
    cv2.fillConvexPoly(art, body, (44, 152, 214, 255), cv2.LINE_AA)
    cv2.line(art, (mid - 50, hip - 30), (mid + 50, hip - 30), (230, 232, 234, 255), 12)
    limb((mid - 8, neck + 34), 0.55 * swing, -0.3, arm, 30, (52, 168, 232))
    cv2.circle(art, (mid, neck - 24), 34, (128, 152, 196, 255), -1, cv2.LINE_AA)
    cv2.ellipse(art, (mid, neck - 36), (38, 30), 0, 180, 360, (58, 40, 120, 255), -1, cv2.LINE_AA)
    rng = np.random.default_rng(5)
    shade = 1 + 0.16 * noise((rows, columns), 6, 4, rng)
    # Patches and stitches: something to follow, as on any coat.
    shade *= 1 + 0.30 * np.sign(noise((rows, columns), 34, 1, rng)) * (
        np.abs(noise((rows, columns), 15, 1, rng)) > 0.5
    )
    shade *= np.linspace(1.15, 0.8, columns)[None, :]
    art[..., :3] = np.clip(art[..., :3] * shade[..., None], 0, 255)
    return np.asarray(art, np.uint8)


def walker(start: float, end: float, left: float, right: float, z: float, ground: float):  # type: ignore[no-untyped-def]
    """An actor that walks from ``right`` to ``left`` between two times (seconds)."""

    def actor(time: float) -> Panel | None:
        if not start <= time <= end:
            return None
        share = (time - start) / (end - start)
        x = right + (left - right) * share
        phase = int(time * 1.9 / 2 * _PHASES) % _PHASES
        return upright(_walker(phase), x, ground, z, 1.82)

    return actor


@cache
def _hatch() -> Image:
    """A hatch cover, 520 x 580 pixels: boards in a frame, with cleats and a rope."""
    rng = np.random.default_rng(8)
    boards = planks(520, 580, (96, 138, 158), rng)
    for rim in (boards[:24], boards[-24:], boards[:, :24], boards[:, -24:]):
        rim[:] = (60.0, 84.0, 104.0)
    for y in (150, 360):
        boards[y : y + 30] = np.array([70.0, 96.0, 112.0]) * (
            1 + 0.2 * noise((30, 580), 3, 4, rng)[..., None]
        )
        for x in range(50, 560, 80):
            cv2.circle(boards, (x, y + 15), 7, (40, 44, 50), -1, cv2.LINE_AA)
    for i in range(9):
        at = (int(rng.integers(40, 540)), int(rng.integers(40, 480)))
        cv2.ellipse(boards, at, (26, 12), 20 * i, 0, 360, (150, 176, 190), 3, cv2.LINE_AA)
    return finished(boards)


def carried(start: float, end: float, left: float, right: float, z: float, ground: float):  # type: ignore[no-untyped-def]
    """A hatch cover carried by :func:`walker` with the same arguments."""

    def actor(time: float) -> Panel | None:
        if not start <= time <= end:
            return None
        x = right + (left - right) * (time - start) / (end - start)
        bounce = 0.02 * abs(np.sin(time * 1.9 * np.pi))
        return upright(_hatch(), x + 0.42, ground - 1.02 + bounce, z - 0.05, 1.15)

    return actor


@cache
def _gull(phase: int) -> Image:
    art = np.zeros((60 * _OVER, 160 * _OVER, 4), np.uint8)
    beat = int(26 * np.sin(2 * np.pi * phase / _PHASES))
    mid = (160, 60)
    for side in (-1, 1):
        wing = np.array([[mid[0], 54], [mid[0] + side * 70, 52 - beat],
                         [mid[0] + side * 140, 66 - 2 * beat], [mid[0] + side * 66, 70 - beat],
                         [mid[0], 70]])  # fmt: skip
        cv2.fillPoly(art, [wing], (226, 226, 224, 255), cv2.LINE_AA)
    cv2.ellipse(art, mid, (34, 10), 0, 0, 360, (240, 240, 238, 255), -1, cv2.LINE_AA)
    return np.asarray(cv2.resize(art, (160, 60), interpolation=cv2.INTER_AREA), np.uint8)


def gull(start: float, end: float, left: float, right: float, y: float, z: float):  # type: ignore[no-untyped-def]
    """An actor that flies from ``left`` to ``right``, dipping a little."""

    def actor(time: float) -> Panel | None:
        if not start <= time <= end:
            return None
        share = (time - start) / (end - start)
        x = left + (right - left) * share
        dip = 0.8 * np.sin(share * np.pi * 2.3)
        return upright(_gull(int(time * 2.2 * _PHASES) % _PHASES), x, y + dip, z, 0.5)

    return actor
