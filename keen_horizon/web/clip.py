"""The clip screen and what it asks for: state, treatment, lattice, strip, marks."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
from flask import Blueprint, Response, jsonify, render_template, request
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.lens.angles import displacement_curve
from ..core.motion.estimate import motion_settings
from ..core.path.least_zoom import LARGEST, least_cover, widest_view
from ..core.path.report import bare_shares
from ..core.path.solution import Solution
from ..core.quality.scores import output_steps
from ..core.tracking.features import CLOSER_COST
from ..core.treatment import STATIONS, Treatment, parse, with_stations
from ..jobs.runner import shelf_figures
from ..jobs.solutions import solving_details
from ..store import library, treatments
from ..store.models import Clip
from ..store.timing import stored_scan
from . import captions, services
from .arrays import packed
from .jobs import asked_once, describe, latest
from .lens_profiles import newer_edition

NODES = 260_000  # of a lattice in one answer: two megabytes
NEARBY = 61  # frames of one while a slider moves
page = Blueprint("clip", __name__, url_prefix="/clips/<int:clip_id>")


@page.get("")
def screen(clip_id: int) -> str:
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        return render_template("clip.html", clip=clip, shoot=clip.recording.shoot)


@page.get("/state")
def state(clip_id: int) -> Response:
    """Where the clip stands. A clip that has not been measured begins to be, by being opened."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
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
        "source_words": f"{probe['width']} × {probe['height']} · {captions.rate(probe)}",
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
    answer |= {"phase": "ready", "closer": _closer(session, clip)}
    return answer


def _closer(session: Session, clip: Clip) -> dict[str, Any]:
    """Whether the closer measure is wanted, there, or under way, and about how long it takes."""
    usual = treatments.usual_or_closer(session, clip, closer=False)
    there = treatments.usual_or_closer(session, clip, closer=True)
    work = None
    if clip.closer and there is None:
        details: dict[str, object] = {
            "first": clip.first_frame, "last": clip.last_frame, "closer": True,
        }  # fmt: skip
        work = describe(asked_once(session, clip, "measure", details))
    seconds = CLOSER_COST * usual.seconds if usual is not None else None
    return {"wanted": clip.closer, "there": there is not None, "seconds": seconds, "work": work}


@page.post("/closer")
def closer(clip_id: int) -> Response:
    """Want the closer measure, or the usual one; the other stays, and stays in use until then."""
    wanted = bool((request.get_json() or {}).get("wanted"))
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatments.measured(session, clip)
        clip.closer = wanted
        session.commit()
        return jsonify(_closer(session, clip))


@page.get("/timing")
def timing(clip_id: int) -> Response:
    """Presentation times of all frames of the recording, seconds."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        if clip.recording.probe is None:
            raise KeenError("the recording is still being taken in.")
        times = stored_scan(clip.recording, services().vault).times
    return jsonify(times=packed(times, np.float64))


@page.get("/solution")
def solution(clip_id: int) -> Response:
    """The current treatment, solved."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        return _solved(session, clip, treatments.current(clip))


@page.get("/lattice")
def lattice(clip_id: int) -> Response:
    """More of the current treatment's lattice: that of a long clip that bends comes in pieces."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measured(session, clip)
        found = services().solver.find(
            clip.recording, measure, treatments.current(clip), patient=False
        )
    return jsonify(lattice=None if found is None else _lattice(found, _near()))


@page.post("/treatment")
def treat(clip_id: int) -> Response:
    """Solve a treatment; with ``keep``, make it the clip's own (a new revision)."""
    data = request.get_json() or {}
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatment = parse(data.get("treatment"))
        if data.get("keep"):
            treatments.change(session, clip, treatment)
            session.commit()
        return _solved(session, clip, treatment, sliding=bool(data.get("sliding")))


@page.post("/undo")
def undo(clip_id: int) -> Response:
    return _step(clip_id, treatments.undo)


@page.post("/redo")
def redo(clip_id: int) -> Response:
    return _step(clip_id, treatments.redo)


def _step(clip_id: int, move: Any) -> Response:
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        move(session, clip)
        session.commit()
        return _solved(session, clip, treatments.current(clip))


@page.post("/versions")
def keep_version(clip_id: int) -> Response:
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        treatments.name_version(session, clip, (request.get_json() or {}).get("name", ""))
        return jsonify(versions=_versions(session, clip))


@page.post("/versions/<int:revision_id>")
def go_to_version(clip_id: int, revision_id: int) -> Response:
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatments.go_to(session, clip, revision_id)
        session.commit()
        return _solved(session, clip, treatments.current(clip))


