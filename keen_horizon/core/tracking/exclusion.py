"""Marks set aside: from what an editor points at to the marks it means, for their whole lives.

A lasso is drawn at one frame. It travels forwards and backwards with the marks inside, and marks
that are born inside it later and move with the subject rather than with the camera belong to it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas, Complex
from ..motion.camera_motion import CameraMotion
from ..treatment import Group, Lasso, MotionSettings
from .groups import TrackGroup, group_at
from .tracks import Tracks

ALONE = 20  # frames that a lasso travels on with the camera when it has no marks left
CARRIERS = 3  # marks that are enough to carry it
STRAYS = 0.0007  # of the half-diagonal: a mark that moves otherwise than the camera by more
PROBATION = 6  # frames after which it is settled whether a mark born inside belongs


@dataclass(frozen=True)
class Chosen:
    """What a subject of the treatment came to: ``marks`` their numbers, ``note`` what to say if
    it is nothing."""

    marks: NDArray[np.intp]
    note: str = ""


def chosen(
    subject: Lasso | Group, tracks: Tracks, canvas: Canvas, motion: CameraMotion,
    groups: Callable[[], list[TrackGroup]],
) -> Chosen:  # fmt: skip
    """The marks that a subject means. ``motion`` is the fit of all marks."""
    frame = subject.frame - tracks.first
    nothing = np.zeros(0, np.intp)
    if not 0 <= frame < len(tracks):
        return Chosen(nothing, f"Frame {subject.frame} is not in this clip.")
    if isinstance(subject, Group):
        place = _scene(np.array([subject.at]), canvas)[0]
        group = group_at(groups(), tracks, canvas, frame, place)
        if group is None:
            return Chosen(nothing, f"No marks move together at frame {subject.frame}.")
        return Chosen(group.marks)
    marks = _lassoed(subject, frame, tracks, canvas, motion)
    if not len(marks):
        return Chosen(nothing, f"The lasso at frame {subject.frame} has no marks in it.")
    return Chosen(marks)


def excluded_records(
    settings: MotionSettings, tracks: Tracks, canvas: Canvas, motion: CameraMotion,
    groups: Callable[[], list[TrackGroup]],
) -> tuple[NDArray[np.bool_], list[str]]:  # fmt: skip
    """Per record, whether it must not steer; and what could not be done, in words."""
    ids = tracks.records["id"].astype(np.intp)
    out = np.zeros(int(ids.max(initial=-1)) + 1, bool)
    notes = []
    if settings.steer_by is not None:
        found = chosen(settings.steer_by, tracks, canvas, motion, groups)
        if len(found.marks):
            out[:] = True
            out[found.marks] = False
        else:
            notes.append(f"{found.note} All marks steer.")
    for subject in settings.aside:
        found = chosen(subject, tracks, canvas, motion, groups)
        out[found.marks] = True
        if found.note:
            notes.append(f"{found.note} Nothing is set aside by it.")
    return out[ids], notes


def _scene(shares: NDArray[np.float64], canvas: Canvas) -> Complex:
    """Shares of the picture ``(m, 2)`` to the scene plane."""
    size = np.array([canvas.width, canvas.height])
    return canvas.to_scene(shares * size - 0.5)


def inside(outline: Complex, points: Complex) -> NDArray[np.bool_]:
    """Whether ``points`` ``(m,)`` lie inside the polygon ``outline`` ``(k,)``, by even and odd."""
    a, b = outline, np.roll(outline, -1)
    p = points[:, None]
    crosses = (a.imag > p.imag) != (b.imag > p.imag)
    rise = np.where(b.imag == a.imag, 1.0, b.imag - a.imag)
    at = a.real + (p.imag - a.imag) * (b.real - a.real) / rise
    return np.asarray((crosses & (p.real < at)).sum(axis=1) % 2 == 1)


class _Lives:
    """Quick access to a measure's marks, frame by frame."""

    def __init__(self, tracks: Tracks, canvas: Canvas) -> None:
        self._measure = tracks
        self.count = int(tracks.records["id"].max(initial=0)) + 1
        self._canvas = canvas

    def frame(self, t: int) -> tuple[NDArray[np.intp], Complex]:
        records = self._measure.frame(t)
        points = np.stack([records["x"], records["y"]], axis=-1).astype(float)
        return records["id"].astype(np.intp), self._canvas.to_scene(points)


