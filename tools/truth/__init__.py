"""A bed of truth that is not our own taste: ``./keen bench truth``.

Clips of photographs on planes in 3-D, corrected by the command line at its default settings, and
judged from the pixels of what it wrote. Names after ``truth`` run those clips alone.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from keen_horizon.cli.commands import main as keen
from keen_horizon.core.quality.scores import in_pixels

from ..rows import Row, say
from .boards import boards
from .claims import agrees, claims
from .judge import Judged, judged
from .moves import poses
from .scene import Array, Camera, Face, Scene, photographs, plaster

FRAMES = 150
WIDE, OLD = (1280, 720), (960, 720)
MS = 30 / 1000  # frames


def room() -> tuple[Face, ...]:
    """A slanting wall, a side wall, and a board before them; photographs on all."""
    wall = photographs(6, 4)
    return (
        Face(wall, np.array([-9.0, -6, 6.4]), np.array([18.0, 0, 1.4]), np.array([0.0, 12, 0])),
        Face(wall, np.array([3.2, -5, 7.6]), np.array([1.4, 0, -6.4]), np.array([0.0, 10, 0])),
        Face(photographs(2, 3, 3), np.array([-3.4, -1.2, 4.6]), np.array([1.6, 0, 0.2]),
             np.array([0.0, 2.4, 0])),
    )  # fmt: skip


def walker(frame: float) -> Array:
    """Somebody who goes to and fro, and steps."""
    s = frame / 30
    return np.array(
        [0.55 * np.sin(2 * np.pi * 0.17 * s + 0.7), 0.03 * np.cos(2 * np.pi * 1.9 * s), 0]
    )


def hand(frame: float) -> Array:
    """A hand that turns something before the camera."""
    s = frame / 30
    return np.array([0.05 * np.sin(2 * np.pi * 0.7 * s), 0.04 * np.sin(2 * np.pi * 1.6 * s + 1), 0])


def person() -> Face:
    return Face(photographs(2, 2, 1), np.array([-0.65, -0.85, 2.5]), np.array([1.3, 0, 0]),
                np.array([0.0, 1.75, 0]), walker)  # fmt: skip


def bare() -> tuple[Face, ...]:
    return (
        Face(plaster(), np.array([-4.0, -3, 3.0]), np.array([8.0, 0, 0.3]), np.array([0.0, 6, 0])),
        Face(photographs(1, 1, 4), np.array([-0.25, -0.2, 1.3]), np.array([0.5, 0, 0]),
             np.array([0.0, 0.45, 0]), hand),
    )  # fmt: skip


@dataclass(frozen=True)
class Clip:
    """``left`` is the bar, percent of the shake; None for no bar but not to be shakier. Of one that
    hardly ``tells`` anything, no more is asked."""

    name: str
    scene: Callable[[], Scene]
    left: float | None = None
    options: tuple[str, ...] = field(default=())
    tells: bool = True


def _scene(degrees: float, seed: int, *, size: tuple[int, int] = WIDE, readout: float = 0.0,
           k1: float = 0.0, faces: tuple[Face, ...] | None = None, exposure: float = 0.0,
           light: float = 1.0, noise: float = 1.5, **moves: float) -> Scene:  # fmt: skip
    camera = Camera(*size, degrees, k1, readout * MS)
    return Scene(camera, room() if faces is None else faces, poses(FRAMES, seed, **moves), FRAMES,
                 exposure=exposure, light=light, noise=noise)  # fmt: skip


WALK = {"turn": 0.6, "tremor": 0.2, "sway": 0.02, "steps": 0.018, "ahead": 0.25, "pan": 2.0}
CLIPS = (
    Clip("by hand, still, 60°", lambda: _scene(60, 1, turn=0.4, tremor=0.2)),
    Clip("by hand, panning, 60°", lambda: _scene(60, 2, turn=0.8, tremor=0.25, pan=4), 4),
    Clip("walking, 60°", lambda: _scene(60, 3, **WALK), 4),
    Clip("walking, 90°", lambda: _scene(90, 4, **WALK), 4),
    Clip("walking, 40°, 4:3", lambda: _scene(40, 5, size=OLD, **WALK), 4),
    Clip("pushing in, 60°", lambda: _scene(60, 6, turn=0.8, tremor=0.2, ahead=0.6), 4),
    Clip("a jolt, 60°", lambda: _scene(60, 7, turn=0.7, tremor=0.15, jolt=2.5, pan=2), 8),
    Clip("subject over 40 %", lambda: _scene(60, 8, faces=(*room(), person()), turn=0.8,
                                             tremor=0.25, pan=1.5), 6),
    Clip("22 ms, by hand", lambda: _scene(60, 9, readout=22, turn=1.0, tremor=0.25, pan=3), 8),
    Clip("22 ms, walking", lambda: _scene(60, 10, readout=22, **WALK), 8),
    Clip("10 ms, by hand", lambda: _scene(60, 11, readout=10, turn=1.0, tremor=0.25, pan=3), 8),
    Clip("10 ms, walking", lambda: _scene(60, 12, readout=10, **WALK), 8),
    Clip("strong blur", lambda: _scene(60, 13, turn=1.1, tremor=0.45, exposure=0.9, pan=2), 10),
    Clip("low light", lambda: _scene(60, 14, turn=0.9, tremor=0.25, light=0.16, noise=5,
                                     pan=2), 10),
    Clip("plain wall, moving hand", lambda: _scene(60, 15, faces=bare(), turn=0.12, tremor=0.05),
         tells=False),
    Clip("barrel of 5 %, turning", lambda: _scene(80, 16, k1=-0.075, turn=1.2, tremor=0.25,
                                                  pan=4), 8),
)  # fmt: skip


def record(scene: Scene, path: Path) -> None:
    """The scene as a camera would write it: H.264, BT.709."""
    with av.open(str(path), "w") as out:
        options = {"crf": "14", "preset": "veryfast", "threads": "2"}
        video = out.add_stream("libx264", rate=Fraction(int(scene.rate)), options=options)
        video.width, video.height = scene.camera.width, scene.camera.height
        video.pix_fmt = "yuv420p"
        for i, picture in enumerate(scene.pictures()):
            frame = av.VideoFrame.from_ndarray(picture, "bgr24")
            frame.pts = i
            out.mux(video.encode(frame))
        out.mux(video.encode(None))


def corrected(source: Path, output: Path, options: tuple[str, ...]) -> dict[str, Any]:
    """What the command line makes of it by default; its report."""
    report = output.with_suffix(".json")
    status = keen(["correct", str(source), str(output), "--report", str(report), *options])
    if status:
        raise RuntimeError(f"keen correct ended with {status}")
    return json.loads(report.read_text())


def truth(folder: Path, names: tuple[str, ...] = (), options: tuple[str, ...] = ()) -> list[Row]:
    """Rows of all clips, or of those whose names hold one of ``names``."""
    say("the bed of truth")
    rows: list[Row] = []
    for clip in CLIPS:
        if names and not any(name in clip.name for name in names):
            continue
        say(clip.name)
        scene = clip.scene()
        source = folder / f"{clip.name}.mp4"
        if not source.exists():
            record(scene, source)
        output = folder / f"{clip.name}, corrected.mp4"
        report = corrected(source, output, (*clip.options, *options))
        found = _rows(clip, scene, judged(scene, source, output), report)
        found += claims(f"truth: {clip.name}", scene, source, folder / f"{clip.name}.tracks")
        say("; ".join(f"{row.what}: {row.measured}" for row in found))
        rows += found
    if not names:
        rows += boards()
    return rows


def _rows(clip: Clip, scene: Scene, found: Judged, report: dict[str, Any]) -> list[Row]:
    name = f"truth: {clip.name}"
    left = f"{found.left:.1f} % ({found.before:.2f} → {found.shake:.2f} px)"
    bar = 100.0 if clip.left is None else clip.left
    note = "; ".join(str(note) for note in report["notes"])
    if found.lost:
        note += f" {found.lost} frames could not be registered"
    rows = [Row(f"{name}: shake left", f"≤ {bar:g} %", left, found.left <= bar, note)]
    told = (
        ("said", report["shake_after"], report["shake_after_sure"]),
        ("measured again in the file", report["shake_measured_again"],
         report["shake_measured_again_sure"]),
    )  # fmt: skip
    for what, px, sure in told:
        rows.append(Row(f"{name}: shake left {what}, against the true one",
                        "within what it is sure to", f"{in_pixels(px, sure)}, true "
                        f"{found.shake:.2f} px", agrees(px, sure, found.shake)))  # fmt: skip
    jump = f"{found.jump:.1f} px of {found.jump_before:.1f}"
    rows.append(Row(f"{name}: largest jump between frames", "≤ the source's", jump,
                    found.jump <= found.jump_before))  # fmt: skip
    if report["treatment"]["motion"]["aim"] == "lock_off":
        still = f"{found.still:.2f} px rms, worst {found.strayed:.2f} px"
        if clip.tells:
            lock, met = "≤ 0.3 px rms, worst ≤ 1 px", found.still <= 0.3 and found.strayed <= 1.0
        else:
            lock, met = (
                f"≤ {found.still_before:.2f} px, the source's",
                found.still <= found.still_before,
            )
        rows.append(Row(f"{name}: locked off, against one frame", lock, still, met))
    return rows + _camera_rows(name, scene.camera, report)


def _camera_rows(name: str, camera: Camera, report: dict[str, Any]) -> list[Row]:
    """What was found out about the camera."""
    rows = []
    true, found = camera.readout / MS, report["treatment"]["shutter"]["readout"]
    off = abs(found - true) / true if true else found
    rows.append(Row(f"{name}: readout found", "within 5 %" if true else "none",
                    f"{found:.1f} ms of {true:.0f}", off <= 0.05))  # fmt: skip
    angle = report["camera"]["angle_of_view"]
    if angle is not None:
        across = angle["across"]
        told = "cannot be told" if across is None else f"{across:.1f}° of {camera.across:g}°"
        met = across is None or abs(across / camera.across - 1) <= 0.03
        doubt = "" if across is None else f"said to be sure to {2 * angle['standard_error']:.1f}°"
        rows.append(Row(f"{name}: angle of view", "within 3 %, or not told", told, met, doubt))
    if angle is not None and camera.k1 and angle["across"] is not None:
        off = _lens_error(camera, angle["across"], angle["distortion"])
        rows.append(Row(f"{name}: lens from motion", "≤ 0.5 px rms over the frame",
                        f"{off:.2f} px", off <= 0.5))  # fmt: skip
    return rows


def _lens_error(camera: Camera, across: float, k: list[float]) -> float:
    """Rms px over the frame between where rays are and where a lens that was found has them."""
    x, y = np.meshgrid(np.linspace(0, camera.width - 1, 33), np.linspace(0, camera.height - 1, 19))
    pixels = np.stack([x.ravel(), y.ravel()], axis=-1)
    rays = camera.rays(pixels)[:, :2]
    side = np.tan(np.radians(across) / 2)

    def bend(r2: Array | float) -> Array | float:
        return 1 + sum(c * r2**i for i, c in enumerate(k, 1))

    focal = (camera.width - 1) / 2 / (side * bend(side**2))
    seen = rays * bend((rays**2).sum(axis=1, keepdims=True)) * focal + camera.middle
    return float(np.sqrt(((seen - pixels) ** 2).sum(axis=1).mean()))
