"""The shelf: shoots and their clips; dropping files; renaming, removing."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, current_app, jsonify, render_template, request
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.media.containers import demuxer_for
from ..core.pipeline.sphere_reports import sphere_shake_captions
from ..core.stations.motion.station import shake_captions
from ..jobs.ingest import INGEST
from ..store import library
from ..store.media_store import suffix_of, too_large
from ..store.models import Clip, Job, Shoot
from . import captions, services
from .jobs import describe
from .media import poster_address
from .requests import body

blueprint = Blueprint("shelf", __name__)


@dataclass(frozen=True)
class _Shelf:
    """What cards are made of, asked for at once for all of them."""

    at_work: dict[int, Job]  # by recording: taking in or measuring
    failed: dict[int, Job]  # likewise, of what could not be taken in
    measured: set[tuple[int, int, int]]  # recording, first and last frame


def _shelf(session: Session) -> list[dict[str, Any]]:
    facts = _Shelf(
        library.work_on_recordings(session),
        library.last_of_untaken(session),
        library.measured_ranges(session),
    )
    clips = library.clips_by_shoot(session)
    return [
        {
            "id": shoot.id,
            "name": shoot.name,
            "clips": [_card(clip, facts) for clip in clips.get(shoot.id, [])],
        }
        for shoot in library.shoots(session)
    ]


def _card(clip: Clip, shelf: _Shelf) -> dict[str, Any]:
    """A clip as the shelf shows it."""
    recording, probe = clip.recording, clip.recording.probe
    job = shelf.at_work.get(recording.id)
    failed = shelf.failed.get(recording.id) if job is None and probe is None else None
    facts: dict[str, Any] = {
        "id": clip.id,
        "name": clip.name,
        "file": recording.name,
        "weight": captions.size(recording.size) if recording.size else "",
        "refusal": recording.refusal,
        "poster": poster_address(recording),
        "work": describe(job) if job else None,
        "failed": describe(failed) if failed else None,
        "shake": None,
        "ready": probe is not None,
        "length": "",
        "format": "",
    }
    if probe is not None and clip.last_frame is not None:
        count = clip.last_frame - clip.first_frame + 1
        share = count / probe["frame_count"]
        facts["length"] = captions.duration(probe["duration"] * share)
        facts["format"] = f"{probe['width']} × {probe['height']} · {captions.rate(probe)}"
    if clip.shake is not None:
        facts["shake"] = _shake(clip.shake)
    facts["state"] = _state(clip, shelf, facts["work"])
    return facts


def _shake(figures: dict[str, Any]) -> dict[str, Any]:
    """Shake before and after, in words, and the percentage of the picture that is kept, of flat
    clips."""
    if figures.get("shake_unit") == "degrees":
        return {**sphere_shake_captions(figures), "kept": None}
    return {**shake_captions(figures), "kept": figures["picture_kept"]}


def _state(clip: Clip, shelf: _Shelf, work: dict[str, Any] | None) -> str:
    if clip.recording.refusal:
        return "refused"
    if work is not None:
        return str(work["doing"]).lower()
    if clip.recording.probe is None or clip.last_frame is None:
        return "not taken in"
    range_ = (clip.recording_id, clip.first_frame, clip.last_frame)
    return "measured" if range_ in shelf.measured else "not measured yet"


@blueprint.get("/")
def index() -> str:
    return render_template("shelf.html", limit=current_app.config["UPLOAD_LIMIT"])


@blueprint.get("/shelf.json")
def listing() -> Response:
    with services().database.session() as session:
        return jsonify(shoots=_shelf(session))


@blueprint.post("/shoots")
def add_shoot() -> Response:
    with services().database.session.begin() as session:
        shoot = library.add_shoot(session, body().get("name"))
        return jsonify(id=shoot.id, name=shoot.name)


@blueprint.post("/shoots/<int:shoot_id>/recordings")
def add_recording(shoot_id: int) -> Response:
    """Take a file in one piece: the body is its bytes, ``?name=`` its name; :mod:`.uploads` takes
    it in as many as it needs."""
    name = Path(request.args.get("name", "")).name or "clip"
    limit = current_app.config["UPLOAD_LIMIT"]
    if (request.content_length or 0) > limit:
        raise too_large(name, limit)
    kit = services()
    with kit.store.workspace() as room:
        path, size = kit.store.receive(request.stream, name, room, limit)  # type: ignore[arg-type]
        if request.content_length is not None and size != request.content_length:
            raise KeenError("the upload broke off.", file=name, remedy="Drop the file again.")
        return jsonify(clip=take_file(shoot_id, path, name))


def take_file(shoot_id: int, path: Path, name: str) -> int:
    """The clip that a received file becomes, on a shelf that is there. Kinds that are not footage
    are refused here, before they are kept; the rest is checked thoroughly by a worker."""
    kit = services()
    try:
        demuxer_for(path)
    except KeenError as error:
        raise error.renamed(name) from error
    with kit.database.session() as session:
        shoot = library.get_shoot(session, shoot_id)
        if shoot.removed is not None:
            raise library.NotFound("the shoot was removed.", remedy="Put it back first.")
        size = path.stat().st_size
        key = kit.store.adopt("sources", path, suffix_of(name))
        recording, clip = library.add_recording(session, shoot, name, size, key)
        kit.queue.ask(session, INGEST.name, recording.id, clip_id=clip.id)
        return clip.id


@blueprint.patch("/clips/<int:clip_id>")
def rename_clip(clip_id: int) -> Response:
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        clip.name = library.clean_name(body().get("name"))
        return jsonify(name=clip.name)


@blueprint.patch("/shoots/<int:shoot_id>")
def rename_shoot(shoot_id: int) -> Response:
    with services().database.session.begin() as session:
        shoot = library.get_shoot(session, shoot_id)
        shoot.name = library.clean_name(body().get("name"))
        return jsonify(name=shoot.name)


@blueprint.delete("/clips/<int:clip_id>")
def remove_clip(clip_id: int) -> Response:
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        library.remove(clip)
        return jsonify(removed=clip.name)


@blueprint.delete("/shoots/<int:shoot_id>")
def remove_shoot(shoot_id: int) -> Response:
    with services().database.session.begin() as session:
        shoot = library.get_shoot(session, shoot_id)
        library.remove(shoot)
        return jsonify(removed=shoot.name)


@blueprint.post("/clips/<int:clip_id>/put-back")
def put_back_clip(clip_id: int) -> Response:
    with services().database.session.begin() as session:
        return _put_back(session.get(Clip, clip_id))


@blueprint.post("/shoots/<int:shoot_id>/put-back")
def put_back_shoot(shoot_id: int) -> Response:
    with services().database.session.begin() as session:
        return _put_back(session.get(Shoot, shoot_id))


def _put_back(thing: Clip | Shoot | None) -> Response:
    if thing is None:
        raise library.NotFound("there is nothing to put back.")
    library.put_back(thing)
    return jsonify(name=thing.name)
