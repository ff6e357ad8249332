"""A sphere's motion and a treatment give the steadied path, and where a flat camera looks.

Nothing has to be cropped to steady a sphere, so there is no zoom to be solved for.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import scipy

from ..geometry.bend import NONE
from ..geometry.canvas import Canvas
from ..geometry.rotation_vectors import turns_about, vectors_of
from ..motion.camera_motion import Timeline
from ..motion.held_point import HeldPoint
from ..motion.sphere_turns import SphereMotion
from ..motion.uprights import Edges, Vertical, levelled
from ..path.sphere_path import AXES, cut_off, followed_path
from ..picture.sphere_warp import SphereSampler
from ..stations.finish import FINISH
from ..stations.finish.sharpen import Sharpen
from ..stations.finish.station import sharpening, sharpening_report
from ..stations.motion import MOTION
from ..stations.station import Report
from ..stations.view import VIEW
from ..stations.view.keyed_looks import looks_of, view_values
from ..stations.view.station import camera_at
from ..treatment import Treatment
from ..types import Rays, Real
from .sphere_heading import heading_for, travelled
from .sphere_level import Stretch

FOLLOWS = 0.25  # seconds, about, within which a view that follows something evens out its motion
HALF_TURN = np.diag([-1.0, -1.0, 1.0])
SHAKES = 1.0  # Hz from which on turning counts as shake
CALM_OF = {"pitch": "updown", "yaw": "across", "roll": "roll"}  # a sphere's axes among the settings


@dataclass(frozen=True)
class SphereSolution:
    """A solved sphere of ``n`` frames: ``corrections`` ``(n, 3, 3)`` take rays of the steadied
    sphere to those of each recorded one; ``looks``, where there is a flat view, its rays to the
    steadied sphere's, and ``angles`` what it sees across, degrees. ``magnification`` ``(n,)`` is
    output pixels that a source pixel takes, and ``sharpen`` what Finish does for it. ``downs``
    ``(n, 3)`` is straight down in each recorded frame's axes, NaN where that is not known; None
    where nobody asked. ``view`` is what the flat view is set to in each frame, degrees by
    setting. ``bends`` ``(n, 3, 3, 3)`` is what stitching bends recorded rays by, that are taken out
    of the picture (:mod:`..geometry.bend`)."""

    motion: SphereMotion
    canvas: Canvas
    corrections: Real
    looks: Real | None
    angles: Real | None
    magnification: Real
    sharpen: Sharpen | None
    report: Report
    notes: tuple[str, ...]
    vertical: Vertical | None = None
    downs: Rays | None = None
    view: Mapping[str, Real] = field(default_factory=dict)
    unbent: bool = False

    def __len__(self) -> int:
        return len(self.corrections)

    @property
    def bends(self) -> Real:
        """See above; none where they are left, or where there are none."""
        if not self.unbent or self.motion.wobble is None:
            return np.zeros((len(self), *NONE.shape))
        return self.motion.wobble.bends


def points_of(treatment: Treatment) -> tuple[HeldPoint | None, HeldPoint | None]:
    """The points that have to be followed for a treatment: what it holds, what its view follows."""
    settings, view = treatment.of(MOTION), treatment.of(VIEW)
    holds = settings.on and settings.aim == "hold" and settings.hold
    return (settings.hold[0] if holds else None, view.follow if view.on else None)


def solve_sphere(
    motion: SphereMotion, canvas: Canvas, treatment: Treatment,
    edges: Sequence[tuple[int, Edges]] = (), held: Rays | None = None,
    seen: Rays | None = None,
) -> SphereSolution:  # fmt: skip
    """Steady a sphere, and look out of it, as a treatment says; ``edges``, see :func:`find_edges`,
    tell which way is down; ``held`` and ``seen`` ``(n, 3)`` are where a point that is to be held,
    and one that the view is to follow, are in each frame, NaN where that is not known."""
    settings = treatment.of(MOTION)
    corrections = np.tile(np.eye(3), (len(motion), 1, 1))
    notes: list[str] = []
    told: Vertical | None = None
    downs = np.full((len(motion), 3), np.nan)
    if settings.on and not motion.evidence.weak[1:].all():
        for start, stop in motion.timeline.segments:
            poses = motion.poses[start:stop]
            steadied = _steadied(poses, motion, start, stop, treatment)
            if settings.upside_down:
                steadied = HALF_TURN @ steadied
            if settings.level != "off":
                stretch = Stretch(motion, canvas, start, stop, settings)
                inside = [(at - start, own) for at, own in edges if start <= at < stop]
                ways, own = stretch.downs(inside)
                if ways is not None:
                    steadied = levelled(steadied, ways)
                    downs[start:stop] = np.einsum("nij,nj->ni", poses, ways)
                if told is None or own.down is None:
                    told = own
            if settings.aim == "follow" and settings.heading == "fixed":
                steadied = _fixed_heading(steadied)
            if settings.aim == "follow" and settings.heading == "travel":
                ahead, said = travelled(motion, start, stop)
                notes.append(said)
                if ahead is not None:
                    steadied = heading_for(steadied, ahead)
            if settings.aim == "hold" and held is not None:
                steadied = _holding(steadied, poses, held[start:stop])
            corrections[start:stop] = poses @ steadied.swapaxes(1, 2)
    elif settings.on:
        notes.append(
            "No turning of the camera could be found: the picture is too dark, too plain or too "
            "blurred to follow. It is left as it is."
        )
    if settings.on and settings.aim == "hold":
        notes += _hold_notes(held)
    if told is not None:
        notes.append(told.words)
    looks = angles = None
    view = treatment.of(VIEW)
    values: dict[str, Real] = {}
    if view.on:
        values = timed_values(treatment, motion.timeline)
        if view.follow is not None:
            values |= _followed(seen, corrections, motion)
            notes += _follow_notes(seen)
        looks, angles = looks_of(values), values["angle"]
    magnification = _magnification(angles, len(motion), treatment, canvas)
    sharpen = sharpening(
        treatment.of(FINISH),
        lambda name: treatment.values(name, motion.timeline.frames),
        magnification,
    )
    solution = SphereSolution(
        motion, canvas, corrections, looks, angles, magnification, sharpen, {}, tuple(notes), told,
        None if told is None else downs, values, settings.on and settings.stitch,
    )  # fmt: skip
    return replace(solution, report=_report(solution, treatment))


def timed_values(treatment: Treatment, timeline: Timeline) -> dict[str, Real]:
    """What a treatment sets its view to in each frame, degrees ``(n,)`` by setting."""
    keys = treatment.keys_of(VIEW)
    return view_values(treatment.of(VIEW), keys, timeline.frames, timeline.rate)


def _fixed_heading(steadied: Real) -> Real:
    """Steadied poses turned about their own upright so that all look where the first does."""
    return heading_for(steadied, np.broadcast_to(steadied[0, 2], (len(steadied), 3)))


def _holding(steadied: Real, poses: Real, held: Rays) -> Real:
    """Steadied poses turned so that what is ``held`` stays where it is in the first frame that
    knows it: about the upright, and up or down, so that the horizon does not lean there. Where it
    is not known, as in the nearest frame that does."""
    known = np.flatnonzero(np.isfinite(held).all(axis=1))
    if not len(known):
        return steadied
    seen = np.einsum("nij,nkj,nk->ni", steadied, poses, np.nan_to_num(held))
    yaw, height = np.arctan2(seen[:, 0], seen[:, 2]), np.arcsin(np.clip(seen[:, 1], -1, 1))
    first = known[0]
    frames = np.arange(len(held))
    aside = np.interp(frames, known, np.unwrap(yaw[known]) - yaw[first])
    above = np.interp(frames, known, height[known] - height[first])
    # Turned back to its azimuth; then, with that ahead, up or down; and the azimuth put on again.
    back = turns_about("y", -(aside + yaw[first]))
    nod = turns_about("x", above)
    on = turns_about("y", yaw[first : first + 1])
    return np.asarray(on @ nod @ back @ steadied)


def _followed(seen: Rays | None, corrections: Real, motion: SphereMotion) -> dict[str, Real]:
    """Yaw and pitch, degrees, of a view that keeps what is ``seen`` in its middle, evenly: as its
    own motion goes on, without its tremor. Where it is not known, as in the nearest frame that
    does; nothing if none does."""
    if seen is None:
        return {}
    known = np.flatnonzero(np.isfinite(seen).all(axis=1))
    if len(known) < 2:
        return {}
    rays = np.einsum("nji,nj->ni", corrections, np.nan_to_num(seen))
    frames = np.arange(len(rays))
    yaw = np.interp(frames, known, np.unwrap(np.arctan2(rays[known, 0], rays[known, 2])))
    pitch = np.interp(frames, known, -np.arcsin(np.clip(rays[known, 1], -1, 1)))
    wide = FOLLOWS * motion.timeline.rate
    smooth = scipy.ndimage.gaussian_filter1d(np.stack([yaw, pitch]), wide, axis=1, mode="nearest")
    yaw, pitch = np.degrees(smooth)
    return {"yaw": yaw, "pitch": pitch}


def _follow_notes(seen: Rays | None) -> list[str]:
    """Sentences about a view that follows something."""
    known = 0 if seen is None else int(np.isfinite(seen).all(axis=1).sum())
    if seen is None or known < 2:
        return ["What the view is to follow could not be followed; it looks as it is set."]
    if known < len(seen):
        return [f"What the view follows is not known in {len(seen) - known} of {len(seen)} frames; "
                "there it looks on to where it was last."]  # fmt: skip
    return []


def _hold_notes(held: Rays | None) -> list[str]:
    """Sentences about a hold."""
    if held is None:
        return ["No point is held yet, so the camera is locked off. Place a point to hold."]
    lost = int((~np.isfinite(held).all(axis=1)).sum())
    if lost == len(held):
        return ["The held point could not be followed, so the camera is locked off."]
    if lost:
        return [f"The held point is not known in {lost} of {len(held)} frames; there it is taken "
                "to be where it was last."]  # fmt: skip
    return []


def _steadied(
    poses: Real, motion: SphereMotion, start: int, stop: int, treatment: Treatment
) -> Real:
    """The steadied poses of one stretch."""
    settings = treatment.of(MOTION)
    if settings.aim in ("lock_off", "hold"):
        wanted = settings.lock_frame if settings.aim == "lock_off" else None
        at = 0 if wanted is None else wanted - motion.timeline.first - start
        return np.broadcast_to(poses[int(np.clip(at, 0, len(poses) - 1))], poses.shape)
    passed = np.array([cut_off(settings.calms[CALM_OF[axis]]) for axis in AXES])
    times = motion.timeline.times[start:stop]
    return followed_path(poses, times, passed, motion.evidence.weight[start:stop])


def _report(solution: SphereSolution, treatment: Treatment) -> Report:
    motion = solution.motion
    steadied = solution.corrections.swapaxes(1, 2) @ motion.poses
    finish = treatment.of(FINISH)
    told: Report = {
        "projection": "equirectangular",
        "frame_count": len(motion),
        "shake_unit": "degrees",
        "shake_before": shake_of_poses(motion, motion.poses),
        "shake_after": shake_of_poses(motion, steadied),
        "shake_sure": 2 * float(np.degrees(np.median(motion.doubt))),
        "turn_doubt": float(np.degrees(np.median(motion.doubt))),
        "weak_frames": int(motion.evidence.weak.sum()),
        "cuts": (motion.timeline.first + motion.timeline.cuts).tolist(),
        "blurred_frames": (motion.timeline.first + np.nonzero(motion.timeline.blurred)[0]).tolist(),
    }  # fmt: skip
    if motion.wobble is not None:
        told["stitching"] = {
            "wobble_degrees": float(np.degrees(motion.wobble.size)),
            "sure_degrees": float(2 * np.degrees(motion.wobble.doubt)),
            "found": bool(motion.wobble.bends.any()),
            "taken_out": bool(solution.bends.any()),
            "late_ms": 1e3 * motion.wobble.late,
            "late_sure_ms": 2e3 * motion.wobble.late_doubt,
        }
    told["sharpening"] = sharpening_report(solution.sharpen, motion.timeline.first)
    level = solution.vertical
    if level is not None:
        told["level"] = {
            "found": level.down is not None,
            "sure_degrees": float(2 * np.degrees(level.doubt)) if level.down is not None else None,
            "uprights": level.edges,
        }
    if solution.looks is not None:
        told["pixels_per_output_pixel"] = 1 / float(solution.magnification.max())
        pace, frame = _pace(solution.looks, motion)
        told |= {"view_pace": pace, "view_pace_frame": frame}
    warnings = {
        MOTION.name: _weak_words(told), VIEW.name: VIEW.warnings(treatment.of(VIEW), told),
        FINISH.name: FINISH.warnings(finish, told),
    }  # fmt: skip
    return told | {
        "warnings": warnings,
        "notes": [*solution.notes, *warnings[VIEW.name], *warnings[FINISH.name]],
    }  # fmt: skip


def _magnification(angles: Real | None, count: int, treatment: Treatment, canvas: Canvas) -> Real:
    """``(count,)`` output pixels that a source pixel takes, in the middle of each frame."""
    if angles is None:
        return np.ones(count)
    view = treatment.of(VIEW)
    told, which = np.unique(angles, return_inverse=True)
    cameras = (camera_at(view, angle) for angle in told.tolist())
    return np.array([SphereSampler(camera, canvas).enlargement for camera in cameras])[which]


def _weak_words(told: Report) -> list[str]:
    weak, count = told["weak_frames"], told["frame_count"]
    if not 0 < weak < count - 1:
        return []
    return [f"{weak} of {count} frames could not be measured surely; the correction is gentler "
            "there."]  # fmt: skip


def shake_of_poses(motion: SphereMotion, poses: Real) -> float:
    """Rms turning faster than :data:`SHAKES`, degrees, of poses ``(n, 3, 3)``."""
    total, count = 0.0, 0
    for start, stop in motion.timeline.segments:
        own = poses[start:stop]
        if len(own) < 4:
            continue
        slow = followed_path(own, motion.timeline.times[start:stop], np.full(3, SHAKES),
                             np.ones(len(own)))  # fmt: skip
        off = vectors_of(own @ slow.swapaxes(1, 2))
        total, count = total + float((off**2).sum()), count + len(own)
    return float(np.degrees(np.sqrt(total / max(count, 1))))


def _pace(looks: Real, motion: SphereMotion) -> tuple[float, int]:
    """How fast a view turns at the most, degrees a second, and in which frame."""
    steps = np.linalg.norm(vectors_of(looks[1:] @ looks[:-1].swapaxes(1, 2)), axis=1)
    pace = np.degrees(steps) / np.maximum(np.diff(motion.timeline.times), 1e-6)
    at = int(pace.argmax())
    return float(pace[at]), motion.timeline.first + at + 1
