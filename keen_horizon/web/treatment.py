"""A clip's treatment: solved, changed, undone, kept under a name, and what covers its edges."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import Blueprint, Response, jsonify, request
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.media.damage import damage_words, damaged_within
from ..core.path.least_zoom import LARGEST, least_cover, widest_view
from ..core.pipeline import Solution
from ..core.stations.frame import FRAME
from ..core.stations.frame.covering import (
    cover_caption,
    cover_settings,
    widest_caption,
    widest_settings,
)
from ..core.stations.motion import MOTION
from ..core.treatment import Treatment, parse
from ..jobs.checking import CHECK
from ..jobs.costs import curve_key
from ..jobs.solutions import motion_key
from ..jobs.solving import SOLVE, shelf_figures, solving_details
from ..store import library, treatments, undoing
from ..store.models import Clip, Measure
from ..store.scans import probe_of
from . import answers, services
from .jobs import asked_once, describe
from .lens_profiles import newer_edition
from .requests import asker, author, body, whole
from .sphere_answers import drawn_sphere

blueprint = Blueprint("treatment", __name__, url_prefix="/clips/<int:clip_id>")
SMALLEST = 256  # px of the longer side of a canvas that keeps the whole view


def near() -> int:
    """The frame of the range that is on show, which a long clip is solved around first."""
    return max(0, request.args.get("near", 0, int))


@blueprint.get("/solution")
def solution(clip_id: int) -> Response:
    """The current treatment, if it is solved; a part of it otherwise."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        return jsonify(_answer(session, clip, treatments.current(clip)))


@blueprint.get("/meanwhile")
def meanwhile(clip_id: int) -> Response:
    """A steady picture to look at while it is found out what suits the clip: by the plain model."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        plain = Treatment().changed(MOTION, model="similarity")
        return jsonify(_answer(session, clip, plain))


@blueprint.get("/lattice")
def lattice(clip_id: int) -> Response:
    """More of the current treatment's lattice: that of a long clip that bends comes in pieces."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measured_flat(session, clip)
        found = services().solver.find(clip.recording, measure, treatments.current(clip))
    return jsonify(lattice=None if found is None else answers.lattice(found, near()))


@blueprint.post("/treatment")
def treat(clip_id: int) -> Response:
    """Solve a treatment; with ``keep``, make it the clip's own (a new revision). ``revision`` is
    the one it was made of: what others changed since stays, 409 where that cannot be."""
    data = body()
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatment = parse(data.get("treatment"))
        elsewhere: list[str] = []
        if data.get("keep"):
            if "revision" in data:
                number = whole(data, "revision", "a revision is given by its number.")
                elsewhere = treatments.change_from(session, clip, treatment, number, asker())
            else:
                treatments.change(session, clip, treatment, asker())
            session.commit()
            treatment = treatments.current(clip)
        answer = _asked(session, clip, treatment, sliding=bool(data.get("sliding")))
        if elsewhere:
            answer["notes"].insert(0, f"Changed elsewhere meanwhile: {', '.join(elsewhere)}.")
        return jsonify(answer)


@blueprint.post("/undo")
def undo(clip_id: int) -> Response:
    return _moved(clip_id, lambda session, clip: undoing.undo(session, clip, author()))


@blueprint.post("/redo")
def redo(clip_id: int) -> Response:
    return _moved(clip_id, lambda session, clip: undoing.redo(session, clip, author()))


@blueprint.post("/versions/<int:revision_id>")
def go_to_version(clip_id: int, revision_id: int) -> Response:
    return _moved(clip_id, lambda session, clip: treatments.go_to(session, clip, revision_id))


def _moved(clip_id: int, move: Callable[[Session, Clip], object]) -> Response:
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        move(session, clip)
        session.commit()
        return jsonify(_asked(session, clip, treatments.current(clip)))


# --- versions -------------------------------------------------------------------------------------


@blueprint.post("/versions")
def keep_version(clip_id: int) -> Response:
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        treatments.name_version(session, clip, body().get("name", ""))
        return jsonify(_standing(session, clip, treatments.current(clip)))


@blueprint.post("/versions/<int:revision_id>/look")
def look_at_version(clip_id: int, revision_id: int) -> Response:
    """What a version looks like, to be compared with."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        revision = treatments.version(session, clip, revision_id)
        measure = treatments.measured(session, clip)
        treatment = parse(revision.treatment)
        drawn = _drawn(clip, measure, treatment)
        if drawn is None:
            details = solving_details(measure, treatment)
            job = asked_once(session, clip, SOLVE.name, details, f"version {revision.id}")
            return jsonify(work=describe(job), name=revision.name)
        return jsonify(work=None, name=revision.name, **drawn)


@blueprint.post("/finished")
def measure_finished(clip_id: int) -> Response:
    """What a treatment's finished picture is measured to; a worker draws and measures it."""
    data = body()
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatment = parse(data.get("treatment"))
        measure = treatments.measured_flat(session, clip)
        known = services().solver.check_of(measure, treatment)
        if known is not None:
            return jsonify(work=None, words=known.sentence)
        job = services().queue.ask(
            session, CHECK.name, clip.recording_id, clip_id=clip.id,
            details=solving_details(measure, treatment),
        )  # fmt: skip
        return jsonify(work=describe(job), words="")


# --- what covers, and what keeps everything in view -----------------------------------------------


