"""Tracks: what they do at each frame, which move together, and what is set aside."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from flask import Blueprint, Response, jsonify, request
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.geometry.canvas import Canvas
from ..core.media.probe import Probe
from ..core.motion.camera_motion import CameraMotion
from ..core.tracking.exclusion import chosen
from ..core.tracking.features import accuracy
from ..core.tracking.groups import TrackGroup, pull
from ..core.tracking.tracks import Tracks
from ..core.treatment import Group, Lasso, Treatment
from ..store import library, treatments
from ..store.models import Clip, Measure
from . import captions, services
from .arrays import packed

page = Blueprint("marks", __name__, url_prefix="/clips/<int:clip_id>")
FRAMES_AT_ONCE = 120  # most frames of marks in one answer
MOST_GROUPS = 12  # in one answer, largest first
REJECTED, STEERING, ASIDE = 0, 1, 2  # what a mark is doing


@dataclass(frozen=True)
class _Stand:
    """What the marks of a clip are looked at with."""

    measure: Measure
    treatment: Treatment
    canvas: Canvas
    marks: Tracks
    motion: CameraMotion
    whole: CameraMotion  # by all marks
    groups: list[TrackGroup]


def _stand(session: Session, clip_id: int, *, grouped: bool) -> _Stand:
    clip: Clip = library.get_clip(session, clip_id)
    measure = treatments.measured(session, clip)
    treatment = treatments.current(clip)
    solver = services().solver
    return _Stand(
        measure=measure,
        treatment=treatment,
        canvas=Probe.from_json(clip.recording.probe or {}).canvas,
        marks=solver.marks(measure),
        motion=solver.motion(clip.recording, measure, treatment),
        whole=solver.base_motion(clip.recording, measure, "similarity"),
        groups=solver.groups(clip.recording, measure) if grouped else [],
    )


@page.get("/marks")
def marks(clip_id: int) -> Response:
    """Marks of some frames of the range: share of width, share of height, state, number."""
    start = request.args.get("from", 0, int)
    stop = request.args.get("to", start, int)
    with services().database.session() as session:
        stand = _stand(session, clip_id, grouped=False)
    kept, canvas, motion = stand.marks, stand.canvas, stand.motion
    if not 0 <= start <= stop < len(kept) or stop - start >= FRAMES_AT_ONCE:
        raise KeenError(f"frames {start} to {stop} cannot be shown at once.")
    low, high = int(kept.offsets[start]), int(kept.offsets[stop + 1])
    records = kept.records[low:high]
    state = np.where(motion.steering[low:high], STEERING, REJECTED)
    if len(motion.aside):
        state[motion.aside[low:high]] = ASIDE
    table = np.stack(
        [
            (records["x"] + 0.5) / canvas.width,
            (records["y"] + 0.5) / canvas.height,
            state,
            records["id"],
        ],
        axis=-1,
    )
    counts = np.diff(kept.offsets[start : stop + 2])
    return jsonify(first=start, counts=counts.tolist(), marks=packed(table, np.float32))


@page.get("/groups")
def groups(clip_id: int) -> Response:
    """Marks that move together, what is set aside, and what had better be."""
    with services().database.session() as session:
        stand = _stand(session, clip_id, grouped=True)
    settings = stand.treatment.motion
    aside = [(s, _meant(s, stand)) for s in settings.aside]
    out = np.unique(np.concatenate([m for _, m in aside])) if aside else np.zeros(0, np.intp)
    only = _meant(settings.steer_by, stand) if settings.steer_by is not None else None
    told = [_told(g, stand, out, only) for g in stand.groups[:MOST_GROUPS]]
    return jsonify(
        groups=told,
        aside=[_put(s, m, stand) for s, m in aside],
        only=_put(settings.steer_by, only, stand)
        if settings.steer_by is not None and only is not None
        else None,
        advice=_advice(told, stand),
    )


def _meant(subject: Lasso | Group, stand: _Stand) -> NDArray[np.intp]:
    return chosen(subject, stand.marks, stand.canvas, stand.whole, lambda: stand.groups).marks


def _told(
    group: TrackGroup, stand: _Stand, aside: NDArray[np.intp],
    only: NDArray[np.intp] | None,
) -> dict[str, Any]:  # fmt: skip
    first = stand.measure.first_frame
    canvas = stand.canvas
    at = canvas.to_pixels(np.array([group.place]))[0]
    is_aside = bool(np.isin(group.marks, aside).mean() > 0.5)
    return {
        "marks": packed(group.marks, np.int32),
        "words": f"{len(group.marks)} marks · up to {100 * group.share:.0f} % of the picture",
        "when": captions.frames_between(first + group.first, first + group.last),
        "speed": f"{group.speed:.1f} px a frame against the rest",
        "subject": {
            "kind": "group",
            "frame": first + group.frame,
            "at": [
                round(float((at[0] + 0.5) / canvas.width), 4),
                round(float((at[1] + 0.5) / canvas.height), 4),
            ],
        },
        "aside": is_aside,
        "only": only is not None and bool(np.isin(group.marks, only).mean() > 0.5),
        "pull": 0.0 if is_aside else pull(group, stand.marks, canvas, stand.whole),
    }


def _put(subject: Lasso | Group, found: NDArray[np.intp], stand: _Stand) -> dict[str, Any]:
    """A subject of the treatment: what it came to, where and when."""
    kind = "Lasso" if isinstance(subject, Lasso) else "Group"
    seen = np.isin(stand.marks.records["id"], found)
    rows = np.nonzero(seen)[0]
    when = "nothing there"
    if len(rows):
        ends = np.searchsorted(stand.marks.offsets, [rows[0], rows[-1]], "right") - 1
        first = stand.measure.first_frame
        when = captions.frames_between(first + int(ends[0]), first + int(ends[1]))
    return {
        "words": f"{kind} at frame {subject.frame} · {len(found)} marks",
        "when": when,
        "frame": subject.frame,
        "marks": packed(found, np.int32),
    }


def _advice(told: list[dict[str, Any]], stand: _Stand) -> dict[str, Any] | None:
    """The group that pulls the solve most, if any does by more than can be measured."""
    if stand.treatment.motion.steer_by is not None or not told:
        return None
    worst = max(range(len(told)), key=lambda k: float(told[k]["pull"]))
    if told[worst]["pull"] <= accuracy(stand.canvas):
        return None
    return {
        "group": worst,
        "words": f"A group of {told[worst]['words']} pulls the solve by "
        f"{told[worst]['pull']:.2f} px a frame. It had better be set aside.",
    }
