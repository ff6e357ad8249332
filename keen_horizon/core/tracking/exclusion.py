"""Marks set aside: from what an editor points at to the marks it means, for their whole lives.

A lasso is drawn at one frame. It travels forwards and backwards with the marks inside, and marks
that are born inside it later and move with the subject rather than with the camera belong to it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.motion import Motion
from ..types import Complex, Flags, Indices
from ..values import places_in_scene
from .groups import TrackGroup, group_at
from .subjects import Group, Lasso
from .tracks import Tracks, places_of

ALONE = 20  # frames that a lasso travels on with the camera when it has no marks left
CARRIERS = 3  # marks that are enough to carry it
STRAYS = 0.0007  # of the half-diagonal: a mark that moves otherwise than the camera by more
PROBATION = 6  # frames after which it is settled whether a mark born inside belongs


@dataclass(frozen=True)
class SubjectTracks:
    """What a subject came to: ``track_ids`` those of its tracks, ``note`` what to say if it is
    nothing."""

    track_ids: Indices
    note: str = ""


def tracks_of_subject(
    subject: Lasso | Group, tracks: Tracks, canvas: Canvas, steps: Motion,
    groups: Callable[[], list[TrackGroup]],
) -> SubjectTracks:  # fmt: skip
    """The tracks that a subject means. ``steps`` are the fit of all tracks."""
    frame = subject.frame - tracks.first
    nothing = np.zeros(0, np.intp)
    if not 0 <= frame < len(tracks):
        return SubjectTracks(nothing, f"Frame {subject.frame} is not in this clip.")
    if isinstance(subject, Group):
        place = places_in_scene([subject.at], canvas)[0]
        group = group_at(groups(), tracks, canvas, frame, place)
        if group is None:
            return SubjectTracks(nothing, f"No marks move together at frame {subject.frame}.")
        return SubjectTracks(group.track_ids)
    marks = _lassoed(subject, frame, tracks, canvas, steps)
    if not len(marks):
        return SubjectTracks(nothing, f"The lasso at frame {subject.frame} has no marks in it.")
    return SubjectTracks(marks)


def excluded_sightings(
    subjects: Sequence[Lasso | Group], only: Lasso | Group | None, tracks: Tracks, canvas: Canvas,
    steps: Motion, groups: Callable[[], list[TrackGroup]],
) -> tuple[Flags, list[str]]:  # fmt: skip
    """Per sighting, whether it must not steer: those of ``subjects``, and all but those of
    ``only``; and what could not be done, in words."""
    ids = tracks.records["id"].astype(np.intp)
    out = np.zeros(int(ids.max(initial=-1)) + 1, bool)
    notes = []
    if only is not None:
        found = tracks_of_subject(only, tracks, canvas, steps, groups)
        if len(found.track_ids):
            out[:] = True
            out[found.track_ids] = False
        else:
            notes.append(f"{found.note} All marks steer.")
    for subject in subjects:
        found = tracks_of_subject(subject, tracks, canvas, steps, groups)
        out[found.track_ids] = True
        if found.note:
            notes.append(f"{found.note} Nothing is set aside by it.")
    return out[ids], notes


def inside(outline: Complex, points: Complex) -> Flags:
    """Whether ``points`` ``(m,)`` lie inside the polygon ``outline`` ``(k,)``, by even and odd."""
    a, b = outline, np.roll(outline, -1)
    p = points[:, None]
    crosses = (a.imag > p.imag) != (b.imag > p.imag)
    rise = np.where(b.imag == a.imag, 1.0, b.imag - a.imag)
    at = a.real + (p.imag - a.imag) * (b.real - a.real) / rise
    return np.asarray((crosses & (p.real < at)).sum(axis=1) % 2 == 1)


def _places(tracks: Tracks, canvas: Canvas, t: int) -> tuple[Indices, Complex]:
    """The tracks seen in a frame of the range, and where."""
    records = tracks.frame(t)
    points = places_of(records)
    return records["id"].astype(np.intp), canvas.to_scene(points)


def _lassoed(subject: Lasso, frame: int, tracks: Tracks, canvas: Canvas, steps: Motion) -> Indices:
    """The tracks that a lasso drawn at a frame of the range means."""
    outline = places_in_scene(subject.outline, canvas)
    ids, places = _places(tracks, canvas, frame)
    drawn = np.zeros(int(tracks.records["id"].max(initial=0)) + 1, bool)
    drawn[ids[inside(outline, places)]] = True
    if not drawn.any():
        return np.zeros(0, np.intp)
    member = drawn.copy()
    for way in (1, -1):
        lasso = _TravellingLasso(outline, drawn, canvas)
        member |= lasso.travel(tracks, steps, frame, way)
    return np.nonzero(member)[0]


class _TravellingLasso:
    """A lasso on its way through the clip: carried by the tracks inside, taking in those born
    inside, on probation until their motion tells whether they belong to the subject."""

    def __init__(self, outline: Complex, drawn: Flags, canvas: Canvas) -> None:
        self._outline, self._canvas = outline, canvas
        self._slow = STRAYS * canvas.radius
        self._member = drawn.copy()
        self._settled = drawn.copy()  # on which side a track stands is known
        self._off_subject, self._off_camera = np.zeros(len(drawn)), np.zeros(len(drawn))
        self._seen = np.zeros(len(drawn), np.intp)
        self._alone = 0  # frames that nothing has carried it

    def travel(self, tracks: Tracks, steps: Motion, frame: int, way: int) -> Flags:
        """Go through the clip one way; returns which tracks are members then."""
        ids, places = _places(tracks, self._canvas, frame)
        t = frame
        while 0 <= t + way < len(tracks):
            later_ids, later = _places(tracks, self._canvas, t + way)
            _, here, there = np.intersect1d(ids, later_ids, assume_unique=True, return_indices=True)
            camera = steps[t + 1 : t + 2] if way > 0 else steps[t : t + 1].inverse()
            if not self._carry(ids[here], places[here], later[there], camera):
                break
            self._take_in(ids, later_ids, later)
            ids, places = later_ids, later
            t += way
        return self._member

    def _carry(self, name: Indices, p: Complex, q: Complex, camera: Motion) -> bool:
        """One frame on, for tracks that move from ``p`` to ``q``; False at the end of the way."""
        off_camera = np.abs(q - camera.apply(p)[0])
        carries = self._member[name] & self._settled[name]
        strays = carries & (off_camera > self._slow)
        if strays.sum() >= CARRIERS:
            carries = strays  # a lasso drawn loosely has some background inside
        if carries.sum() >= CARRIERS:
            a, b = _carried(p[carries], q[carries])
            moved = a * p + b
            self._outline = a * self._outline + b
            self._alone = 0
        else:
            moved = camera.apply(p)[0]
            self._outline = camera.apply(self._outline)[0]
            self._alone += 1
        if self._alone > ALONE or not _in_sight(self._outline, self._canvas):
            return False
        self._off_subject[name] += np.abs(q - moved)
        self._off_camera[name] += off_camera
        self._seen[name] += 1
        self._settle(name)
        return True

    def _settle(self, name: Indices) -> None:
        """Let go of members on probation that moved with the camera rather than the subject."""
        ready = ~self._settled[name] & self._member[name] & (self._seen[name] >= PROBATION)
        trial = name[ready]
        allowance = self._slow * self._seen[trial] / 2
        gone = trial[self._off_subject[trial] > self._off_camera[trial] + allowance]
        self._member[gone] = False
        self._settled[trial] = True

    def _take_in(self, ids: Indices, later_ids: Indices, later: Complex) -> None:
        """Tracks that begin inside become members, on probation."""
        fresh = np.setdiff1d(later_ids, ids, assume_unique=True)
        at = later[np.isin(later_ids, fresh, assume_unique=True)]
        born = fresh[inside(self._outline, at)]
        born = born[~self._settled[born]]
        self._member[born] = True
        self._off_subject[born] = self._off_camera[born] = self._seen[born] = 0


def _in_sight(outline: Complex, canvas: Canvas) -> bool:
    """Whether the outline's box meets the picture."""
    hu, hv = canvas.half
    x, y = outline.real, outline.imag
    return bool(x.max() >= -hu and x.min() <= hu and y.max() >= -hv and y.min() <= hv)


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