def _lassoed(
    subject: Lasso, frame: int, tracks: Tracks, canvas: Canvas, motion: CameraMotion
) -> NDArray[np.intp]:
    lives = _Lives(tracks, canvas)
    outline = _scene(np.array(subject.outline), canvas)
    ids, places = lives.frame(frame)
    member = np.zeros(lives.count, bool)
    member[ids[inside(outline, places)]] = True
    if not member.any():
        return np.zeros(0, np.intp)
    drawn = member.copy()
    for way in (1, -1):
        member |= _travel(lives, tracks, canvas, motion, outline, drawn, frame, way)
    return np.nonzero(member)[0]


def _travel(
    lives: _Lives, tracks: Tracks, canvas: Canvas, motion: CameraMotion, outline: Complex,
    drawn: NDArray[np.bool_], frame: int, way: int,
) -> NDArray[np.bool_]:  # fmt: skip
    """The members after the lasso has gone through the clip one way."""
    member = drawn.copy()
    settled = drawn.copy()  # on which side a mark stands is known
    with_subject, with_camera = np.zeros(lives.count), np.zeros(lives.count)
    seen = np.zeros(lives.count, np.intp)
    slow = STRAYS * canvas.radius
    alone = 0
    ids, places = lives.frame(frame)
    t = frame
    while 0 <= t + way < len(tracks):
        a, b = _camera(motion, t, way)
        later_ids, later = lives.frame(t + way)
        _, here, there = np.intersect1d(ids, later_ids, assume_unique=True, return_indices=True)
        name, p, q = ids[here], places[here], later[there]
        camera_off = np.abs(q - (a * p + b))
        carries = member[name] & settled[name]
        strays = carries & (camera_off > slow)
        if strays.sum() >= CARRIERS:
            carries = strays  # a lasso drawn loosely has some background inside
        if carries.sum() >= CARRIERS:
            a, b = _carried(p[carries], q[carries])
            alone = 0
        else:
            alone += 1
            if alone > ALONE:
                break
        outline = a * outline + b
        if not _in_sight(outline, canvas):
            break
        # Marks born inside: on probation until their motion tells.
        with_subject[name] += np.abs(q - (a * p + b))
        with_camera[name] += camera_off
        seen[name] += 1
        trial = name[~settled[name] & member[name] & (seen[name] >= PROBATION)]
        gone = trial[with_subject[trial] > with_camera[trial] + slow * seen[trial] / 2]
        member[gone] = False
        settled[trial] = True
        fresh = np.setdiff1d(later_ids, ids, assume_unique=True)
        at = later[np.isin(later_ids, fresh, assume_unique=True)]
        born = fresh[inside(outline, at)]
        born = born[~settled[born]]
        member[born] = True
        with_subject[born] = with_camera[born] = seen[born] = 0
        ids, places = later_ids, later
        t += way
    return member


def _in_sight(outline: Complex, canvas: Canvas) -> bool:
    """Whether the outline's box meets the picture."""
    hu, hv = canvas.half
    x, y = outline.real, outline.imag
    return bool(x.max() >= -hu and x.min() <= hu and y.max() >= -hv and y.min() <= hv)


def _camera(motion: CameraMotion, t: int, way: int) -> tuple[complex, complex]:
    """The camera's step from frame ``t`` to its neighbour."""
    if way > 0:
        return complex(motion.steps.a[t + 1]), complex(motion.steps.b[t + 1])
    a, b = motion.steps.a[t], motion.steps.b[t]
    return complex(1 / a), complex(-b / a)


def _carried(p: Complex, q: Complex) -> tuple[complex, complex]:
    """The similarity that carries most of the marks ``p`` to ``q``; a shift for a small spread."""
    shift = q - p
    middle = complex(np.median(shift.real), np.median(shift.imag))
    off = np.abs(shift - middle)
    near = off <= max(3 * float(np.median(off)), 1.0)
    p, q = p[near], q[near]
    mp, mq = p.mean(), q.mean()
    power = (np.abs(p - mp) ** 2).sum()
    if len(p) < 5 or power < 1.0:
        return 1.0, complex(mq - mp)
    a = complex((np.conj(p - mp) * (q - mq)).sum() / power)
    if abs(a - 1) > 0.1:
        return 1.0, complex(mq - mp)
    return a, complex(mq - a * mp)
