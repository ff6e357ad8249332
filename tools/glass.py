"""Benchmarks of Glass and Finish: ``./keen bench glass``.

Truth is a make-believe lens of this file's own, before the simulated harbour's pictures and before
photographs on walls: light by the fourth power of a cosine, colours by a polynomial; recorded as
H.264 at ordinary quality.
"""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.special import erf

from keen_horizon.cli.commands import main as keen
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.live_area import LiveArea
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.core.media.decode import Picture, frame_at, frames
from keen_horizon.core.media.encode import Encoding
from keen_horizon.core.media.planes import plane_view
from keen_horizon.core.media.probe import Scan, scan
from keen_horizon.core.picture.working_space import working_space
from keen_horizon.core.pipeline import Estimates, exact_view, find_glass, measure
from keen_horizon.core.pipeline.render_clip import Drawing, render
from keen_horizon.core.stations.finish.sharpen import Sharpen, gain_for
from keen_horizon.core.stations.glass.fall_off import FallOffGain, fall_off_of
from keen_horizon.core.stations.glass.halo import Halo
from keen_horizon.core.stations.glass.lateral import LateralColour, lateral_of
from keen_horizon.core.stations.glass.settings import GlassSettings
from keen_horizon.simulated.brindle_quay import quay_walk, slip_descent
from keen_horizon.simulated.glow import Glow
from keen_horizon.simulated.shade import from_light, to_light
from keen_horizon.simulated.wall import photograph_wall

from .rows import Row, say
from .truth import room
from .truth.moves import poses
from .truth.scene import Camera, Scene

Array = NDArray[np.float64]
Bgr = NDArray[np.uint8]
SIZE = (1280, 720)
ORDINARY = {"crf": "20", "preset": "medium", "g": "30", "threads": "2"}  # a key frame a second


@dataclass(frozen=True)
class Lens:
    """Lengths in halves of the diagonal. ``slant``: the tangent of the angle of rays at radius 1;
    ``red`` and ``blue`` lie further out than green by so much of r and r³. ``ring`` is the radius
    of a filter's ring; ``hood`` a straight edge, how far out it is and which way, radians; both,
    out of focus, darken from ``soft`` inside to as much outside."""

    slant: float = 0.62
    middle: tuple[float, float] = (0.03, -0.02)
    red: tuple[float, float] = (0.0012, 0.0009)
    blue: tuple[float, float] = (-0.0008, -0.0012)
    ring: float | None = None
    hood: tuple[float, float] | None = None
    soft: float = 0.04

    def off(self, places: Array, middle: tuple[float, float] = (0.0, 0.0)) -> Array:
        size = np.array(SIZE) - 1
        return (places - size / 2) / (np.hypot(*size) / 2) - np.array(middle)

    def passed(self, places: Array) -> Array:
        """The share of light that comes through at pixels ``(..., 2)``."""
        off = self.off(places, self.middle)
        square = (off**2).sum(axis=-1)
        light = (1 + square * self.slant**2) ** -2.0
        if self.ring is not None:
            light = light * self._open(self.ring - np.sqrt(square))
        if self.hood is not None:
            far, way = self.hood
            light = light * self._open(far - off @ np.array([np.cos(way), np.sin(way)]))
        return np.asarray(light)

    def _open(self, inside: Array) -> Array:
        """The share of a round pupil that an edge out of focus leaves open."""
        t = np.clip(inside / self.soft, -1, 1)
        return np.asarray((np.arccos(-t) + t * np.sqrt(1 - t**2)) / np.pi)

    def parted(self, places: Array, colour: tuple[float, float]) -> Array:
        """By how many px a colour lies off green."""
        off = self.off(places)
        square = (off**2).sum(axis=-1, keepdims=True)
        return off * (colour[0] + colour[1] * square) * np.hypot(*(np.array(SIZE) - 1)) / 2

    def taken(self, picture: Bgr) -> Bgr:
        """A picture as it comes through; sampled where each colour came from."""
        places = np.stack(np.meshgrid(*(np.arange(n, dtype=float) for n in SIZE)), axis=-1)
        out = picture.copy()
        for channel, colour in ((2, self.red), (0, self.blue)):
            came = places
            for _ in range(4):
                came = places - self.parted(came, colour)
            out[..., channel] = cv2.remap(
                picture[..., channel], came.astype(np.float32), None, cv2.INTER_CUBIC,
                borderMode=cv2.BORDER_REPLICATE,
            )  # fmt: skip
        return from_light(to_light(out) * self.passed(places)[..., None])


