"""The takes recorded at Brindle Quay: what was before the camera, and how it was moved."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cache, partial

import cv2
import numpy as np

from .camera import Array, Pinhole, Truth, buzz, ease, footfall, rotations, tremor
from .figures import carried, gull, walker
from .harbour import FAR_QUAY, WATER, backdrop, basin, far_side, mirrored, near_side, surround
from .lens import Glass
from .scene import Actor, Panel, Scene, level, upright
from .shade import Shade
from .sphere import harbour_sphere, twin_fisheye
from .take import RATE, SIZE, Fringes, Take
from .textures import (
    bricks,
    finished,
    noise,
    planks,
    tinted,
    window,
)

FINE = 112  # texture pixels a metre of a façade that is seen from near by
VIEW = 62.0  # degrees across
FISHEYE = Glass("fisheye", (-0.012, 0.004, 0.0, 0.0))  # of the camera on the tender
DECK_VIEW = 150.0  # its degrees from corner to corner
MOUSTACHE = Glass("brown", (-0.30, 0.22, 0.0, 0.0, 0.0))  # of the camera before the shed
# It loses light, on one side more, and puts red outside of green and blue inside.
LOFT_SHADE = Shade(*SIZE, 0.3, (0.02, -0.015), ring=0.9, soft=0.03)  # a filter's ring
SHED_SHADE = Shade(*SIZE, 0.62, (-0.11, 0.03))
SHED_FRINGES = Fringes(red=(0.0012, 0.0009), blue=(-0.0008, -0.0012))
DRONE = Glass("brown", (-0.27, 0.075, 0.0, 0.0, -0.008))
READOUT = 0.022  # seconds from the first row to the last, of the camera on the tender


def _truth(position: Array, yaw: Array, pitch: Array, roll: Array, times: Array) -> Truth:
    camera = Pinhole.from_view(*SIZE, VIEW)
    rows = np.repeat(times[:, None], camera.height, axis=1)
    turned = rotations(np.radians(yaw), np.radians(pitch), np.radians(roll))
    return Truth(camera, times, rows, position, turned)


def quay_walk(
    seconds: float = 12.0, *, shaken: bool = True, figure: bool = True, distance: float = 2.6
) -> Take:
    """A hand-held walk along the quay; footfall about twice a second; a figure crosses, close by,
    with a hatch cover.

    With ``shaken`` False, the same intended move without the shake. ``distance`` metres to the
    figure: at 2.6 it takes a third of the picture, at 2.1 over two fifths.
    """
    times = np.arange(round(seconds * RATE)) / RATE
    rng = np.random.default_rng(41)
    strength = 1.0 if shaken else 0.0
    x = -4.0 + 0.72 * times
    yaw = -5.0 + 9.0 * ease(times, 1.0, 11.0)
    pitch, roll = np.full_like(times, -1.2), np.zeros_like(times)
    position = np.stack([x, np.full_like(x, -1.62), np.full_like(x, 0.0)], axis=-1)
    bounce, side = footfall(times, 1.95, rng), footfall(times, 0.975, rng)
    position += strength * np.stack([0.012 * side, 0.016 * bounce, 0.006 * bounce], axis=-1)
    yaw = yaw + strength * (0.30 * side + 0.10 * tremor(times, 2, 9, rng))
    yaw = yaw + strength * 0.22 * tremor(times, 0.25, 0.8, rng)
    pitch = pitch + strength * (0.32 * bounce + 0.10 * tremor(times, 2, 9, rng))
    pitch = pitch + strength * 0.18 * tremor(times, 0.25, 0.8, rng)
    roll = roll + strength * (0.42 * side + 0.10 * tremor(times, 2, 7, rng))
    cast: tuple[Panel | Actor, ...] = (gull(1.0, 6.5, -9.0, 14.0, -5.4, 15.0),)
    way = (3.0, 7.0, -2.2, 0.6, distance, 0.0)
    front: tuple[Panel | Actor, ...] = (walker(*way), carried(*way)) if figure else ()
    scene = Scene((*backdrop(), *far_side(), *cast, *basin(), *near_side(), *front))
    return Take("quay walk", scene, _truth(position, yaw, pitch, roll, times))


def loft_doorway(seconds: float = 8.0) -> Take:
    """Looking out of the loft: meant to be still, held by hand."""
    times = np.arange(round(seconds * RATE)) / RATE
    rng = np.random.default_rng(43)

    def sway(slow: float, fast: float) -> Array:
        return slow * tremor(times, 0.15, 0.8, rng) + fast * tremor(times, 2, 9, rng)

    position = np.stack([2.0 + 0 * times, -3.4 + 0 * times, 0 * times], axis=-1)
    position += 0.0015 * np.stack([tremor(times, 0.2, 3, rng) for _ in range(3)], axis=-1)
    yaw, pitch, roll = sway(0.26, 0.10), sway(0.22, 0.10), sway(0.24, 0.08)
    scene = Scene((*backdrop(), *far_side(), gull(2.0, 6.0, 12.0, -10.0, -5.6, 15.0), *basin(),
                   *near_side(), _doorway()))  # fmt: skip
    truth = _truth(position, yaw, pitch - 4.5, roll, times)
    return Take("loft doorway", scene, truth, shade=LOFT_SHADE)


def _doorway() -> Panel:
    """The dark inside of the loft around the opening, 3 metres off."""
    rng = np.random.default_rng(6)
    height, width = 1150, 1800
    wood = planks(height, width, (46, 58, 72), rng) * 0.62
    alpha = np.ones((height, width), np.float32)
    x0, x1, y0, y1 = 430, 1370, 210, 900
    for m in (18, 0):
        wood[y0 - m - 16 : y1 + m + 16, x0 - m - 16 : x1 + m + 16] = tinted(
            (70, 92, 112) if m else (92, 116, 136),
            0.12 * noise((y1 - y0 + 2 * m + 32, x1 - x0 + 2 * m + 32), 3, 5, rng),
        )
    alpha[y0:y1, x0:x1] = 0
    wood *= np.linspace(0.9, 0.55, height)[:, None, None]
    glow = cv2.GaussianBlur(1 - alpha, (0, 0), 60)[..., None]
    wood *= 0.75 + 0.9 * glow
    return upright(finished(wood, alpha), 2.0 - 2.7, -3.4 + 0.23 + 1.72, 3.0, 3.45)


def tender_deck(
    seconds: float = 8.0, *, readout: float = READOUT, buzzing: float = 1.0, fisheye: bool = True
) -> Take:
    """From a tender that lies in the basin with its engine on: it rolls, turns and buzzes, and the
    camera reads its rows one after the other, ``readout`` seconds from the first to the last.

    Through a lens of 150 degrees; with ``fisheye`` False a straight one of 62 across.
    """
    times = np.arange(round(seconds * RATE)) / RATE
    camera = Pinhole.from_view(*SIZE, VIEW)
    if fisheye:
        half = np.radians(DECK_VIEW) / 2
        k1, k2 = FISHEYE.coefficients[:2]
        reach = half * (1 + k1 * half**2 + k2 * half**4)
        camera = Pinhole(*SIZE, float(np.hypot(*SIZE) / 2 / reach), FISHEYE)
    shares = (np.arange(camera.height) + 0.5) / camera.height - 0.5
    row_times = times[:, None] + readout * shares
    at = np.concatenate([times, row_times.ravel()])
    rng = np.random.default_rng(47)

    def tremors(low: float, high: float) -> Array:
        return tremor(at, low, high, rng)

    yaw = 4.0 * ease(at, 0.5, 7.5) - 2.0 + 0.8 * tremors(0.2, 0.6) + 0.35 * tremors(1.5, 6)
    pitch = -1.5 + 0.5 * tremors(0.2, 0.7) + 0.22 * tremors(1.5, 6)
    roll = 1.1 * tremors(0.15, 0.5) + 0.25 * tremors(1.5, 5)
    # A wide lens shows less of a turn: its boat is livelier.
    lively = 2.0 if fisheye else 1.0
    yaw = lively * (yaw + buzzing * 0.045 * buzz(at, 43.0, rng))
    pitch = lively * (pitch + buzzing * 0.035 * buzz(at, 43.0, rng))
    roll = lively * roll
    rotation = rotations(np.radians(yaw), np.radians(pitch), np.radians(roll))
    n = len(times)
    position = np.tile([1.0, -1.1, 9.0 if fisheye else 3.0], (n, 1))
    truth = Truth(
        camera, times, row_times, position, rotation[:n],
        rotation[n:].reshape(n, camera.height, 3, 3),
    )  # fmt: skip
    behind = surround() if fisheye else backdrop()
    near = _pontoon() if fisheye else ()
    scene = Scene((*behind, *far_side(), gull(1.0, 5.0, -9.0, 14.0, -5.0, 15.0), *basin(), *near))
    return Take("tender deck", scene, truth, camera="Limpet deck camera" if fisheye else "")


@cache
def _pontoon() -> tuple[Panel, ...]:
    """A coping of pale stone along the far quay, and a pontoon with a railing beside the tender."""
    rng = np.random.default_rng(12)
    coping = finished(tinted((176, 190, 194), 0.06 * noise((16, 3600), 3, 4, rng)))
    deck = finished(planks(1500, 420, (120, 142, 156), rng))
    side = finished(tinted((58, 66, 74), 0.1 * noise((40, 1500), 3, 4, rng)))
    rail = finished(tinted((196, 204, 208), 0.05 * noise((10, 2000), 3, 3, rng)))
    post = finished(tinted((150, 160, 166), 0.05 * noise((120, 12), 3, 3, rng)))
    return (
        upright(coping, -28.0, 0.16, FAR_QUAY - 1.25, 0.32),
        level(np.ascontiguousarray(deck.transpose(1, 0, 2)), -9.0, 13.4, 0.62, 18.0, 2.2),
        upright(side, -9.0, 1.05, 13.39, 0.43),
        *(upright(post, -9.0 + 2.25 * i, 0.62, 15.41, 1.1) for i in range(9)),
        *(upright(rail, -9.0, y, 15.4, 0.09) for y in (-0.42, 0.02)),
    )


def deck_edges(points: int = 80) -> Array:
    """``(edges, points, 3)`` long straight edges seen from the tender: the coping of the quay, the
    front of the pontoon, and the eaves of the engine shed."""
    along = np.linspace(0, 1, points)[:, None]
    ends = np.array(
        [
            [(-27.8, -0.16, FAR_QUAY - 1.25), (27.0, -0.16, FAR_QUAY - 1.25)],
            [(-8.9, 0.62, 13.4), (8.9, 0.62, 13.4)],
            [(-7.2, -5.4, FAR_QUAY), (7.4, -5.4, FAR_QUAY)],
        ]
    )
    return np.stack([start + along * (stop - start) for start, stop in ends])


def slip_descent(seconds: float = 8.0, *, shaken: bool = True) -> Take:
    """From a small drone over the slip, in gusts: it tilts from straight down to the horizon. A
    barrel lens of 88 degrees across. With ``shaken`` False, the same move without the gusts."""
    times = np.arange(round(seconds * RATE)) / RATE
    rng = np.random.default_rng(59)
    camera = Pinhole.from_view(*SIZE, 76.0)
    camera = replace(camera, glass=DRONE)
    tilt = ease(times, 0.12 * seconds, 0.86 * seconds)
    drift = np.stack([0.4 * times / seconds, -0.3 * tilt, 1.6 * tilt], axis=-1)
    sway = 0.03 * np.stack([tremor(times, 0.2, 0.9, rng) for _ in range(3)], axis=-1)
    position = np.array([1.6, -7.4, 1.2]) + drift + sway
    gusts = 1.0 if shaken else 0.0
    pitch = -88.0 + 80.0 * tilt + gusts * 0.45 * tremor(times, 1.0, 6, rng)
    yaw = -4.0 + 6.0 * tilt + gusts * 0.45 * tremor(times, 1.0, 6, rng)
    roll = gusts * 0.5 * tremor(times, 0.6, 5, rng)
    turned_by = rotations(np.radians(yaw), np.radians(pitch), np.radians(roll))
    rows = np.repeat(times[:, None], camera.height, axis=1)
    truth = Truth(camera, times, rows, position, turned_by)
    scene = Scene((*surround(), *far_side(), *basin(), *_slip(), *near_side()))
    x, z = np.meshgrid(np.arange(-12.0, 20.0, 0.5), np.arange(-7.0, 8.4, 0.5))
    ground = np.stack([x.ravel(), np.zeros(x.size), z.ravel()], axis=-1)
    x, y = np.meshgrid(np.arange(-24.0, 38.0, 1.0), np.arange(-4.0, 0.5, 0.5))
    front = np.stack([x.ravel(), y.ravel(), np.full(x.size, FAR_QUAY)], axis=-1)
    points = np.concatenate([ground, front])
    return Take("slip descent", scene, truth, points=points, camera="Tern drone")


@cache
def _slip() -> tuple[Panel, ...]:
    """The boards of the slip behind the quay, and the rails let into them."""
    rng = np.random.default_rng(9)
    boards = planks(1100, 2600, (96, 122, 140), rng)
    for rail in (900, 1050, 1700, 1850):
        boards[:, rail - 5 : rail + 5] = (66, 62, 60)
        boards[:, rail - 2 : rail + 2] = (150, 152, 156)
    for beam in range(90, 1100, 220):
        boards[beam : beam + 8] *= 0.55
    return (level(finished(boards), -16.0, -10.5, 0.0, 40.0, 12.2),)


def engine_shed(seconds: float = 5.0) -> Take:
    """Before the brick engine shed, hand-held, through a wide lens that bends the mullions one way
    in the middle and the other at the edge, loses light and parts colours."""
    times = np.arange(round(seconds * RATE)) / RATE
    rng = np.random.default_rng(61)
    camera = replace(Pinhole.from_view(*SIZE, 78.0), glass=MOUSTACHE)
    position = np.tile([0.1, -2.6, FAR_QUAY - 8.2], (len(times), 1))
    position += 0.004 * np.stack([tremor(times, 0.3, 3, rng) for _ in range(3)], axis=-1)
    yaw, pitch, roll = (
        slow * tremor(times, 0.2, 0.8, rng) + 0.12 * tremor(times, 2, 9, rng)
        for slow in (0.5, 0.35, 0.3)
    )
    rows = np.repeat(times[:, None], camera.height, axis=1)
    rotation = rotations(np.radians(yaw), np.radians(pitch), np.radians(roll))
    truth = Truth(camera, times, rows, position, rotation)
    scene = Scene((*backdrop(), *_shed_front()))
    points = shed_edges().reshape(-1, 3)
    return Take(
        "engine shed", scene, truth, points=points, camera="Cockle pocket camera",
        shade=SHED_SHADE, fringes=SHED_FRINGES,
    )  # fmt: skip


SHED_LEFT, SHED_HIGH = -8.4, 6.4  # metres: its left side, and its height above the quay
SHED_WINDOWS = 6
SHED_WIDTH = 17.0


@cache
def _shed_front() -> tuple[Panel, ...]:
    """The engine shed from near by: tall mullioned windows, bands of stone, eaves."""
    rng = np.random.default_rng(27)
    w, h = int(SHED_WIDTH * FINE), int(SHED_HIGH * FINE)
    wall = bricks(h, w, rng)
    for x, y, wide, high in _shed_openings():
        box = (int(x * FINE), int(y * FINE), int(wide * FINE), int(high * FINE))
        window(wall, box, (4, 6), (70, 88, 62), rng)
        left, top, across, down = box
        wall[top - 26 : top - 6, left - 12 : left + across + 12] = (150, 160, 166)
        wall[top + down + 6 : top + down + 22, left - 12 : left + across + 12] = (140, 150, 156)
    for y in (0.62, 5.62):
        band = slice(int(y * FINE), int((y + 0.16) * FINE))
        wall[band] = tinted((142, 152, 158), 0.1 * noise((band.stop - band.start, w), 3, 3, rng))
        wall[band.stop : band.stop + 5] *= 0.55
    wall[: int(0.3 * FINE)] = (62, 64, 72)
    wall[int(0.3 * FINE) : int(0.42 * FINE)] *= 0.5
    quay = finished(tinted((98, 108, 112), 0.2 * noise((110, 3200), 3, 6, rng)))
    quay[::22, :, :3] = quay[::22, :, :3] * 0.6
    return (
        upright(finished(wall), SHED_LEFT, 0.0, FAR_QUAY, SHED_HIGH),
        upright(quay, -16.0, WATER, FAR_QUAY - 0.4, WATER),
        upright(mirrored(quay), -16.0, 2 * WATER, FAR_QUAY - 0.4, WATER),
    )


def _shed_openings() -> list[tuple[float, float, float, float]]:
    """Left, top, width and height of each window, metres from the wall's top left."""
    step = (SHED_WIDTH - 0.8) / SHED_WINDOWS
    return [(0.9 + k * step, 1.5, step - 1.0, 3.6) for k in range(SHED_WINDOWS)]


