"""Tracks: what they do at each frame, which move together, and what is set aside."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from flask import Blueprint, Response, jsonify, request
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.motion.camera_motion import CameraMotion
from ..core.pipeline import Estimates
from ..core.stations.motion import MOTION, MotionSettings
from ..core.tracking.exclusion import tracks_of_subject
from ..core.tracking.features import accuracy
from ..core.tracking.groups import TrackGroup, pull
from ..core.tracking.subjects import Lasso, Subject
from ..core.types import Indices
from ..store import library, treatments
from . import captions, services
from .arrays import packed

blueprint = Blueprint("tracks", __name__, url_prefix="/clips/<int:clip_id>")
FRAMES_AT_ONCE = 120  # most frames of marks in one answer
MOST_GROUPS = 12  # in one answer, largest first
REJECTED, STEERING, ASIDE = 0, 1, 2  # what a mark is doing


@dataclass(frozen=True)
class _Looked:
    """What the tracks of a clip are looked at with."""

    settings: MotionSettings
    estimates: Estimates
    motion: CameraMotion

    @property
    def first(self) -> int:
        """Frame of the recording that the range begins with."""
        return self.motion.timeline.first

    def tracks_of(self, subject: Subject) -> Indices:
        """The tracks that a subject names."""
        estimates = self.estimates
        steps = estimates.recorded("similarity").steps
        found = tracks_of_subject(
            subject, estimates.tracks, estimates.canvas, steps, estimates.groups
        )
        return found.track_ids


def _looked_at(session: Session, clip_id: int) -> _Looked:
    clip = library.get_clip(session, clip_id)
    measure = treatments.measured_flat(session, clip)
    treatment = treatments.current(clip)
    solver = services().solver
    return _Looked(
        treatment.of(MOTION),
        solver.estimates(clip.recording, measure),
        solver.motion(clip.recording, measure, treatment),
    )


@blueprint.get("/marks")
def marks(clip_id: int) -> Response:
    """Marks of some frames of the range: share of width, share of height, state, number."""
    start = request.args.get("from", 0, int)
    stop = request.args.get("to", start, int)
    with services().database.session() as session:
        looked = _looked_at(session, clip_id)
    tracks, canvas, evidence = (
        looked.estimates.tracks, looked.estimates.canvas, looked.motion.evidence,
    )  # fmt: skip
    if not 0 <= start <= stop < len(tracks) or stop - start >= FRAMES_AT_ONCE:
        raise KeenError(f"frames {start} to {stop} cannot be shown at once.")
    low, high = int(tracks.offsets[start]), int(tracks.offsets[stop + 1])
    records = tracks.records[low:high]
    state = np.where(evidence.steering[low:high], STEERING, REJECTED)
    if len(evidence.excluded):
        state[evidence.excluded[low:high]] = ASIDE
    table = np.stack(
        [
            (records["x"] + 0.5) / canvas.width,
            (records["y"] + 0.5) / canvas.height,
            state,
            records["id"],
        ],
        axis=-1,
    )
    counts = np.diff(tracks.offsets[start : stop + 2])
    return jsonify(first=start, counts=counts.tolist(), marks=packed(table, np.float32))


@blueprint.get("/groups")
def groups(clip_id: int) -> Response:
    """Marks that move together, what is set aside, and what had better be."""
    with services().database.session() as session:
        looked = _looked_at(session, clip_id)
    settings = looked.settings
    aside = [looked.tracks_of(subject) for subject in settings.aside]
    only = looked.tracks_of(settings.steer_by) if settings.steer_by is not None else None
    found = looked.estimates.groups()[:MOST_GROUPS]
    pulls = [0.0 if _is_among(g, aside) else _pull(g, looked) for g in found]
    return jsonify(
        groups=[
            _told_group(group, looked)
            | {
                "aside": _is_among(group, aside),
                "only": only is not None and _is_among(group, [only]),
            }
            for group in found
        ],
        aside=[
            _told_subject(subject, tracks, looked)
            for subject, tracks in zip(settings.aside, aside, strict=True)
        ],
        only=None
        if settings.steer_by is None or only is None
        else _told_subject(settings.steer_by, only, looked),
        advice=_advice(found, pulls, looked),
    )


def _is_among(group: TrackGroup, sets: Sequence[Indices]) -> bool:
    """Whether most of a group's tracks are in some sets."""
    return bool(sets) and bool(np.isin(group.track_ids, np.concatenate(sets)).mean() > 0.5)


def _pull(group: TrackGroup, looked: _Looked) -> float:
    estimates = looked.estimates
    whole = estimates.recorded("similarity")
    steering = whole.evidence.steering
    return pull(group, estimates.tracks, estimates.canvas, whole.steps, steering)


def _told_group(group: TrackGroup, looked: _Looked) -> dict[str, Any]:
    canvas, first = looked.estimates.canvas, looked.first
    at = canvas.to_pixels(np.array([group.place]))[0]
    share = (at + 0.5) / [canvas.width, canvas.height]
    return {
        "marks": packed(group.track_ids, np.int32),
        "words": _size(group),
        "when": captions.frames_between(first + group.first, first + group.last),
        "speed": f"{group.speed:.1f} px a frame against the rest",
        "subject": {
            "kind": "group",
            "frame": first + group.frame,
            "at": share.round(4).tolist(),
        },
    }


def _size(group: TrackGroup) -> str:
    return f"{len(group.track_ids)} marks · up to {100 * group.share:.0f} % of the picture"


def _told_subject(subject: Subject, found: Indices, looked: _Looked) -> dict[str, Any]:
    """A subject of the treatment: what it came to, where and when."""
    kind = "Lasso" if isinstance(subject, Lasso) else "Group"
    tracks = looked.estimates.tracks
    rows = np.nonzero(np.isin(tracks.records["id"], found))[0]
    when = "nothing there"
    if len(rows):
        ends = np.searchsorted(tracks.offsets, [rows[0], rows[-1]], "right") - 1
        when = captions.frames_between(looked.first + int(ends[0]), looked.first + int(ends[1]))
    return {
        "words": f"{kind} at frame {subject.frame} · {len(found)} marks",
        "when": when,
        "frame": subject.frame,
        "marks": packed(found, np.int32),
    }


def _advice(
    found: Sequence[TrackGroup], pulls: Sequence[float], looked: _Looked
) -> dict[str, Any] | None:
    """The group that pulls the solve most, if any does by more than can be measured."""
    if looked.settings.steer_by is not None or not found:
        return None
    worst = int(np.argmax(pulls))
    if pulls[worst] <= accuracy(looked.estimates.canvas):
        return None
    return {
        "group": worst,
        "words": f"A group of {_size(found[worst])} pulls the solve by {pulls[worst]:.2f} px a "
        "frame. It had better be set aside.",
    }