@page.get("/versions/<int:revision_id>/lattice")
def version_lattice(clip_id: int, revision_id: int) -> Response:
    """What a version looks like, to be compared with."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        revision = treatments.version(session, clip, revision_id)
        measure = treatments.measured(session, clip)
        treatment = parse(revision.treatment)
        found = services().solver.find(clip.recording, measure, treatment, patient=False)
        if found is None:
            work = asked_once(session, clip, "solve", solving_details(measure, treatment))
            return jsonify(solving=describe(work), name=revision.name)
        return jsonify(
            solving=None,
            name=revision.name,
            lattice=_lattice(found),
            output=found.report["output"],
        )


@page.post("/cover")
def cover(clip_id: int) -> Response:
    """The least zoom and the best position that hide every bare edge."""
    with services().database.session() as session:
        found, treatment = _asked_for(session, clip_id)
    covering = least_cover(found.chain)
    settings: dict[str, Any] = covering.settings(found.chain)
    if treatment.edge == "trim":
        raise KeenError("what is trimmed has no bare edge.")
    if treatment.edge != "leave":
        settings["edge"] = "leave"
    return jsonify(settings=settings, words=captions.cover_words(covering))


@page.post("/keep-view")
def keep_view(clip_id: int) -> Response:
    """An output so large that nothing seen is lost."""
    ceiling = (request.get_json() or {}).get("ceiling", LARGEST)
    if not isinstance(ceiling, int) or not 256 <= ceiling <= LARGEST:
        raise KeenError(f"the largest side is a whole number of px from 256 to {LARGEST}.")
    with services().database.session() as session:
        found, _ = _asked_for(session, clip_id)
    whole = widest_view(found.chain, ceiling)
    return jsonify(settings=whole.settings, words=captions.whole_words(whole))


def _asked_for(session: Session, clip_id: int) -> tuple[Solution, Treatment]:
    """A solution of the treatment in the request; what is near to it, if that takes long."""
    clip = library.get_clip(session, clip_id)
    treatment = parse((request.get_json() or {}).get("treatment"))
    measure = treatments.measured(session, clip)
    solver = services().solver
    found = solver.find(clip.recording, measure, treatment, patient=False)
    if found is None:
        found = solver.provisional(clip.recording, measure, treatment, _near())
    return found, treatment


@page.get("/others")
def others(clip_id: int) -> Response:
    """The other clips of the shoot, to which a treatment can be copied."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        return jsonify(clips=[{"id": c.id, "name": c.name} for c in library.beside(session, clip)])


@page.post("/copy")
def copy(clip_id: int) -> Response:
    """Copy stations of this clip's treatment to other clips of the shoot, a new revision each."""
    data = request.get_json() or {}
    wanted, stations = data.get("to"), data.get("stations")
    if not isinstance(wanted, list) or not wanted or not all(isinstance(i, int) for i in wanted):
        raise KeenError("no clip was chosen to copy to.")
    if not isinstance(stations, list) or not stations or not set(stations) <= set(STATIONS):
        raise KeenError("no station was chosen to copy.")
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        own = treatments.current(clip)
        beside = {c.id: c for c in library.beside(session, clip)}
        targets = [beside[i] for i in dict.fromkeys(wanted) if i in beside]
        for target in targets:
            changed = with_stations(treatments.current(target), own, stations)
            treatments.change(session, target, changed)
        return jsonify(names=[target.name for target in targets])


@page.post("/range")
def set_range(clip_id: int) -> Response:
    """Use another range of the recording; it is measured unless it has been already."""
    data = request.get_json() or {}
    first, last = data.get("first"), data.get("last")
    if not isinstance(first, int) or not isinstance(last, int):
        raise KeenError("a range is given as two frame numbers.")
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatments.set_range(clip, first, last)
        session.commit()
        return jsonify(_state(session, clip))


def _near() -> int:
    """The frame of the range that is on show, which a long clip is solved around first."""
    return max(0, request.args.get("near", 0, int))


def _solved(
    session: Session, clip: Clip, treatment: Treatment, *, sliding: bool = False
) -> Response:
    """The answer to a treatment. While something is ``sliding``, nobody but the next position
    waits for it: nothing is handed to a worker, and only frames near by are drawn."""
    measure = treatments.measured(session, clip)
    kit = services()
    found = kit.solver.find(clip.recording, measure, treatment, patient=False)
    answer = {
        "treatment": treatment.model_dump(mode="json"),
        "steps": treatments.steps(session, clip),
        "versions": _versions(session, clip),
        "revision": clip.revision.number if clip.revision else 0,
        "steering": json.dumps([measure.id, motion_settings(treatment)], sort_keys=True),
        "solving": None,
        "newer": newer_edition(session, treatment),
    }
    if found is None:
        first = True
        if not sliding:
            work = asked_once(session, clip, "solve", solving_details(measure, treatment))
            answer["solving"] = describe(work)
            first = work.done == 0  # the first answer to a change
        if first:
            found = kit.solver.provisional(clip.recording, measure, treatment, _near())
            answer |= _drawn(found, treatment, sliding=sliding)
        return jsonify(answer)
    figures = shelf_figures(found.report)
    if clip.shake != figures and treatment == treatments.current(clip):
        clip.shake = figures
        session.commit()
    return jsonify(answer | _drawn(found, treatment, sliding=sliding))