def shed_edges(points: int = 40) -> Array:
    """``(edges, points, 3)`` straight edges of the shed in the world, where two colours meet: of
    its two bands of stone, from end to end, and of lintels, sills and glass."""
    along = np.linspace(0, 1, points)
    edges = []
    for y in (0.62, 5.62):
        for row in (int(y * FINE), int((y + 0.16) * FINE)):
            edges.append(([10.0, row], [SHED_WIDTH * FINE - 10.0, row]))
    for x, y, wide, high in _shed_openings():
        left, top, across, down = (int(v * FINE) for v in (x, y, wide, high))
        for row in (top - 26, top + down + 2, top + down + 22):
            edges.append(([left - 12, row], [left + across + 12, row]))
        edges.append(([left, top + 8], [left, top + down - 8]))
        edges.append(([left + across, top + 8], [left + across, top + down - 8]))
    metre = int(SHED_HIGH * FINE) / SHED_HIGH
    flat = (np.array(edges, float) - 0.5) / metre  # where pixels meet
    places = flat[:, :1] + along[None, :, None] * (flat[:, 1:] - flat[:, :1])
    return np.stack(
        [
            places[..., 0] + SHED_LEFT,
            places[..., 1] - SHED_HIGH,
            np.full(places.shape[:2], FAR_QUAY),
        ],
        axis=-1,
    )