def glass(folder: Path) -> list[Row]:
    say("glass and finish")
    lens = Lens()
    rows: list[Row] = []
    for name, pictures in _clips().items():
        say(name)
        path = folder / f"{name}.mp4"
        _record(map(lens.taken, pictures), path)
        told = folder / f"{name}.json"
        if keen(["glass", str(path), "--json", str(told)]):
            raise RuntimeError("keen glass did not work")
        rows += _found_rows(name, json.loads(told.read_text()), lens)
    rows += dead_rows(folder)
    rows += [*even_rows(folder, lens), *fringe_rows(folder, lens), halo_row(), *sharp_rows()]
    return [*rows, *speed_rows(folder, lens), bit_row(folder)]


def _clips() -> dict[str, Iterator[Bgr]]:
    walk, slip = replace(quay_walk(4.0), noise=1.0), replace(slip_descent(4.0), noise=1.0)
    camera = Camera(*SIZE, 60)
    turning = Scene(camera, room(), poses(120, 31, turn=1.5, tremor=0.2, pan=6), 120, noise=1.0)
    walking = Scene(camera, room(), poses(120, 32, turn=0.8, tremor=0.2, sway=0.03, pan=4), 120,
                    noise=1.0)  # fmt: skip
    return {
        "quay walk": walk.frames(), "slip descent": slip.frames(),
        "photographs, turning": turning.pictures(), "photographs, walking": walking.pictures(),
    }  # fmt: skip


def _record(pictures: Iterator[Bgr], path: Path, options: dict[str, str] | None = None) -> None:
    with av.open(str(path), "w") as out:
        video = out.add_stream("libx264", rate=Fraction(30), options=options or ORDINARY)
        video.width, video.height = SIZE
        video.pix_fmt = "yuv420p"
        video.codec_context.colorspace = video.codec_context.color_trc = 1
        video.codec_context.color_primaries = 1
        for i, picture in enumerate(pictures):
            frame = av.VideoFrame.from_ndarray(picture, "bgr24")
            frame = frame.reformat(format="yuv420p", dst_colorspace="ITU709")
            frame.pts = i
            out.mux(video.encode(frame))
        out.mux(video.encode(None))


HOODS = {
    "a filter's ring": Lens(slant=0.45, ring=0.88),
    "a hood on one side": Lens(slant=0.45, hood=(0.8, np.radians(215))),
}