def _drawn(found: Solution, treatment: Treatment, *, sliding: bool = False) -> dict[str, Any]:
    """A solution as the screen needs it."""
    report = found.report
    return {
        "report": report,
        "words": {
            "lens": captions.lens_caption(treatment, report),
            "lens_warning": captions.lens_warning(report),
            "angles": captions.angle_words(report),
            "fit": captions.fit_words(report),
            "shutter": captions.shutter_caption(treatment),
            "straight": captions.straight_words(report),
            "motion": captions.motion_caption(treatment, report),
            "why": found.motion.choice.why if found.motion.choice else "",
            "wobble": captions.wobble_words(report),
            "shake": captions.shake_words(report),
            "removed": captions.removed_words(report),
            "pulled": captions.pulled_words(treatment),
            "stretched": captions.stretched_words(report),
            "frame": captions.frame_caption(treatment, report),
            "motion_warning": captions.motion_warning(report),
            "frame_warning": captions.frame_warning(report),
        },
        "first": found.motion.first,
        "lattice": _lattice(found, _near(), NEARBY if sliding else None),
        "displacement": _displacement(found),
        "strip": _strip(found, treatment),
    }


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


def _lattice(solution: Solution, near: int = 0, most: int | None = None) -> dict[str, Any]:
    """The nodes of all frames, or, where that would be much, of those around frame ``near``."""
    chain = solution.chain
    columns, rows = chain.nodes
    count = min(most or len(chain), max(NEARBY, NODES // (columns * rows)), len(chain))
    start = int(np.clip(near - count // 2, 0, len(chain) - count))
    nodes = chain.lattice(slice(start, start + count))
    return {"start": start, "columns": columns, "rows": rows, "nodes": packed(nodes, np.float32)}


def _displacement(solution: Solution) -> dict[str, list[float | None]] | None:
    """The lens' radial displacement, as points of a curve in percent of the half-diagonal."""
    lens = solution.chain.lens
    if lens is None:
        return None
    away, moved = displacement_curve(lens)
    told = [round(v, 3) if np.isfinite(v) else None for v in moved.tolist()]
    return {"away": away.round(2).tolist(), "moved": told}


def _strip(solution: Solution, treatment: Treatment) -> dict[str, Any]:
    """What the strip draws, one value a frame, base64 of float32."""
    motion = solution.motion
    frames = motion.first + np.arange(len(motion))
    moved = output_steps(motion.steps, solution.chain.steady)
    return {
        "before": _components(motion.steps.a, motion.steps.b),
        "after": _components(moved.a, moved.b),
        "room": packed(solution.room, np.float32),
        "zoom": packed(solution.chain.view.zooms(len(motion)), np.float32),
        "blurred": packed(motion.blurred, np.float32),
        "keyed": {
            name: packed(treatment.values(name, frames), np.float32) for name in treatment.keys
        },
        "view": packed(_view(solution), np.float32),
        "held": packed(np.min([track.sure for track in motion.held], axis=0), np.float32)
        if motion.held
        else None,
        "places": packed(_shares(solution), np.float32) if motion.held else None,
        "borrowed": packed(bare_shares(solution.chain), np.float32)
        if treatment.edge == "borrow"
        else None,
        "confidence": packed(motion.confidence, np.float32),
        "cuts": motion.cuts.tolist(),
    }


def _view(solution: Solution) -> NDArray[np.float64]:
    """``(n, 3)`` zoom of each frame against the picture as it fills the output at 1, and where its
    centre lies, in shares of the picture."""
    view, canvas = solution.chain.view, solution.chain.source
    n = len(solution.chain)
    fit = view.output.width * view.output.pixel_aspect / (canvas.width * canvas.pixel_aspect)
    at = view.offsets(n)
    return np.stack(
        [
            view.zooms(n) * view.scale / fit,
            at.real / (canvas.width * canvas.pixel_aspect),
            at.imag / canvas.height,
        ],
        axis=-1,
    )


def _shares(solution: Solution) -> NDArray[np.float64]:
    """``(points, n, 2)`` where the held points are, shares of the source picture."""
    canvas = solution.chain.source
    size = np.array([canvas.width, canvas.height])
    return np.stack([(canvas.to_pixels(t.places) + 0.5) / size for t in solution.motion.held])


def _components(a: NDArray[np.complex128], b: NDArray[np.complex128]) -> dict[str, str]:
    """Running sums of the steps: px across and down, degrees of roll, percent of size."""
    return {
        "across": packed(np.cumsum(b.real), np.float32),
        "updown": packed(np.cumsum(b.imag), np.float32),
        "roll": packed(np.degrees(np.cumsum(np.angle(a))), np.float32),
        "size": packed(100 * np.expm1(np.cumsum(np.log(np.abs(a)))), np.float32),
    }
