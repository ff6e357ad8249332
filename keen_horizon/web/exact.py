"""Exact view: a frame as an export draws it."""

from __future__ import annotations

from flask import Blueprint, Response, jsonify, send_file, url_for

from ..core.treatment import parse
from ..jobs.exact import EXACT, exact_details, exact_pictures, picture_path
from ..store import library, treatments
from ..store.library import NotFound
from . import services
from .jobs import describe
from .requests import body, measured_frame

blueprint = Blueprint("exact", __name__, url_prefix="/clips/<int:clip_id>/exact")
_YEAR = 365 * 24 * 3600


@blueprint.post("")
def view(clip_id: int) -> Response:
    """Have a frame drawn as a treatment has it; addresses of its pictures, once that is done."""
    data, kit = body(), services()
    treatment = parse(data.get("treatment"))
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measured(session, clip)
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


@blueprint.get("/<name>")
def picture(clip_id: int, name: str) -> Response:
    """One of them; its name names its content."""
    try:
        path = picture_path(services().store, name)
    except ValueError as error:
        raise NotFound("there is no such picture.") from error
    if not path.exists():
        raise NotFound("this picture has gone.", remedy="It is drawn again when it is looked at.")
    return send_file(path, mimetype="image/png", conditional=True, max_age=_YEAR)