def dead_rows(folder: Path) -> list[Row]:
    """Dead corners by the area found, and light outside of them; dead is what lets less than a
    quarter of the light through, two stops."""
    rows = []
    places = np.stack(np.meshgrid(*(np.arange(n, dtype=float) for n in SIZE)), axis=-1)
    for what, lens in HOODS.items():
        true = lens.passed(places) < 0.25
        for name, pictures in _clips().items():
            if name not in ("quay walk", "photographs, turning"):
                continue
            say(f"{name}, {what}")
            path, told = folder / f"hood {name}.mp4", folder / f"hood {name}.json"
            _record(map(lens.taken, pictures), path)
            keen(["glass", str(path), "--json", str(told)])
            found = json.loads(told.read_text())
            live = (found["settings"] or {}).get("live")
            mine = np.zeros(SIZE[::-1], bool)
            if live:
                mine = LiveArea.within(Canvas(*SIZE), np.array(live)).mask(*SIZE) == 0
            both = float((mine & true).sum() / max((mine | true).sum(), 1))
            rows.append(Row(f"glass: {name}, {what}: dead corners, area found", "IoU ≥ 0.9",
                            f"{both:.2f}", both >= 0.9,
                            f"{100 * true.mean():.1f} % of the picture"))  # fmt: skip
            if found["gain"] is None:
                continue
            at = _lattice(found)
            seen = lens.passed(at) > 0.25
            off = np.log2(np.array(found["gain"])) + np.log2(lens.passed(at))
            clear = replace(lens, soft=1e-6).passed(at) > 0.25
            off = (off - off[off.shape[0] // 2, off.shape[1] // 2])[seen & clear]
            rms = float(np.sqrt((off**2).mean()))
            rows.append(Row(f"glass: {name}, {what}: gain outside of them", "≤ 0.05 stop rms",
                            f"{rms:.3f} stop", rms <= 0.05))  # fmt: skip
    return rows


def _lattice(told: dict[str, Any]) -> Array:
    x, y = (np.linspace(0, n - 1, told[k]) for n, k in zip(SIZE, ("columns", "rows"), strict=True))
    return np.stack(np.meshgrid(x, y), axis=-1)


def _found_rows(name: str, told: dict[str, Any], lens: Lens) -> list[Row]:
    rows = []
    places = _lattice(told)
    bar = "≤ 0.05 stop rms, ≤ 0.15 worst"
    what = f"glass: {name}: gain over the frame, from the clip"
    if told["gain"] is None:
        rows.append(Row(what, bar, "not told", False, told["words"][0]))
    else:
        rms, worst = _stops_off(np.log2(np.array(told["gain"])), -np.log2(lens.passed(places)))
        met = rms <= 0.05 and worst <= 0.15
        said = f"said ± {2 * told['gain_doubt']:.2f}"
        rows.append(Row(what, bar, f"{rms:.3f}, {worst:.2f} stop", met, said))
    for colour, truth, doubt in zip(
        ("red", "blue"), (lens.red, lens.blue), told["colour_doubt"], strict=True
    ):
        what = f"glass: {name}: {colour}'s place, from the clip"
        if told[colour] is None:
            rows.append(Row(what, "≤ 0.1 px rms", "not told", False, told["words"][1]))
            continue
        off = np.array(told[colour]) - lens.parted(places, truth)
        rms = float(np.sqrt((off**2).sum(axis=-1).mean()))
        most = float(np.linalg.norm(lens.parted(places, truth), axis=-1).max())
        rows.append(Row(what, "≤ 0.1 px rms", f"{rms:.3f} px of up to {most:.1f}", rms <= 0.1,
                        f"said ± {2 * doubt:.2f} px"))  # fmt: skip
    return rows


def _stops_off(found: Array, true: Array) -> tuple[float, float]:
    """Rms and worst, against the middle."""
    off = found - true
    off = off - off[off.shape[0] // 2, off.shape[1] // 2]
    return float(np.sqrt((off**2).mean())), float(np.abs(off).max())


def even_rows(folder: Path, lens: Lens) -> list[Row]:
    """Plaster, photographed at three lights, as JPEGs."""
    clip = folder / "quay walk.mp4"
    places = np.stack(np.meshgrid(*(np.arange(n, dtype=float) for n in SIZE)), axis=-1)
    rows = []
    for k, (across, down, level) in enumerate(
        ((0.0, 0.0, 0.5), (0.4, -0.2, 0.35), (0.8, 0.3, 0.6))
    ):
        photo, told = folder / f"wall {k}.jpg", folder / f"wall {k}.json"
        photograph_wall(photo, lens.passed(places), (across, down), level)
        keen(["glass", str(clip), "--range", "0:30", "--json", str(told), "--even", str(photo)])
        found = json.loads(told.read_text())
        true = -np.log2(lens.passed(_lattice(found)))
        rms, worst = _stops_off(np.log2(np.array(found["gain"])), true)
        lit = f"lighting changes by {abs(across) + abs(down):.1f} stops"
        rows.append(Row(f"glass: even photograph {k + 1}: gain over the frame", "≤ 0.02 stop rms",
                        f"{rms:.4f}, worst {worst:.3f} stop", rms <= 0.02, lit))  # fmt: skip
    return rows


def fringe_rows(folder: Path, lens: Lens) -> list[Row]:
    """What is left of fringes in a file, where chroma is off by more than a codec would have it:
    against the same clip through glass that parts nothing, exported alike; by the glass that was
    found."""
    rows = []
    for name, taken in (
        ("photographs", Scene(Camera(*SIZE, 60), room(), poses(12, 31, pan=6), 12, noise=0.0)),
        ("quay walk", replace(quay_walk(0.4), noise=0.0)),
    ):
        pictures = list(taken.pictures() if isinstance(taken, Scene) else taken.frames())
        plain = replace(lens, slant=0.0)
        clean, fringed, out, alike = (folder / f"fringes {name} {k}.mp4" for k in "cfoa")
        _record(iter(pictures), clean)
        _record(map(plain.taken, pictures), fringed)
        order = ["--quality", "fine", "--set", "motion.on=false", "--set"]
        keen(["correct", str(fringed), str(out), *order, "glass.find=true"])
        keen(["correct", str(clean), str(alike), *order, "glass.on=false"])
        chroma = [
            [p.astype(float) for p in frame_at(path, scan(path), 0).planes[1:]]
            for path in (clean, fringed, alike, out)
        ]
        inner = np.s_[8:-8, 8:-8]
        off = [
            np.hypot(*(chroma[b][k][inner] - chroma[a][k][inner] for k in (0, 1)))
            for a, b in ((0, 1), (2, 3))
        ]
        seen = off[0] > 6  # code values: what an eye finds
        gone = 1 - float((off[1][seen] ** 2).sum() / (off[0][seen] ** 2).sum())
        rows.append(Row(f"glass: {name}: fringes gone in the file, by energy", "≥ 85 %",
                        f"{100 * gone:.0f} %", gone >= 0.85,
                        f"{100 * seen.mean():.1f} % of the picture is fringed"))  # fmt: skip
    return rows


def halo_row() -> Row:
    """Bars before a bright sky, and flowers away from it."""
    before, after = rims()
    told = GlassSettings()
    stage = Halo(np.ones(1), told.halo_width / 100 * SIZE[1], (told.halo_hue, told.halo_other),
                 SIZE[1], SIZE[0])  # fmt: skip
    changed = stage.apply(after, working_space({}, 8, SIZE[1]), 0)
    off = [
        np.hypot(*(one.planes[k].astype(float) - before.planes[k] for k in (1, 2)))
        for one in (after, changed)
    ]
    rim = off[0] > 4
    gone = 1 - float(off[1][rim].sum() / off[0][rim].sum())
    away = max(
        int(np.abs(changed.planes[k].astype(int) - after.planes[k])[250:].max()) for k in (1, 2)
    )
    return Row(
        "glass: halo at its full strength: rims gone; change away from bright edges",
        "≥ 70 %; ≤ 1 code value", f"{100 * gone:.0f} %; {away}", gone >= 0.7 and away <= 1,
    )  # fmt: skip


def pictured(bgr: Bgr, form: str = "yuv420p") -> Picture:
    """A picture as a camera hands it to its encoder: ``yuv420p``, or ``yuv444p``."""
    frame = av.VideoFrame.from_ndarray(bgr, "bgr24").reformat(format=form, dst_colorspace="ITU709")
    y, u, v = (plane_view(plane, deep=False).copy() for plane in frame.planes)
    chroma, site = ((2, 2), (0.0, 0.5)) if form == "yuv420p" else ((1, 1), (0.0, 0.0))
    return Picture(0, 0, (y, u, v), chroma, site, form)


def rims() -> tuple[Picture, Picture]:
    """Dark bars before a bright sky, and purple flowers below, well away from it; without and with
    the glow of the sky."""
    clean = np.full((SIZE[1], SIZE[0], 3), 240, np.uint8)
    for k in range(12):
        cv2.line(clean, (60 + 110 * k, 0), (100 + 100 * k, 400), (46, 45, 44), 34, cv2.LINE_AA)
    clean[400:] = (70, 90, 80)
    for k in range(20):
        cv2.circle(clean, (40 + 62 * k, 600), 16, (200, 60, 150), -1, cv2.LINE_AA)
    clean = cv2.GaussianBlur(clean, (0, 0), 0.8)
    return pictured(clean), pictured(Glow().spread(clean))


# --- sharpness ------------------------------------------------------------------------------------


def contrast_transfer_50(picture: np.ndarray) -> tuple[float, float]:
    """The fineness at which an upright slanted edge keeps half its contrast, cycles a px (MTF50,
    after ISO 12233: the edge's rows laid over each other at a quarter px); and by what share of its
    height it swings over."""
    rows, columns = picture.shape
    grey = picture.astype(float)
    slope = np.abs(np.diff(grey, axis=1))
    slope[slope < 0.05 * slope.max()] = 0
    middle = (slope * (np.arange(columns - 1) + 0.5)).sum(axis=1) / slope.sum(axis=1)
    line = np.polyfit(np.arange(rows), middle, 1)
    y, x = np.mgrid[0:rows, 0:columns]
    away = (x - np.polyval(line, y)) * np.cos(np.arctan(line[0]))
    at = np.floor(away * 4).astype(int) + 80
    inside = (at >= 0) & (at < 160)
    count = np.bincount(at[inside], minlength=160)
    edge = np.bincount(at[inside], grey[inside], minlength=160) / np.maximum(count, 1)
    low, high = np.median(edge[:30]), np.median(edge[-30:])
    over = max(edge.max() - high, low - edge.min()) / (high - low)
    spectrum = np.abs(np.fft.rfft(np.diff(edge) * np.hamming(159), 2048))
    fineness = np.fft.rfftfreq(2048, 0.25)
    transfer = spectrum / spectrum[0] / np.maximum(np.sinc(fineness * 0.25), 0.1)
    k = int(np.argmax(transfer < 0.5))
    part = (transfer[k - 1] - 0.5) / (transfer[k - 1] - transfer[k])
    return float(fineness[k - 1] + part * (fineness[k] - fineness[k - 1])), float(over)


def sharp_rows() -> list[Row]:
    rows = []
    space = working_space({}, 8, 1080)
    for blur in (0.6, 0.8, 1.0):
        y, x = np.mgrid[0:240, 0:240].astype(float)
        away = (x - 120 - (y - 120) * np.tan(np.radians(5))) * np.cos(np.radians(5))
        source = np.rint(60 + 65 * (1 + erf(away / blur / np.sqrt(2)))).astype(np.uint8)
        off = 239 / 2 * (1 - 1 / 1.15)
        matrix = np.array([[1 / 1.15, 0, off], [0, 1 / 1.15, off]])
        drawn = cv2.warpAffine(source, matrix, (240, 240), borderMode=cv2.BORDER_REPLICATE,
                               flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP)  # fmt: skip
        was, dull = contrast_transfer_50(source)[0], contrast_transfer_50(drawn)[0]
        zoom = np.array([1.15])
        Sharpen(gain_for(zoom), zoom, 0.04, 0.008).apply(drawn, space, 0)
        now, over = contrast_transfer_50(drawn)
        share = now / was
        met = 0.95 <= share <= 1.05 and over <= 0.05
        rows.append(Row(f"finish: MTF50 after × 1.15, edge of {blur} px",
                        "95–105 %, overshoot ≤ 5 %",
                        f"{100 * share:.0f} % ({100 * dull / was:.0f} % without), "
                        f"{100 * over:.1f} %", met))  # fmt: skip
    return rows


# --- speed ----------------------------------------------------------------------------------------


def speed_rows(folder: Path, lens: Lens) -> list[Row]:
    """Ten seconds of 1080p: finding all, and an export with both against one without."""
    path = folder / "large.mp4"
    pictures = Scene(Camera(1920, 1080, 60), room(), poses(300, 31, turn=1, pan=2), 300).pictures()
    with av.open(str(path), "w") as out:
        video = out.add_stream("libx264", rate=Fraction(30), options=ORDINARY)
        video.width, video.height, video.pix_fmt = 1920, 1080, "yuv420p"
        for i, picture in enumerate(pictures):
            frame = av.VideoFrame.from_ndarray(picture, "bgr24")
            frame.pts = i
            out.mux(video.encode(frame))
        out.mux(video.encode(None))
    found = scan(path)
    tracks = measure(path, found, 0, 299, folder / "large tracks")
    estimates = Estimates(tracks, found.probe.canvas)
    estimates.recorded("similarity")
    start = time.perf_counter()
    find_glass(path, found, estimates)
    took = time.perf_counter() - start
    canvas = Canvas(1920, 1080)
    settings = GlassSettings(loss_r2=0.8, red_r=1.2, blue_r=-0.8)
    ones, zoom = np.ones(300), np.full(300, 1.05)
    stages = (
        LateralColour(lateral_of(settings, canvas), ones),
        FallOffGain(fall_off_of(settings, canvas), ones, 2.0),
        Sharpen(gain_for(zoom), zoom, 0.04, 0.008),
    )
    sway = Similarities(np.ones(90, complex), np.linspace(0, 9, 90) + 0.5j)
    chain = WarpChain(canvas, View(canvas, 1.05), (sway,), 90)
    seconds = []
    for pixels in ((), stages) * 2:
        start = time.perf_counter()
        render(path, found, Drawing(chain, pixels=pixels), 0, folder / "large out.mp4",
               encoding=Encoding())  # fmt: skip
        seconds.append(time.perf_counter() - start)
    ratio = min(seconds[1::2]) / min(seconds[::2])
    slowest = _slowest_exact_view(path, found, Drawing(chain, pixels=stages))
    return [
        Row("glass: find all of it, 300 frames of 1080p", "≤ 6 s", f"{took:.1f} s", took <= 6),
        Row("exact view, 1080p, with its pictures written: slowest of four", "≤ 1.5 s",
            f"{slowest:.2f} s", slowest <= 1.5),
        Row("glass and finish: export with both, 1080p, against without", "≤ 1.8 ×",
            f"{ratio:.2f} × ({90 / min(seconds[1::2]):.1f} fps)", ratio <= 1.8),
    ]  # fmt: skip


def _slowest_exact_view(path: Path, found: Scan, drawing: Drawing) -> float:
    """Seconds until both pictures of a frame lie there; one is as far from a key frame as any."""
    options = [cv2.IMWRITE_PNG_COMPRESSION, 1]
    exact_view(path, found, drawing, 0, 0)  # what a worker that draws has read and built already
    seconds = []
    for frame in (29, 45, 60, 88):
        start = time.perf_counter()
        view = exact_view(path, found, drawing, 0, frame)
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(lambda one: cv2.imencode(".png", one, options),
                          (view.recorded, view.treated)))  # fmt: skip
        seconds.append(time.perf_counter() - start)
    return max(seconds)


def bit_row(folder: Path) -> Row:
    """With both off, an export is the same to the last bit as one of a treatment without them."""
    path = folder / "quay walk.mp4"
    pixels = []
    for k, options in enumerate(([], ["--set", "glass.on=false", "--set", "finish.on=false"])):
        out = folder / f"off {k}.mp4"
        keen(["correct", str(path), str(out), "--range", "0:20", *options])
        pixels.append([p.planes for p in frames(out, scan(out), 0, 20)])
    same = all(
        np.array_equal(one, other)
        for mine, theirs in zip(*pixels, strict=True)
        for one, other in zip(mine, theirs, strict=True)
    )
    return Row("glass and finish off: an export against one of a default treatment", "same pixels",
               "the same" if same else "another", same)  # fmt: skip