def push_in(seconds: float = 10.0) -> Take:
    """Nearing the far side by a seventh and turning by ten degrees, by hand."""
    times = np.arange(round(seconds * RATE)) / RATE
    rng = np.random.default_rng(3)
    position = np.stack(
        [2 + 0 * times, -1.7 + 0 * times, 3.15 * ease(times, 0.03 * seconds, 0.97 * seconds)], -1
    )
    yaw, pitch, roll = (s * tremor(times, 0.3, 6, rng) for s in (0.3, 0.25, 0.3))
    roll = roll + 10 * ease(times, 0.1 * seconds, 0.9 * seconds)
    scene = Scene((*backdrop(), *far_side()))
    return Take("push in", scene, _truth(position, yaw - 2, pitch - 1.2, roll, times))


def jolted_view(seconds: float = 10.0) -> Take:
    """A view held nearly still, but for one jolt half way."""
    times = np.arange(round(seconds * RATE)) / RATE
    rng = np.random.default_rng(5)

    def jolt(after: float, length: float) -> Array:
        return np.asarray(np.exp(-(((times - seconds / 2 - after) / length) ** 2)))

    yaw, pitch, roll = (0.05 * tremor(times, 1, 6, rng) for _ in range(3))
    yaw = yaw + 2.2 * jolt(0, 0.12) - 1.2 * jolt(0.35, 0.14)
    pitch = pitch - 1.6 * jolt(0.05, 0.12)
    position = np.tile([2.0, -1.7, 0.0], (len(times), 1))
    scene = Scene((*backdrop(), *far_side(), *basin(), *near_side()))
    return Take("jolted view", scene, _truth(position, yaw - 2, pitch - 1.2, roll, times))


