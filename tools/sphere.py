"""Benchmarks of spheres: ``./keen bench sphere``.

Truth is the simulated harbour, and a box whose walls are photographs, drawn ray by ray by this file
alone, larger than it is recorded; somebody stands below the camera in both. Films are recorded as
H.264 at ordinary quality and judged by what the command line wrote, at its default settings but for
the aim.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cache
from pathlib import Path

import av
import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d
from scipy.spatial.transform import Rotation, Slerp

from keen_horizon.cli.commands import main as keen
from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.probe import scan
from keen_horizon.core.media.sphere_boxes import tag_film
from keen_horizon.core.media.spherical import SphereTag
from keen_horizon.simulated.camera import AllAround, BackToBack
from keen_horizon.simulated.record import record
from keen_horizon.simulated.shade import from_light, to_light
from keen_horizon.simulated.sphere import harbour_sphere, twin_fisheye

from .rows import Row, say
from .truth.moves import poses
from .truth.scene import Array, photographs

Bgr = NDArray[np.uint8]
SIZE = (2048, 1024)
LARGE = (3840, 1920)
FRAMES = 120
ROW = 1024
COARSER = 0.4  # of their size photographs are hung at: as fine as a sphere can show them
HALF = np.array([5.0, 2.6, 6.5])  # metres from the middle of the box to its walls
VIEW = (1280, 720, 90.0)  # width, height, degrees across
TWIN_SIDE, TWIN_FRAMES = 1024, 60
ROOM = np.array([3.0, 1.7, 3.0])
DARKER, RIM = 0.4, 0.8  # stops
SEAM_REACH = 5.0  # degrees
LATE = 0.03  # seconds that one half of a stitched sphere was exposed later
LOOK = (-35.0, 8.0)  # degrees to the right and upwards


@dataclass(frozen=True)
class Box:
    """The inside of a box, and a camera in it that ``poses`` moves; rays of pictures are kept."""

    poses: Callable[[Array], tuple[Array, Array]]
    half: Array = field(default_factory=HALF.copy)  # metres from its middle to its walls
    _rays: dict[str, NDArray[np.float32]] = field(default_factory=dict, repr=False)

    def sphere(self, frame: int, size: tuple[int, int], finer: int = 1) -> Bgr:
        """All around, with somebody below, who turns with the camera."""
        wide, high = (n * finer for n in size)
        name = f"{wide}"
        if name not in self._rays:
            longitude = ((np.arange(wide) + 0.5) / wide - 0.5) * 2 * np.pi
            latitude = (((np.arange(high) + 0.5) / high - 0.5) * np.pi)[:, None]
            self._rays[name] = np.stack([
                np.cos(latitude) * np.sin(longitude), np.sin(latitude) + 0 * longitude,
                np.cos(latitude) * np.cos(longitude),
            ], axis=-1).astype(np.float32)  # fmt: skip
        rays = self._rays[name]
        turn, place = self.at(frame)
        seen = self._seen(rays @ turn.T.astype(np.float32), place)
        below = rays[..., 1] > np.cos(np.radians(28.0))
        tile = photographs(1, 1, 4)
        x = ((rays[..., 0] * 0.9 + 0.5) * tile.shape[1]).astype(np.float32)
        y = ((rays[..., 2] * 0.9 + 0.5) * tile.shape[0]).astype(np.float32)
        stands = cv2.remap(tile, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        seen[below] = stands[below]
        return np.asarray(cv2.resize(seen, size, interpolation=cv2.INTER_AREA))

    def flat(self, frame: int, turn: Array, finer: int = 2) -> Bgr:
        """What a straight camera sees whose rays ``turn`` takes to the sphere's first axes."""
        width, height, across = VIEW
        focal = (width * finer - 1) / 2 / np.tan(np.radians(across) / 2)
        # From the outermost pixels' middles, as the product counts its angle.
        focal = focal * (width - 1) / (width - 1 / finer)
        x = (np.arange(width * finer) - (width * finer - 1) / 2) / focal
        y = (np.arange(height * finer) - (height * finer - 1) / 2) / focal
        rays = np.stack([*np.meshgrid(x, y), np.ones((len(y), len(x)))], axis=-1)
        seen = self._seen((rays @ turn.T).astype(np.float32), self.at(frame)[1])
        return np.asarray(cv2.resize(seen, (width, height), interpolation=cv2.INTER_AREA))

    def around(self, turn: Array, place: Array, size: tuple[int, int]) -> Bgr:
        """All around, from a place; ``turn`` takes its rays to the world's."""
        camera = AllAround(*(2 * n for n in size))
        seen = self._seen(camera.rays @ turn.T.astype(np.float32), place)
        return np.asarray(cv2.resize(seen, size, interpolation=cv2.INTER_AREA))

    def twin(self, frame: int, camera: BackToBack) -> Bgr:
        """By two fisheyes back to back, each from its own place."""
        turn, place = self.at(frame)
        halves = []
        for lens, own, apart in zip(camera.lenses, camera.turns, camera.places, strict=True):
            rays = lens.rays @ (turn @ own.T).T.astype(np.float32)
            halves.append(self._seen(rays, place + turn @ apart) * lens.inside)
        return np.asarray(np.hstack(halves), np.uint8)

    def at(self, frame: int) -> tuple[Array, Array]:
        """Camera to world ``(3, 3)``, and where it is."""
        turns, places = self.poses(np.array([float(frame)]))
        return turns[0], places[0]

    def _seen(self, rays: NDArray[np.float32], place: Array) -> Bgr:
        """What world ``rays`` meet from a ``place``."""
        with np.errstate(divide="ignore"):
            far = [
                (np.sign(rays[..., k]) * self.half[k] - place[k]) / rays[..., k] for k in range(3)
            ]
        reach = np.stack(far)
        wall = reach.argmin(axis=0)
        meets = rays * np.take_along_axis(reach, wall[None], axis=0)[0][..., None] + place
        picture = np.zeros((*rays.shape[:2], 3), np.uint8)
        for k in range(3):
            a, b = [axis for axis in (0, 2, 1) if axis != k]
            for side in (-1, 1):
                hit = (wall == k) & (np.sign(rays[..., k]) == side)
                if not hit.any():
                    continue
                paint = _paint(2 * k + side)
                shares = meets[hit][:, [a, b]] / self.half[[a, b]] / 2 + 0.5
                picture[hit] = _looked_up(paint, shares * paint.shape[1::-1])
        return picture


