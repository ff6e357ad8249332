"""The clip screen and what it asks for: state, treatment, lattice, strip, marks."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np
from flask import Blueprint, Response, jsonify, render_template, request
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.media.probe import Probe
from ..core.motion.measure import Measure as Marks
from ..core.quality.scores import output_steps
from ..core.steady.solution import Solution
from ..core.treatment import Treatment, parse
from ..jobs.solutions import solving_details
from ..jobs.tasks import shelf_figures
from ..store import shelf, treatments
from ..store.models import Clip
from ..store.timing import stored_scan
from . import services, words
from .work import asked_once, describe, latest

page = Blueprint("clip", __name__, url_prefix="/clips/<int:clip_id>")
MARK_FRAMES = 120  # most frames of marks in one answer


@page.get("")
def screen(clip_id: int) -> str:
    with services().database.session() as session:
        clip = shelf.get_clip(session, clip_id)
        return render_template("clip.html", clip=clip, shoot=clip.recording.shoot)


@page.get("/state")
def state(clip_id: int) -> Response:
    """Where the clip stands. A clip that has not been measured begins to be, by being opened."""
    with services().database.session() as session:
        clip = shelf.get_clip(session, clip_id)
        return jsonify(_state(session, clip))


def _state(session: Session, clip: Clip) -> dict[str, Any]:
    recording = clip.recording
    answer: dict[str, Any] = {
        "id": clip.id,
        "name": clip.name,
        "first": clip.first_frame,
        "last": clip.last_frame,
        "phase": "refused" if recording.refusal else "taking in",
        "refusal": recording.refusal,
        "work": None,
    }
    if recording.probe is None:
        work = latest(session, clip.recording_id, "ingest")
        answer["work"] = describe(work) if work else None
        return answer
    probe = recording.probe
    answer |= {
        "width": probe["width"],
        "height": probe["height"],
        "pixel_aspect": probe["pixel_aspect"],
        "frame_count": probe["frame_count"],
        "rate": probe["rate"],
        "proxy": f"/recordings/{recording.id}/proxy",
        "source_words": f"{probe['width']} × {probe['height']} · {words.rate(probe)}",
        "sound": probe["sound"] is not None,
    }
    measure = treatments.measure_of(session, clip)
    if measure is None:
        work = asked_once(
            session, clip, "measure", {"first": clip.first_frame, "last": clip.last_frame}
        )
        answer |= {"phase": "measuring", "work": describe(work)}
        return answer
    if clip.revision is None:
        # Unless the measure came just now, and with it a first treatment, the range was measured
        # for another clip before; this one begins with the default.
        treatments.begin(session, clip, Treatment())
        session.commit()
    answer |= {"phase": "ready", "measure_seconds": measure.seconds}
    return answer


@page.get("/timing")
def timing(clip_id: int) -> Response:
    """Presentation times of all frames of the recording, seconds."""
    with services().database.session() as session:
        clip = shelf.get_clip(session, clip_id)
        if clip.recording.probe is None:
            raise KeenError("the recording is still being taken in.")
        times = stored_scan(clip.recording, services().vault).times
    return jsonify(times=_packed(times, np.float64))


@page.get("/solution")
def solution(clip_id: int) -> Response:
    """The current treatment, solved."""
    with services().database.session() as session:
        clip = shelf.get_clip(session, clip_id)
        return _solved(session, clip, treatments.current(clip))


@page.post("/treatment")
def treat(clip_id: int) -> Response:
    """Solve a treatment; with ``keep``, make it the clip's own (a new revision)."""
    data = request.get_json() or {}
    with services().database.session() as session:
        clip = shelf.get_clip(session, clip_id)
        treatment = parse(data.get("treatment"))
        if data.get("keep"):
            treatments.change(session, clip, treatment)
            session.commit()
        return _solved(session, clip, treatment)


@page.post("/undo")
def undo(clip_id: int) -> Response:
    return _step(clip_id, treatments.undo)


@page.post("/redo")
def redo(clip_id: int) -> Response:
    return _step(clip_id, treatments.redo)


def _step(clip_id: int, move: Any) -> Response:
    with services().database.session() as session:
        clip = shelf.get_clip(session, clip_id)
        move(session, clip)
        session.commit()
        return _solved(session, clip, treatments.current(clip))


@page.post("/versions")
def keep_version(clip_id: int) -> Response:
    with services().database.session.begin() as session:
        clip = shelf.get_clip(session, clip_id)
        treatments.name_version(session, clip, (request.get_json() or {}).get("name", ""))
        return jsonify(versions=_versions(session, clip))


@page.post("/versions/<int:revision_id>")
def go_to_version(clip_id: int, revision_id: int) -> Response:
    with services().database.session() as session:
        clip = shelf.get_clip(session, clip_id)
        treatments.go_to(session, clip, revision_id)
        session.commit()
        return _solved(session, clip, treatments.current(clip))


