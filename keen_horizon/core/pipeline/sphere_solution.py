"""A sphere's motion and a treatment give the steadied path, and where a flat camera looks.

Nothing has to be cropped to steady a sphere, so there is no zoom to be solved for.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from scipy.spatial.transform import Rotation

from ..geometry.canvas import Canvas
from ..geometry.keyframes import Key
from ..motion.sphere_turns import SphereMotion
from ..motion.uprights import Edges, Vertical, levelled, vertical
from ..path.sphere_path import AXES, cut_off, followed_path
from ..picture.sphere_warp import SphereSampler
from ..stations.motion import MOTION
from ..stations.station import Report
from ..stations.view import VIEW
from ..stations.view.station import camera_at, looks_of, view_values
from ..treatment import Treatment
from ..types import Rays, Real

PIECE = 8.0  # seconds of a clip that have a vertical of their own
HALF_TURN = np.diag([-1.0, -1.0, 1.0])
SHAKES = 1.0  # Hz from which on turning counts as shake
CALM_OF = {"pitch": "updown", "yaw": "across", "roll": "roll"}  # a sphere's axes among the settings


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
    edges: Sequence[tuple[int, Edges]] = (), held: Rays | None = None,
) -> SphereSolution:  # fmt: skip
    """Steady a sphere, and look out of it, as a treatment says; ``edges``, see :func:`find_edges`,
    tell which way is down; ``held`` ``(n, 3)`` is where a point that is to be held is in each
    frame, NaN where that is not known."""
    settings = treatment.of(MOTION)
    corrections = np.tile(np.eye(3), (len(motion), 1, 1))
    notes: list[str] = []
    told: Vertical | None = None
    if settings.on and not motion.evidence.weak[1:].all():
        for start, stop in motion.timeline.segments:
            poses = motion.poses[start:stop]
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
    back = Rotation.from_euler("y", -(aside + yaw[first])[:, None]).as_matrix()
    nod = Rotation.from_euler("x", above[:, None]).as_matrix()
    on = Rotation.from_euler("y", [yaw[first]]).as_matrix()
    return np.asarray(on @ nod @ back @ steadied)


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


def shake_of_poses(motion: SphereMotion, poses: Real) -> float:
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
