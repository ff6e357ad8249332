"""Exact view: a frame as an export draws it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from flask import Blueprint, Response, jsonify, send_file, url_for

from ..core.errors import KeenError
from ..core.picture.working_space import space_of
from ..core.pipeline.exact_loop import LONGEST
from ..core.treatment import parse
from ..jobs.exact import (
    EXACT,
    EXACT_LOOP,
    exact_details,
    exact_films,
    exact_pictures,
    film_path,
    loop_details,
    picture_path,
)
from ..store import library, treatments
from ..store.library import NotFound
from ..store.media_store import MediaStore
from ..store.scans import probe_of
from . import YEAR, services
from .jobs import describe
from .requests import body, measured_frame

blueprint = Blueprint("exact", __name__, url_prefix="/clips/<int:clip_id>/exact")


@blueprint.post("")
def view(clip_id: int) -> Response:
    """Have a frame drawn as a treatment has it; addresses of its pictures, once that is done."""
    data, kit = body(), services()
    treatment = parse(data.get("treatment"))
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measured_flat(session, clip)
        frame = measured_frame(data, measure)
        fringes = data.get("fringes") is True
        found = exact_pictures(kit.store, measure, treatment, frame, fringes=fringes)
        if found is None:
            details = exact_details(measure, treatment, frame, fringes=fringes)
            job = kit.queue.ask(
                session, EXACT.name, clip.recording_id, clip_id=clip.id, details=details
            )
            return jsonify(work=describe(job))
    addresses = {
        which: url_for("exact.picture", clip_id=clip_id, name=name)
        for which, name in found["pictures"].items()
    }
    return jsonify(found | {"work": None, "frame": frame, "pictures": addresses})


@blueprint.post("/loop")
def loop(clip_id: int) -> Response:
    """Have a stretch of frames, ``first`` to ``last``, drawn as a treatment has it; addresses of
    its films, once that is done."""
    data, kit = body(), services()
    treatment = parse(data.get("treatment"))
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measured_flat(session, clip)
        stretch = (
            measured_frame({"frame": data.get("first")}, measure),
            measured_frame({"frame": data.get("last")}, measure),
        )
        if not 0 < stretch[1] - stretch[0] < LONGEST:
            raise KeenError(f"a loop of 2 to {LONGEST} frames is drawn exactly.")
        if space_of(probe_of(clip.recording)).depth > 8:
            raise KeenError(
                "browsers do not play films of ten bits.",
                remedy="Look at its frames one by one, exactly.",
            )
        found = exact_films(kit.store, measure, treatment, stretch)
        if found is None:
            job = kit.queue.ask(
                session, EXACT_LOOP.name, clip.recording_id, clip_id=clip.id,
                details=loop_details(measure, treatment, stretch),
            )  # fmt: skip
            return jsonify(work=describe(job))
    films = {
        which: url_for("exact.film", clip_id=clip_id, name=name) for which, name in found.items()
    }
    return jsonify(work=None, films=films)


@blueprint.get("/loop/<name>")
def film(clip_id: int, name: str) -> Response:
    """One of them."""
    return _kept(film_path, name, "film", "video/mp4", "asked for")


@blueprint.get("/<name>")
def picture(clip_id: int, name: str) -> Response:
    """One of them."""
    return _kept(picture_path, name, "picture", "image/png", "looked at")


def _kept(
    where: Callable[[MediaStore, str], Path], name: str, what: str, mimetype: str, when: str
) -> Response:
    """What was drawn, by a name that names its content."""
    try:
        path = where(services().store, name)
    except ValueError as error:
        raise NotFound(f"there is no such {what}.") from error
    if not path.exists():
        raise NotFound(f"this {what} has gone.", remedy=f"It is drawn again when it is {when}.")
    return send_file(path, mimetype=mimetype, conditional=True, max_age=YEAR)