@page.post("/range")
def set_range(clip_id: int) -> Response:
    """Use another range of the recording; it is measured unless it has been already."""
    data = request.get_json() or {}
    first, last = data.get("first"), data.get("last")
    if not isinstance(first, int) or not isinstance(last, int):
        raise KeenError("a range is given as two frame numbers.")
    with services().database.session() as session:
        clip = shelf.get_clip(session, clip_id)
        treatments.set_range(clip, first, last)
        session.commit()
        return jsonify(_state(session, clip))


def _solved(session: Session, clip: Clip, treatment: Treatment) -> Response:
    measure = treatments.measured(session, clip)
    kit = services()
    found = kit.solver.find(clip.recording, measure, treatment, patient=False)
    common = {
        "treatment": treatment.model_dump(mode="json"),
        "steps": treatments.steps(session, clip),
        "versions": _versions(session, clip),
        "revision": clip.revision.number if clip.revision else 0,
    }
    if found is None:
        work = asked_once(session, clip, "solve", solving_details(measure, treatment))
        return jsonify(common | {"solving": describe(work)})
    figures = shelf_figures(found.report)
    if clip.shake != figures and treatment == treatments.current(clip):
        clip.shake = figures
        session.commit()
    report = found.report
    return jsonify(
        common
        | {
            "solving": None,
            "report": report,
            "words": {
                "motion": words.motion_words(treatment, report),
                "shake": words.shake_words(report),
                "removed": words.removed_words(report),
                "frame": words.frame_words(treatment, report),
                "motion_warning": words.motion_warning(report),
                "frame_warning": words.frame_warning(report),
            },
            "lattice": _lattice(found),
            "strip": _strip(found),
        }
    )


def _versions(session: Session, clip: Clip) -> list[dict[str, Any]]:
    return [
        {
            "id": revision.id,
            "name": revision.name,
            "number": revision.number,
            "current": revision.id == clip.revision_id,
        }
        for revision in treatments.versions(session, clip)
    ]


def _lattice(solution: Solution) -> dict[str, Any]:
    nodes = solution.chain.lattice()
    _, rows, columns, _ = nodes.shape
    return {"columns": columns, "rows": rows, "nodes": _packed(nodes, np.float32)}


def _strip(solution: Solution) -> dict[str, Any]:
    """What the strip draws, one value a frame, base64 of float32."""
    motion = solution.motion
    moved = output_steps(motion.steps, solution.chain.steady)
    return {
        "before": _components(motion.steps.a, motion.steps.b),
        "after": _components(moved.a, moved.b),
        "room": _packed(solution.room, np.float32),
        "zooms": _packed(np.minimum(solution.zooms, 99.0), np.float32),
        "confidence": _packed(motion.confidence, np.float32),
        "cuts": motion.cuts.tolist(),
    }


def _components(a: NDArray[np.complex128], b: NDArray[np.complex128]) -> dict[str, str]:
    """Running sums of the steps: px across and down, degrees of roll, percent of size."""
    return {
        "across": _packed(np.cumsum(b.real), np.float32),
        "updown": _packed(np.cumsum(b.imag), np.float32),
        "roll": _packed(np.degrees(np.cumsum(np.angle(a))), np.float32),
        "size": _packed(100 * np.expm1(np.cumsum(np.log(np.abs(a)))), np.float32),
    }


@page.get("/marks")
def marks(clip_id: int) -> Response:
    """Marks of some frames of the range: share of width, share of height, 1 if it steers."""
    start = request.args.get("from", 0, int)
    stop = request.args.get("to", start, int)
    with services().database.session() as session:
        clip = shelf.get_clip(session, clip_id)
        measure = treatments.measured(session, clip)
        treatment = treatments.current(clip)
        canvas = Probe.from_json(clip.recording.probe or {}).canvas
    kit = services()
    kept = Marks.read(kit.vault.path(measure.folder_key))
    if not 0 <= start <= stop < len(kept) or stop - start >= MARK_FRAMES:
        raise KeenError(f"frames {start} to {stop} cannot be shown at once.")
    motion = kit.solver.motion(clip.recording, measure, treatment)
    low, high = int(kept.offsets[start]), int(kept.offsets[stop + 1])
    records = kept.records[low:high]
    table = np.stack(
        [
            (records["x"] + 0.5) / canvas.width,
            (records["y"] + 0.5) / canvas.height,
            motion.steering[low:high],
        ],
        axis=-1,
    )
    counts = np.diff(kept.offsets[start : stop + 2])
    return jsonify(first=start, counts=counts.tolist(), marks=_packed(table, np.float32))


def _packed(values: NDArray[Any], kind: Any) -> str:
    return base64.b64encode(np.ascontiguousarray(values, kind).tobytes()).decode()
