"""A sphere from file to film: measure, solve, draw; a sphere again, or what a flat camera sees in
it.

As for flat clips (:mod:`.measure_tracks`, :mod:`.solve_clip`, :mod:`.render_clip`), in one module
as long as it is short: nothing has to be cropped to steady a sphere, so there is no zoom to be
solved for.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from ..errors import BadSetting, disk_errors
from ..geometry.canvas import Canvas
from ..geometry.keyframes import Key
from ..geometry.projection import Camera, Equirectangular
from ..media.decode import frame_at, frames, working_format
from ..media.encode import Encoding, Mp4Writer
from ..media.probe import Scan, scan
from ..media.spherical import SphereTag
from ..motion.sphere_turns import SphereMotion, poses_of, sphere_motion
from ..motion.uprights import EdgeFinder, Edges, Vertical, levelled, vertical
from ..path.sphere_path import AXES, cut_off, followed_path
from ..picture.sphere_warp import SphereSampler, warp_sphere
from ..stations.motion import MOTION
from ..stations.station import Report
from ..stations.view import VIEW
from ..stations.view.station import camera_at, looks_of, view_values
from ..tracking.sphere_features import SphereTracker
from ..tracking.tracks import Tracks, TracksWriter
from ..treatment import Treatment
from ..types import Real
from .measure_tracks import Progress, check_range, silent
from .render_clip import Rendered

PIECE = 8.0  # seconds of a clip that have a vertical of their own
ALIKE, ALIKE_SIZE = 0.6, (96, 48)  # correlation of two eyes from which on they look alike
HALF_TURN = np.diag([-1.0, -1.0, 1.0])
LEAST_LOOKS, LOOK_EVERY = 10, 30  # frames that are looked at for edges
SHAKES = 1.0  # Hz from which on turning counts as shake
CALM_OF = {"pitch": "updown", "yaw": "across", "roll": "roll"}  # a sphere's axes among the settings
TWO_EYES = ("top-bottom", "left-right")
CONVENTIONS = (
    "previous_to_this and steady are 3 x 3 rotations of rays (x right, y down, z forward) as "
    "columns: from the frame before to this one, and from the output's rays to the source's"
)


def measure_sphere(
    path: Path, scan: Scan, first: int, last: int, folder: Path, progress: Progress = silent
) -> Tracks:
    """Follow features through frames ``first`` to ``last`` of a sphere, in its first eye if it has
    two; as :func:`.measure`."""
    check_range(scan, first, last)
    eye = first_eye(scan)
    tracker = SphereTracker(eye)
    with disk_errors(folder, about=path), TracksWriter(folder, tracker) as writer:
        start = first + writer.resumed
        for picture in frames(path, scan, start, last, luma_only=True):
            luma = picture.planes[0]
            writer.add(tracker.step(luma[: eye.height, : eye.width]))
            progress(picture.index - first + 1, last - first + 1)
        writer.close(scan.times[first : last + 1], first)
    return Tracks.read(folder)


def find_edges(
    path: Path, scan: Scan, motion: SphereMotion, progress: Progress = silent
) -> list[tuple[int, Edges]]:
    """The straight edges of some frames of a measured sphere, with the frame's number in the range,
    in the frame's own axes."""
    n, first, eye = len(motion), motion.timeline.first, first_eye(scan)
    finder = EdgeFinder(eye)
    wanted = np.unique(np.linspace(0, n - 1, min(n, max(LEAST_LOOKS, n // LOOK_EVERY))).astype(int))
    found = []
    for k, at in enumerate(wanted.tolist()):
        luma = frame_at(path, scan, first + at, luma_only=True).planes[0]
        found.append((at, finder(luma[: eye.height, : eye.width])))
        progress(k + 1, len(wanted))
    return found


def tag_of(scan: Scan) -> SphereTag:
    """What is known of a clip that is taken for a sphere: a plain one, if its file says nothing."""
    return scan.probe.sphere or SphereTag()


def first_eye(scan: Scan) -> Canvas:
    """The size of a sphere's picture, for one eye. Raises BadSetting for one that is none."""
    width, height = scan.probe.width, scan.probe.height
    tag = tag_of(scan)
    if tag.projection != "equirectangular":
        raise BadSetting(
            f"the file says that its projection is a {tag.projection}, which is not read here.",
            remedy="Export it as equirectangular first.",
        )
    if any(tag.bounds):
        raise BadSetting(
            "the file holds only a part of a sphere, which cannot be steadied here.",
            remedy="Export it whole, the missing part black.",
        )
    if tag.stereo == "top-bottom":
        height //= 2
    elif tag.stereo == "left-right":
        width //= 2
    if abs(width / height - 2) > 0.02:
        raise BadSetting(
            f"a picture of {width} × {height} does not go all around: a sphere is twice as wide as "
            "it is high.",
            remedy="Work on it as a flat clip.",
        )
    return Canvas(width, height)


def eyes_words(path: Path, scan: Scan, frame: int) -> str:
    """A sentence where the two eyes of a sphere do not look alike; nothing where they do, or where
    there is one."""
    tag = tag_of(scan)
    if tag.stereo == "mono":
        return ""
    picture = frame_at(path, scan, frame, luma_only=True)
    small = [
        cv2.resize(eye.planes[0], ALIKE_SIZE, interpolation=cv2.INTER_AREA).astype(float)
        for eye in _eyes(replace(picture, planes=(picture.planes[0],) * 3), tag)
    ]
    one, other = (eye - eye.mean() for eye in small)
    alike = float((one * other).sum() / max(np.sqrt((one**2).sum() * (other**2).sum()), 1e-9))
    if alike >= ALIKE:
        return ""
    return (
        f"The file says that its two eyes lie {tag.stereo}, but they do not look alike (likeness "
        f"{alike:.2f} of 1). Both get one correction, which may be wrong for the other."
    )


@dataclass(frozen=True)
class SphereSolution:
    """A solved sphere of ``n`` frames: ``corrections`` ``(n, 3, 3)`` take rays of the steadied
    sphere to those of each recorded one; ``looks``, where there is a flat view, its rays to the
    steadied sphere's, and ``angles`` what it sees across, degrees."""

    motion: SphereMotion
    canvas: Canvas
    corrections: Real
    looks: Real | None
    angles: Real | None
    report: Report
    notes: tuple[str, ...]
    vertical: Vertical | None = None

    def __len__(self) -> int:
        return len(self.corrections)


def solve_sphere(
    motion: SphereMotion, canvas: Canvas, treatment: Treatment,
    edges: Sequence[tuple[int, Edges]] = (),
) -> SphereSolution:  # fmt: skip
    """Steady a sphere, and look out of it, as a treatment says; ``edges``, see :func:`find_edges`,
    tell which way is down. Raises BadSetting for an aim that spheres do not have."""
    settings = treatment.of(MOTION)
    if settings.on and settings.aim == "hold":
        raise BadSetting(
            "a point of a sphere cannot be held yet.", remedy="Use Follow or Lock off."
        )
    corrections = np.tile(np.eye(3), (len(motion), 1, 1))
    notes: list[str] = []
    told: Vertical | None = None
    if settings.on and not motion.evidence.weak[1:].all():
        for start, stop in motion.timeline.segments:
            poses = poses_of(motion.turns[start:stop])
            steadied = _steadied(poses, motion, start, stop, treatment)
            if settings.upside_down:
                steadied = HALF_TURN @ steadied
            if settings.level == "uprights":
                inside = [(at - start, own) for at, own in edges if start <= at < stop]
                times = motion.timeline.times[start:stop]
                downs, own = _downs(poses, inside, times, upside_down=settings.upside_down)
                if downs is not None:
                    steadied = levelled(steadied, downs)
                if told is None or own.down is None:
                    told = own
            if settings.aim == "follow" and settings.heading == "fixed":
                steadied = _fixed_heading(steadied)
            corrections[start:stop] = poses @ steadied.swapaxes(1, 2)
    elif settings.on:
        notes.append(
            "No turning of the camera could be found: the picture is too dark, too plain or too "
            "blurred to follow. It is left as it is."
        )
    if told is not None:
        notes.append(told.words)
    looks = angles = None
    view = treatment.of(VIEW)
    if view.on:
        keys = {
            name.split(".")[1]: [Key(k.frame, k.value, k.smooth) for k in own]
            for name, own in treatment.keys.items() if name.startswith("view.")
        }  # fmt: skip
        values = view_values(view, keys, motion.timeline.frames)
        looks, angles = looks_of(values), values["angle"]
    solution = SphereSolution(motion, canvas, corrections, looks, angles, {}, tuple(notes), told)
    return replace(solution, report=_report(solution, treatment))


def _downs(
    poses: Real, edges: Sequence[tuple[int, Edges]], times: Real, *, upside_down: bool
) -> tuple[Real | None, Vertical]:
    """Which way is down over a stretch, ``(n, 3)`` in the axes of its first frame, None if that
    cannot be told; and what is told worst of it. Told piece by piece, and evenly between, so that
    what turns miss does not add up."""
    count = max(1, int((times[-1] - times[0]) // PIECE))
    bounds = np.linspace(0, len(poses), count + 1).astype(int)
    found: list[tuple[float, Vertical]] = []
    for low, high in pairwise(bounds.tolist()):
        own = poses[low:high, 1].mean(axis=0) * (-1 if upside_down else 1)
        inside = [one.turned(poses[at].T) for at, one in edges if low <= at < high]
        found.append(((low + high - 1) / 2, vertical(inside, own / np.linalg.norm(own))))
    known = [(at, one.down) for at, one in found if one.down is not None]
    worst = max((one for _, one in found), key=lambda one: one.doubt)
    if not known:
        return None, worst
    at, ways = np.array([k for k, _ in known]), np.array([way for _, way in known])
    frames = np.arange(len(poses), dtype=float)
    downs = np.stack([np.interp(frames, at, axis) for axis in ways.T], axis=-1)
    if worst.down is None:
        worst = max((one for _, one in found if one.down is not None), key=lambda one: one.doubt)
    return downs / np.linalg.norm(downs, axis=1, keepdims=True), worst


def _fixed_heading(steadied: Real) -> Real:
    """Steadied poses turned about their own upright so that all look where the first does."""
    ahead = steadied @ steadied[0].T @ np.array([0.0, 0.0, 1.0])  # where that is, in each
    turn = -np.arctan2(ahead[:, 0], ahead[:, 2])
    return np.asarray(Rotation.from_euler("y", turn[:, None]).as_matrix() @ steadied)


def _steadied(
    poses: Real, motion: SphereMotion, start: int, stop: int, treatment: Treatment
) -> Real:
    """The steadied poses of one stretch."""
    settings = treatment.of(MOTION)
    if settings.aim == "lock_off":
        wanted = settings.lock_frame
        at = 0 if wanted is None else wanted - motion.timeline.first - start
        return np.broadcast_to(poses[int(np.clip(at, 0, len(poses) - 1))], poses.shape)
    passed = np.array([cut_off(settings.calms[CALM_OF[axis]]) for axis in AXES])
    times = motion.timeline.times[start:stop]
    return followed_path(poses, times, passed, motion.evidence.weight[start:stop])


def _report(solution: SphereSolution, treatment: Treatment) -> Report:
    motion = solution.motion
    steadied = np.tile(np.eye(3), (len(solution), 1, 1))
    for start, stop in motion.timeline.segments:
        poses = poses_of(motion.turns[start:stop])
        steadied[start:stop] = solution.corrections[start:stop].swapaxes(1, 2) @ poses
    told: Report = {
        "projection": "equirectangular",
        "frame_count": len(motion),
        "shake_unit": "degrees",
        "shake_before": _shake(motion, np.concatenate([
            poses_of(motion.turns[a:b]) for a, b in motion.timeline.segments
        ])),
        "shake_after": _shake(motion, steadied),
        "shake_sure": 2 * float(np.degrees(np.median(motion.doubt))),
        "turn_doubt": float(np.degrees(np.median(motion.doubt))),
        "weak_frames": int(motion.evidence.weak.sum()),
        "cuts": (motion.timeline.first + motion.timeline.cuts).tolist(),
    }  # fmt: skip
    level = solution.vertical
    if level is not None:
        told["level"] = {
            "found": level.down is not None,
            "sure_degrees": float(2 * np.degrees(level.doubt)) if level.down is not None else None,
            "uprights": level.edges,
        }
    if solution.looks is not None and solution.angles is not None:
        view = treatment.of(VIEW)
        camera = camera_at(view, float(np.min(solution.angles)))
        told["pixels_per_output_pixel"] = 1 / SphereSampler(camera, solution.canvas).enlargement
        pace, frame = _pace(solution.looks, motion)
        told |= {"view_pace": pace, "view_pace_frame": frame}
    warnings = {VIEW.name: VIEW.warnings(treatment.of(VIEW), told)}
    return told | {
        "warnings": warnings, "notes": [*solution.notes, *warnings[VIEW.name]],
    }  # fmt: skip


def _shake(motion: SphereMotion, poses: Real) -> float:
    """Rms turning faster than :data:`SHAKES`, degrees, of poses ``(n, 3, 3)``."""
    total, count = 0.0, 0
    for start, stop in motion.timeline.segments:
        own = poses[start:stop]
        if len(own) < 4:
            continue
        slow = followed_path(own, motion.timeline.times[start:stop], np.full(3, SHAKES),
                             np.ones(len(own)))  # fmt: skip
        off = Rotation.from_matrix(own @ slow.swapaxes(1, 2)).as_rotvec()
        total, count = total + float((off**2).sum()), count + len(own)
    return float(np.degrees(np.sqrt(total / max(count, 1))))


def _pace(looks: Real, motion: SphereMotion) -> tuple[float, int]:
    """How fast a view turns at the most, degrees a second, and in which frame."""
    steps = Rotation.from_matrix(looks[1:] @ looks[:-1].swapaxes(1, 2)).magnitude()
    pace = np.degrees(steps) / np.maximum(np.diff(motion.timeline.times), 1e-6)
    at = int(pace.argmax())
    return float(pace[at]), motion.timeline.first + at + 1


def render_sphere(
    path: Path, scan: Scan, solution: SphereSolution, treatment: Treatment, target: Path, *,
    encoding: Encoding | None = None, progress: Progress = silent,
) -> Rendered:  # fmt: skip
    """Draw a solved sphere into an MP4 with its sound, each colour sampled once: a sphere again,
    which its file says it is, or a flat view."""
    view, tag = treatment.of(VIEW), tag_of(scan)
    eye, first = solution.canvas, solution.motion.timeline.first
    last = first + len(solution) - 1
    flat = solution.looks is not None
    size = (view.width, view.height) if flat else (scan.probe.width, scan.probe.height)
    plain = replace(tag, pose=(0.0, 0.0, 0.0))  # what it was turned by is in the pictures now
    with Mp4Writer(
        target, scan, *size, working_format(scan.probe.pixel_format), encoding or Encoding(),
        first, last, sound_from=path, sphere=None if flat else plain,
    ) as writer:  # fmt: skip
        around = SphereSampler(Camera(eye, Equirectangular.of(eye)), eye)
        seen: SphereSampler | None = None
        for picture in frames(path, scan, first, last):
            at = picture.index - first
            planes, turn = writer.blank_planes(), solution.corrections[at]
            if solution.looks is not None and solution.angles is not None:
                camera = camera_at(view, float(solution.angles[at]))
                if seen is None or seen.output != camera:
                    seen = SphereSampler(camera, eye)
                one = picture if tag.stereo == "mono" else next(_eyes(picture, tag))
                warp_sphere(one, seen, turn @ solution.looks[at], planes)
            elif tag.stereo == "mono":
                warp_sphere(picture, around, turn, planes)
            else:
                drawn = replace(picture, planes=planes)  # type: ignore[arg-type]
                for one, into in zip(_eyes(picture, tag), _eyes(drawn, tag), strict=True):
                    warp_sphere(one, around, turn, into.planes)
            writer.write(picture.pts)
            progress(at + 1, len(solution))
        writer.finish()
    return Rendered(*size, writer.sound_note, len(solution))


def _eyes(picture: Any, tag: SphereTag) -> Iterator[Any]:
    """A picture of two eyes as two, by views of the same memory."""
    axis = 0 if tag.stereo == "top-bottom" else 1
    for half in (0, 1):
        parts = []
        for plane in picture.planes:
            middle = plane.shape[axis] // 2
            part = slice(middle * half, middle * (half + 1))
            parts.append(plane[part] if axis == 0 else plane[:, part])
        yield replace(picture, planes=tuple(parts))


def sphere_measure_report(motion: SphereMotion, canvas: Canvas) -> dict[str, Any]:
    """A sphere's measure, as JSON data."""
    timeline, evidence = motion.timeline, motion.evidence
    return {
        "projection": "equirectangular",
        "width": canvas.width,
        "height": canvas.height,
        "conventions": CONVENTIONS,
        "frames": [
            {
                "index": timeline.first + t,
                "time": float(timeline.times[t]),
                "marks": int(evidence.tracks[t]),
                "confidence": round(float(evidence.confidence[t]), 4),
                "doubt_degrees": round(float(np.degrees(motion.doubt[t])), 4),
                "previous_to_this": motion.turns[t].tolist(),
                "travel": motion.travel[t].tolist() if motion.travel[t].any() else None,
            }
            for t in range(len(motion))
        ],
        "cuts": (timeline.first + timeline.cuts).tolist(),
        "blurred": (timeline.first + np.nonzero(timeline.blurred)[0]).tolist(),
    }


def shake_in_file(path: Path, nadir: float, room: Path) -> tuple[float, float]:
    """The shake of a finished sphere, degrees, from its own pixels, and what it is sure to; tracks
    are kept in a folder ``room`` meanwhile."""
    found = scan(path)
    tracks = measure_sphere(path, found, 0, found.probe.frame_count - 1, room)
    motion = sphere_motion(tracks, first_eye(found), nadir)
    poses = [poses_of(motion.turns[a:b]) for a, b in motion.timeline.segments]
    return _shake(motion, np.concatenate(poses)), 2 * float(np.degrees(np.median(motion.doubt)))


def sphere_report(
    solution: SphereSolution, treatment: Treatment, rendered: Rendered, seconds: dict[str, float],
    again: tuple[float, float] | None = None,
) -> dict[str, Any]:  # fmt: skip
    """A finished correction of a sphere, as JSON data; ``again`` is the shake of the file, and what
    it is sure to, where that was measured."""
    timeline = solution.motion.timeline
    return solution.report | {
        "shake_measured_again": again and again[0],
        "shake_measured_again_sure": again and again[1],
        "output": {"width": rendered.width, "height": rendered.height},
        "sound": rendered.sound,
        "treatment": treatment.as_data(),
        "seconds": seconds,
        "conventions": CONVENTIONS,
        "frames": [
            {
                "index": timeline.first + t,
                "time": float(timeline.times[t]),
                "steady": solution.corrections[t].tolist(),
                "look": None if solution.looks is None else solution.looks[t].tolist(),
            }
            for t in range(len(solution))
        ],
    }