@blueprint.post("/cover")
def cover(clip_id: int) -> Response:
    """The least zoom and the best position that hide every bare edge."""
    data = body()
    with services().database.session() as session:
        found, treatment = _asked_for(session, clip_id, data)
    edge = treatment.of(FRAME).rule
    if edge == "trim":
        raise KeenError("what is trimmed has no bare edge.")
    covering = least_cover(found.chain)
    settings = cover_settings(covering)
    if settings and edge != "leave":
        settings["edge"] = "leave"
    return jsonify(settings=settings, words=cover_caption(covering))


@blueprint.post("/keep-view")
def keep_view(clip_id: int) -> Response:
    """An output so large that nothing seen is lost."""
    data = body()
    ceiling = data.get("ceiling", LARGEST)
    if type(ceiling) is not int or not SMALLEST <= ceiling <= LARGEST:
        raise KeenError(f"the largest side is a whole number of px from {SMALLEST} to {LARGEST}.")
    with services().database.session() as session:
        found, _ = _asked_for(session, clip_id, data)
    widest = widest_view(found.chain, ceiling)
    return jsonify(settings=widest_settings(widest), words=widest_caption(widest))


def _asked_for(session: Session, clip_id: int, data: dict[str, Any]) -> tuple[Solution, Treatment]:
    """A solution of the treatment in the request; what is near to it, if that takes long."""
    clip = library.get_clip(session, clip_id)
    treatment = parse(data.get("treatment"))
    measure = treatments.measured_flat(session, clip)
    solver = services().solver
    found = solver.find(clip.recording, measure, treatment)
    if found is None:
        found = solver.provisional(clip.recording, measure, treatment, near())
    return found, treatment


# --- answers --------------------------------------------------------------------------------------


def _standing(session: Session, clip: Clip, treatment: Treatment) -> dict[str, Any]:
    """Where a clip stands among its revisions."""
    revision = clip.revision
    return {
        "treatment": treatment.as_data(),
        "steps": undoing.steps(session, clip, author()),
        "versions": [
            {
                "id": version.id,
                "name": version.name,
                "number": version.number,
                "current": version.id == clip.revision_id,
            }
            for version in treatments.versions(session, clip)
        ],
        "revision": revision.number if revision else 0,
        "newer": newer_edition(session, treatment),
    }


def _depends(measure: Measure, treatment: Treatment) -> dict[str, str]:
    """What other answers about this treatment depend on: who steers, and what calm costs."""
    return {"motion": motion_key(measure, treatment), "cost": curve_key(measure, treatment)}


def _answer(
    session: Session, clip: Clip, treatment: Treatment, *, sliding: bool = False
) -> dict[str, Any]:
    """What is known of a treatment now: all of it, or, of a long clip, what is near."""
    measure = treatments.measured(session, clip)
    drawn = _drawn(clip, measure, treatment, sliding=sliding)
    whole = drawn is not None
    found = drawn or _provisional(clip, measure, treatment, sliding=sliding)
    damaged = damaged_within(clip.recording.damaged, measure.first_frame, measure.last_frame)
    damage = damage_words(damaged)
    return {
        **_standing(session, clip, treatment),
        "damaged": [frame - measure.first_frame for frame in damaged],
        "finished": "",
        "keys": {},
        "whole": whole,
        "solving": None,
        **found,
        "notes": [*([damage] if damage else []), *found["notes"]],
    }


def _drawn(
    clip: Clip, measure: Measure, treatment: Treatment, *, sliding: bool = False
) -> dict[str, Any] | None:
    """A treatment as the page draws it; None where a worker has to solve it first."""
    solver, recording = services().solver, clip.recording
    with services().turns:
        if measure.kind == "sphere":
            sphere = solver.spheres.find(recording, measure, treatment)
            return None if sphere is None else drawn_sphere(sphere, treatment, probe_of(recording))
        found = solver.find(recording, measure, treatment)
        return None if found is None else _flat(found, measure, treatment, sliding=sliding)


def _provisional(
    clip: Clip, measure: Measure, treatment: Treatment, *, sliding: bool
) -> dict[str, Any]:
    """What there is to look at until it is solved."""
    solver, recording = services().solver, clip.recording
    with services().turns:
        if measure.kind == "sphere":
            sphere = solver.spheres.provisional(recording, measure, treatment)
            return drawn_sphere(sphere, treatment, probe_of(recording))
        found = solver.provisional(recording, measure, treatment, near())
        return _flat(found, measure, treatment, sliding=sliding)


def _flat(
    found: Solution, measure: Measure, treatment: Treatment, *, sliding: bool
) -> dict[str, Any]:
    check = services().solver.check_of(measure, treatment)
    return {
        "finished": check.sentence if check else "",
        "keys": _depends(measure, treatment),
        **answers.drawn(found, treatment, near(), sliding=sliding),
    }


def _asked(
    session: Session, clip: Clip, treatment: Treatment, *, sliding: bool = False
) -> dict[str, Any]:
    """The same, and a worker is asked for the rest. While something is ``sliding``, nobody but the
    next position waits for it: nothing is handed to a worker, and only frames near by are drawn."""
    answer = _answer(session, clip, treatment, sliding=sliding)
    if not answer["whole"] and not sliding:
        details = solving_details(treatments.measured(session, clip), treatment)
        answer["solving"] = describe(asked_once(session, clip, SOLVE.name, details))
    figures = shelf_figures(answer["report"])
    if answer["whole"] and clip.shake != figures and treatment == treatments.current(clip):
        clip.shake = figures
        session.commit()
    return answer