def _looked_up(paint: Bgr, at: Array) -> Bgr:
    """``(m, 3)`` what is painted at places ``(m, 2)``; in rows, which OpenCV wants short."""
    rows = -(-len(at) // ROW)
    places = np.zeros((rows * ROW, 2), np.float32)
    places[: len(at)] = at
    drawn = cv2.remap(paint, places.reshape(rows, ROW, 2), None, cv2.INTER_LINEAR,
                      borderMode=cv2.BORDER_REPLICATE)  # fmt: skip
    return np.asarray(drawn.reshape(-1, 3)[: len(at)])


@cache
def _paint(shift: int) -> Bgr:
    size = {"fx": COARSER, "fy": COARSER, "interpolation": cv2.INTER_AREA}
    return np.asarray(cv2.resize(photographs(4, 2, shift), None, **size))


def sphere(folder: Path) -> list[Row]:
    say("spheres")
    box = Box(poses(FRAMES, 71, turn=3.0, tremor=0.3, sway=0.12, ahead=0.25, pan=6))
    inside = folder / "box.mp4"
    _write(inside, (box.sphere(k, SIZE) for k in range(FRAMES)), SIZE)
    camera = [box.at(k)[0].T for k in range(FRAMES)]
    rows = _found_rows(folder, "photographs in a box", inside, np.stack(camera))
    rows += view_rows(folder, box, inside)
    take, outside = harbour_sphere(8.0), folder / "harbour.mp4"
    record(take, outside)
    rows += _found_rows(folder, "harbour", outside, take.truth.rotation)
    rows += twin_rows(folder) + wobble_rows(folder)
    return [*rows, *speed_rows(folder, box)]


def _write(
    path: Path, pictures: Iterator[Bgr], size: tuple[int, int], *, tagged: bool = True
) -> None:
    noise = np.random.default_rng(3)
    with av.open(str(path), "w") as out:
        video = out.add_stream("libx264", rate=Fraction(30), options={"crf": "20", "threads": "2"})
        video.width, video.height, video.pix_fmt = *size, "yuv420p"
        for index, picture in enumerate(pictures):
            grain = 1.5 * noise.standard_normal(picture.shape[:2], dtype=np.float32)[..., None]
            shown = np.clip(picture + grain, 0, 255).astype(np.uint8)
            frame = av.VideoFrame.from_ndarray(shown, "bgr24").reformat(format="yuv420p")
            frame.pts = index
            out.mux(video.encode(frame))
        out.mux(video.encode(None))
    if tagged:
        tag_film(path, SphereTag(), size)


def _degrees(turns: Array) -> Array:
    return np.degrees(Rotation.from_matrix(turns).magnitude())


def _rms(values: Array) -> float:
    return float(np.sqrt((values**2).mean()))


def _found_rows(folder: Path, name: str, path: Path, camera: Array) -> list[Row]:
    """``camera`` ``(n, 3, 3)`` takes rays of the world to those of each frame."""
    told, out = folder / "told.json", folder / "out.mp4"
    keen(["measure", str(path), "--json", str(told)])
    found = np.array([f["previous_to_this"] for f in json.loads(told.read_text())["frames"]])
    true = camera[1:] @ camera[:-1].swapaxes(1, 2)
    pair = _degrees(found[1:] @ true.swapaxes(1, 2))
    rows = [Row(f"sphere: {name}: turn from frame to frame", "≤ 0.03° rms", f"{_rms(pair):.3f}°",
                _rms(pair) <= 0.03, f"of {_rms(_degrees(true)):.2f}° rms")]  # fmt: skip
    order = ["--set", "motion.aim=lock_off", "--report", str(told)]
    keen(["correct", str(path), str(out), *order])
    report = json.loads(told.read_text())
    steady = np.array([f["steady"] for f in report["frames"]])
    world = camera.swapaxes(1, 2) @ steady  # the output's rays in the world
    mean = Rotation.from_matrix(world).mean().as_matrix()
    off = _degrees(world @ mean.T)
    drift = _degrees(world @ world[0].T).max()
    rows.append(Row(f"sphere: {name}: locked off, the whole clip", "≤ 0.1° rms, no drift over 0.2°",
                    f"{_rms(off):.3f}° rms, {drift:.2f}° from the first frame at the most",
                    _rms(off) <= 0.1 and drift <= 0.2))  # fmt: skip
    down = world.swapaxes(1, 2) @ np.array([0, 1.0, 0])
    tilt = np.degrees(np.arccos(np.clip(down[:, 1], -1, 1)))
    sure = (report.get("level") or {}).get("sure_degrees")
    said = "not told" if sure is None else f"{_rms(tilt):.2f}°"
    rows.append(Row(f"sphere: {name}: level", "≤ 0.5° rms", said, _rms(tilt) <= 0.5,
                    f"said to be sure to {sure:.2f}°" if sure is not None else ""))  # fmt: skip
    return rows


def view_rows(folder: Path, box: Box, path: Path) -> list[Row]:
    """What a flat view shows, against the same view drawn straight from the scene; and across the
    seam of the source, that it looks at."""
    told, out = folder / "told.json", folder / "flat.mp4"
    width, height, across = VIEW
    rows = []
    for where, yaw in (("ahead", LOOK[0]), ("over the seam", 180.0)):
        order = ["motion.aim=lock_off", "motion.level=off", f"view.angle={across}",
                 f"view.yaw={yaw}", f"view.pitch={LOOK[1]}", f"view.width={width}",
                 f"view.height={height}"]  # fmt: skip
        asked = [part for one in order for part in ("--set", one)]
        keen(["correct", str(path), str(out), "--range", "0:30", "--quality", "fine",
              "--report", str(told), *asked])  # fmt: skip
        report = json.loads(told.read_text())
        off, step = [], []
        for picture in frames(out, scan(out), 0, 30):
            if picture.index % 10:
                continue
            of_frame = report["frames"][picture.index]
            turn = box.at(picture.index)[0] @ np.array(of_frame["steady"]) @ of_frame["look"]
            straight = box.flat(picture.index, turn)
            grey = cv2.cvtColor(straight, cv2.COLOR_BGR2YUV)[..., 0]
            shown = np.clip((picture.planes[0].astype(float) - 16) * 255 / 219, 0, 255)
            off.append(_places_off(grey, shown.astype(np.uint8)))
            if yaw == 180.0:
                source = np.array(of_frame["steady"]) @ of_frame["look"]
                step.append(_seam(shown - grey, source))
        rms = _rms(np.concatenate(off))
        rows.append(Row(f"sphere: flat view {where}, against one drawn straight", "≤ 0.5 px rms",
                        f"{rms:.2f} px", rms <= 0.5,
                        f"at {len(np.concatenate(off))} corners"))  # fmt: skip
        if step:
            rows.append(Row("sphere: flat view, the source's seam", "≤ 1 code value above around",
                            f"{np.mean(step):.2f}", bool(np.mean(step) <= 1)))  # fmt: skip
    return rows


def twin_rows(folder: Path) -> list[Row]:
    """Two fisheyes, 26 mm apart, in a room whose walls are 3 m away, and in the harbour: what the
    finished sphere shows about the seam and elsewhere, against one drawn straight from between the
    lenses."""
    camera = twin_fisheye(0.1, TWIN_SIDE).truth.camera
    assert isinstance(camera, BackToBack)
    room = Box(poses(TWIN_FRAMES, 72, turn=3.0, tremor=0.4, sway=0.05, ahead=0.1, pan=6), ROOM)
    inside = folder / "room.mp4"
    pictures = (room.twin(k, camera) for k in range(TWIN_FRAMES))
    _write(inside, pictures, (2 * TWIN_SIDE, TWIN_SIDE), tagged=False)

    def in_room(frame: int, world: Array, size: tuple[int, int]) -> Bgr:
        return room.around(world, room.at(frame)[1], size)

    take, outside = twin_fisheye(TWIN_FRAMES / 30, TWIN_SIDE), folder / "twin.mp4"
    record(take, outside)

    def in_harbour(frame: int, world: Array, size: tuple[int, int]) -> Bgr:
        turns = np.repeat(world.T[None], len(take.truth), axis=0)
        return take.scene.draw(replace(take.truth, camera=AllAround(*size), rotation=turns), frame)

    turns = np.stack([room.at(k)[0].T for k in range(TWIN_FRAMES)])
    rows = []
    for name, path, straight, own in (
        ("a room of 3 m", inside, in_room, turns),
        ("harbour", outside, in_harbour, take.truth.rotation),
    ):
        rows += _twin_rows(folder, name, path, straight, own)
    unlike = folder / "unlike.mp4"
    pictures = (_unlike(room.twin(k, camera), camera) for k in range(TWIN_FRAMES))
    _write(unlike, pictures, (2 * TWIN_SIDE, TWIN_SIDE), tagged=False)
    return [*rows, _light_row(folder, unlike, in_room, turns)]


def _twin_rows(
    folder: Path, name: str, path: Path,
    straight: Callable[[int, Array, tuple[int, int]], Bgr], camera: Array,
) -> list[Row]:  # fmt: skip
    steady, size, pictures = _locked_off(folder, path, straight, camera)
    world = camera.swapaxes(1, 2) @ steady
    mean = Rotation.from_matrix(world).mean().as_matrix()
    locked = _degrees(world @ mean.T)
    seam, rest = [], []
    for index, grey, shown in pictures:
        at = cv2.goodFeaturesToTrack(grey, 1500, 0.01, 8)
        there, ok, _ = cv2.calcOpticalFlowPyrLK(grey, shown.astype(np.uint8), at, None)
        back, ok_too, _ = cv2.calcOpticalFlowPyrLK(shown.astype(np.uint8), grey, there, None)
        good = (ok[:, 0] == 1) & (ok_too[:, 0] == 1)
        good &= np.linalg.norm(back - at, axis=-1)[:, 0] < 0.5
        places, off = at[good, 0], np.linalg.norm(there - at, axis=-1)[good, 0]
        longitude = ((places[:, 0] + 0.5) / size[0] - 0.5) * 2 * np.pi
        latitude = ((places[:, 1] + 0.5) / size[1] - 0.5) * np.pi
        level = np.cos(latitude)
        rays = np.stack([level * np.sin(longitude), np.sin(latitude), level * np.cos(longitude)])
        source = (steady[index] @ rays).T
        near = np.abs(np.degrees(np.arccos(np.clip(source[:, 2], -1, 1))) - 90) < SEAM_REACH
        # Where rows shrink towards the poles, and what is below the camera, do not count.
        fair = (np.abs(np.degrees(latitude)) < 60) & (source[:, 1] < np.cos(np.radians(35)))
        seam.append(off[near & fair])
        rest.append(off[~near & fair])
    at_seam, elsewhere = np.concatenate(seam), np.concatenate(rest)
    middle = float(np.median(at_seam))
    return [
        Row(f"sphere: two fisheyes, {name}: within {SEAM_REACH:.0f}° of the seam, in place",
            "≤ 1 px", f"{middle:.2f} px, {np.percentile(at_seam, 90):.2f} px at nine of ten",
            middle <= 1, f"of a sphere {size[0]} px around; {len(at_seam)} corners; elsewhere "
            f"{np.median(elsewhere):.2f} px"),
        Row(f"sphere: two fisheyes, {name}: locked off", "≤ 0.1° rms", f"{_rms(locked):.3f}° rms",
            _rms(locked) <= 0.1),
    ]  # fmt: skip


def _locked_off(
    folder: Path, path: Path, straight: Callable[[int, Array, tuple[int, int]], Bgr], camera: Array
) -> tuple[Array, tuple[int, int], Iterator[tuple[int, Bgr, Array]]]:
    """A film locked off: its report's turns ``(n, 3, 3)``, its size; and of every twentieth frame
    its number, the luma of one that is drawn ``straight``, and its own, in full range."""
    told, out = folder / "told.json", folder / "out.mp4"
    order = ["--set", "motion.aim=lock_off", "--quality", "fine", "--report", str(told)]
    keen(["correct", str(path), str(out), *order])
    steady = np.array([f["steady"] for f in json.loads(told.read_text())["frames"]])
    found = scan(out)
    size = found.probe.width, found.probe.height

    def pictures() -> Iterator[tuple[int, Bgr, Array]]:
        for picture in frames(out, found, 0, TWIN_FRAMES - 1):
            if picture.index % 20:
                continue
            at = picture.index
            drawn = straight(at, camera[at].T @ steady[at], size)
            shown = np.clip((picture.planes[0].astype(float) - 16) * 255 / 219, 0, 255)
            yield at, cv2.cvtColor(drawn, cv2.COLOR_BGR2YUV)[..., 0], shown

    return steady, size, pictures()


def _unlike(picture: Bgr, camera: BackToBack) -> Bgr:
    """As lenses record it that lose light towards their rims, the second one darker besides; by
    the curve of BT.709."""
    lost = np.hstack([
        RIM * np.clip(np.arccos(np.clip(lens.rays[..., 2], -1, 1)) / (np.pi / 2), 0, 2) ** 3 + apart
        for lens, apart in zip(camera.lenses, (0.0, DARKER), strict=True)
    ])  # fmt: skip
    return from_light(to_light(picture) * 2.0 ** -lost[..., None])


def _light_row(
    folder: Path, path: Path, straight: Callable[[int, Array, tuple[int, int]], Bgr], camera: Array
) -> Row:
    """Stops that a film is off one that is drawn straight, over all but what is below."""
    _, size, pictures = _locked_off(folder, path, straight, camera)
    rows = slice(size[1] // 6, size[1] * 2 // 3)
    off = []
    for _, *both in pictures:
        light = [to_light(cv2.blur(grey.astype(np.float32), (31, 31))[rows]) for grey in both]
        sure = (light[0] > 0.02) & (light[0] < 0.7)
        off.append(np.log2(np.maximum(light[1], 1e-4) / np.maximum(light[0], 1e-4))[sure])
    every = np.concatenate(off)
    spread = _rms(every - np.median(every))
    return Row(f"sphere: two fisheyes, {DARKER} stop apart, {RIM} lost at the rims: light in the "
               "film", "≤ 0.1 stop rms", f"{spread:.3f} stop rms", spread <= 0.1)  # fmt: skip


def wobble_rows(folder: Path) -> list[Row]:
    """The harbour, stitched of halves that were exposed 30 ms apart: by how much far things move
    against each other, beyond one turn, before and after."""
    take = harbour_sphere(3.0, (1024, 512))
    truth = take.truth
    late = np.clip(truth.times + LATE, 0, truth.times[-1])
    turns = Slerp(truth.times, Rotation.from_matrix(truth.rotation))(late).as_matrix()
    behind = replace(truth, rotation=turns)
    ahead_of = np.clip(0.5 + AllAround(1024, 512).rays[..., 2:] / 0.1, 0, 1)

    def stitched() -> Iterator[Bgr]:
        for frame in range(len(truth)):
            one, other = (take.scene.draw(half, frame) for half in (truth, behind))
            yield np.asarray(one * ahead_of + other * (1 - ahead_of), np.uint8)

    path, out, told = folder / "late.mp4", folder / "out.mp4", folder / "told.json"
    _write(path, stitched(), (1024, 512))
    left, said = [], {}
    for stitch in ("false", "true"):
        order = ["motion.aim=lock_off", "motion.level=off", f"motion.stitch={stitch}"]
        asked = [part for one in order for part in ("--set", one)]
        keen(["correct", str(path), str(out), "--quality", "fine", "--report", str(told), *asked])
        said = json.loads(told.read_text())["stitching"]
        left.append(_bending(out))
    text = f"{left[0]:.3f}° → {left[1]:.3f}° rms"
    return [Row("sphere: halves stitched 30 ms apart: bending, in the film", "less", text,
                left[1] < left[0], f"said: {said['wobble_degrees']:.3f} ± "
                f"{said['sure_degrees']:.3f}° over the sphere")]  # fmt: skip


def _bending(path: Path) -> float:
    """Degrees rms by which far things of a locked-off film come and go within a second, beyond one
    turn of all of them: of corners above the horizon that are seen throughout."""
    found = scan(path)
    grey = [p.planes[0].copy() for p in frames(path, found, 0, found.probe.frame_count - 1)]
    rows, columns = grey[0].shape
    mask = np.zeros_like(grey[0])
    mask[rows // 4 : rows // 2 + rows // 40] = 255
    start = cv2.goodFeaturesToTrack(grey[0], 400, 0.02, 8, mask=mask)
    places, seen = [start[:, 0]], np.ones(len(start), bool)
    for picture in grey[1:]:
        there, ok, _ = cv2.calcOpticalFlowPyrLK(grey[0], picture, start, places[-1][:, None].copy(),
                                                flags=cv2.OPTFLOW_USE_INITIAL_FLOW)  # fmt: skip
        seen &= (ok[:, 0] == 1) & (np.abs(there - start).max(axis=-1)[:, 0] < 12)
        places.append(there[:, 0])
    way = np.stack(places)[:, seen] * 360 / columns
    quick = way - gaussian_filter1d(way, 0.16 * 30, axis=0, mode="nearest")
    longitude = np.radians(way[0, :, 0])
    # A small turn moves things near the horizon by so much: yaw alike, pitch and roll by a wave.
    up = np.stack([np.cos(longitude), np.sin(longitude)], axis=-1)
    fit, *_ = np.linalg.lstsq(up, quick[..., 1].T, rcond=None)
    upwards = quick[..., 1] - (up @ fit).T
    across = quick[..., 0] - np.median(quick[..., 0], axis=1, keepdims=True)
    return float(np.sqrt(np.median(across**2 + upwards**2)))


def _places_off(one: Bgr, other: Bgr) -> Array:
    """px by which corners of one picture lie elsewhere in another."""
    at = cv2.goodFeaturesToTrack(one, 400, 0.02, 12)
    there, found, _ = cv2.calcOpticalFlowPyrLK(one, other, at, None, winSize=(21, 21))
    off = np.linalg.norm((there - at)[found[:, 0] == 1][:, 0], axis=1)
    return np.asarray(off[off < np.percentile(off, 97)])


def _seam(difference: Array, turn: Array) -> float:
    """By how much more a picture differs from another where it shows the source's seam than to the
    sides of that; ``turn`` takes its rays to the source's."""
    width, height, across = VIEW
    focal = (width - 1) / 2 / np.tan(np.radians(across) / 2)
    x, y = ((np.arange(n) - (n - 1) / 2) / focal for n in (width, height))
    rays = np.stack([*np.meshgrid(x, y), np.ones((height, width))], axis=-1) @ turn.T
    # Source px from the seam, which lies behind.
    away = np.abs(np.arctan2(rays[..., 0], -rays[..., 2])) * SIZE[0] / (2 * np.pi)
    at, beside = away < 1, (away > 6) & (away < 40)
    return float(np.abs(difference)[at].mean() - np.abs(difference)[beside].mean())


def speed_rows(folder: Path, box: Box) -> list[Row]:
    """At 3840 × 1920: a measure against plain decoding, and a flat film against decoding and
    encoding one."""
    path, count = folder / "large.mp4", 240
    seen = [box.sphere(k, LARGE) for k in range(count // 4)]
    _write(path, iter([*seen, *seen[::-1]] * 2), LARGE)
    found = scan(path)
    order = ["--set", "view.angle=90", "--quality", "good"]

    def decoded() -> float:
        start = time.perf_counter()
        for _ in frames(path, found, 0, count - 1):
            pass
        return time.perf_counter() - start

    def measured() -> float:
        start = time.perf_counter()
        keen(["measure", str(path), "--json", str(folder / "told.json")])
        return time.perf_counter() - start

    def recoded() -> float:
        start = time.perf_counter()
        with av.open(str(folder / "again.mp4"), "w") as out:
            video = out.add_stream(
                "libx264", rate=30, options={"crf": "18", "preset": "fast", "threads": "2"}
            )
            video.width, video.height, video.pix_fmt = 1920, 1080, "yuv420p"
            for picture in frames(path, found, 0, count - 1):
                frame = av.VideoFrame(1920, 1080, "yuv420p")
                for plane, source in zip(frame.planes, picture.planes, strict=True):
                    own = np.ascontiguousarray(source[: plane.height, : plane.line_size])
                    plane.update(own.tobytes())
                frame.pts = picture.index
                out.mux(video.encode(frame))
            out.mux(video.encode(None))
        return time.perf_counter() - start

    def drawn() -> float:
        told = folder / "told.json"
        keen(["correct", str(path), str(folder / "view.mp4"), "--report", str(told), *order])
        return float(json.loads(told.read_text())["seconds"]["render"])

    rounds = [(decoded(), measured(), recoded(), drawn()) for _ in range(2)]
    plain, whole, again, film = (min(one) for one in zip(*rounds, strict=True))
    return [
        Row("sphere: measure, 3840 × 1920, against plain decoding", "≤ 2 ×",
            f"{whole / plain:.2f} × ({count / whole:.1f} fps)", whole <= 2 * plain),
        Row("sphere: flat 1080p film from 3840 × 1920, against decoding and encoding", "≤ 1.3 ×",
            f"{film / again:.2f} × ({count / film:.1f} fps)", film <= 1.3 * again),
    ]  # fmt: skip