def long_haul(seconds: float = 600.0) -> Take:
    """Ten minutes along the quay, to and fro, by hand."""
    times = np.arange(round(seconds * RATE)) / RATE
    rng = np.random.default_rng(53)
    x = 1.5 + 5.0 * np.sin(2 * np.pi * times / 47)
    bounce, side = footfall(times, 1.95, rng), footfall(times, 0.975, rng)
    position = np.stack([x + 0.012 * side, -1.62 + 0.016 * bounce, 0.006 * bounce], axis=-1)
    yaw = 4 * np.sin(2 * np.pi * times / 31) + 0.30 * side + 0.10 * tremor(times, 2, 9, rng)
    pitch = -1.2 + 0.32 * bounce + 0.18 * tremor(times, 0.25, 0.8, rng)
    roll = 0.42 * side + 0.10 * tremor(times, 2, 7, rng)
    scene = Scene((*backdrop(), *far_side(), *basin(), *near_side()))
    return Take("long haul", scene, _truth(position, yaw, pitch, roll, times))


# The first one is waited for.
TAKES: dict[str, Callable[[], Take]] = {
    "loft doorway": loft_doorway,
    "quay walk": quay_walk,
    "tender deck": tender_deck,
    "slip descent": slip_descent,
    "engine shed": engine_shed,
    "harbour sphere": harbour_sphere,
    "twin fisheye": partial(twin_fisheye, darker=0.35, rim=0.7),
}
# Made only when asked for: it takes minutes.
ON_DEMAND = {"long haul": long_haul}
EVERY_TAKE = TAKES | ON_DEMAND
