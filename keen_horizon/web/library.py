"""The shelf: shoots and their clips; dropping files; renaming, removing."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from flask import Blueprint, Response, current_app, jsonify, render_template, request
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.media.containers import demuxer_for
from ..store import library, treatments
from ..store.media_store import too_large
from ..store.models import OPEN_STATES, Clip, Job, Shoot
from . import captions, services
from .jobs import describe, latest

page = Blueprint("shelf", __name__)


def card(session: Session, clip: Clip) -> dict[str, Any]:
    """A clip as the shelf shows it."""
    recording, probe = clip.recording, clip.recording.probe
    work = session.scalar(
        select(Job)
        .where(
            Job.recording_id == recording.id,
            Job.state.in_(OPEN_STATES),
            Job.kind.in_(("ingest", "measure")),
        )
        .order_by(Job.id)
        .limit(1)
    )
    failed = None
    if work is None and probe is None:
        failed = latest(session, recording.id, "ingest")
    facts: dict[str, Any] = {
        "id": clip.id,
        "name": clip.name,
        "file": recording.name,
        "weight": captions.size(recording.size),
        "refusal": recording.refusal,
        "poster": f"/recordings/{recording.id}/poster" if recording.poster_key else None,
        "work": describe(work) if work else None,
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
        facts["shake"] = captions.shake_words(clip.shake) | {"kept": clip.shake["picture_kept"]}
    facts["state"] = _state(session, clip, facts)
    return facts


def _state(session: Session, clip: Clip, facts: dict[str, Any]) -> str:
    if facts["refusal"]:
        return "refused"
    if facts["work"]:
        return {"ingest": "being taken in", "measure": "being measured"}[facts["work"]["kind"]]
    if not facts["ready"]:
        return "not taken in"
    return "measured" if treatments.measure_of(session, clip) else "not measured yet"


def _shelf(session: Session) -> list[dict[str, Any]]:
    return [
        {
            "id": shoot.id,
            "name": shoot.name,
            "clips": [card(session, clip) for clip in library.clips_of(session, shoot)],
        }
        for shoot in library.shoots(session)
    ]


@page.get("/")
def index() -> str:
    return render_template("shelf.html", limit=current_app.config["UPLOAD_LIMIT"])


@page.get("/shelf.json")
def listing() -> Response:
    with services().database.session() as session:
        return jsonify(shoots=_shelf(session))


@page.post("/shoots")
def add_shoot() -> Response:
    with services().database.session.begin() as session:
        shoot = library.add_shoot(session, (request.get_json() or {}).get("name"))
        return jsonify(id=shoot.id, name=shoot.name)


@page.post("/shoots/<int:shoot_id>/recordings")
def add_recording(shoot_id: int) -> Response:
    """Take a file: the body is its bytes, ``?name=`` its name. Kinds that are not footage are
    refused here, before they are kept; the rest is checked thoroughly by a worker."""
    name = Path(request.args.get("name", "")).name or "clip"
    limit = current_app.config["UPLOAD_LIMIT"]
    if (request.content_length or 0) > limit:
        raise too_large(name, limit)
    kit = services()
    with kit.vault.workspace() as room:
        path, size = kit.vault.receive(request.stream, name, room, limit)  # type: ignore[arg-type]
        if request.content_length is not None and size != request.content_length:
            raise KeenError("the upload broke off.", file=name, remedy="Drop the file again.")
        try:
            demuxer_for(path)
        except KeenError as error:
            raise error.renamed(name) from error
        key = kit.vault.adopt("sources", path)
    with kit.database.session() as session:
        shoot = library.get_shoot(session, shoot_id)
        recording, clip = library.add_recording(session, shoot, name, size, key)
        kit.queue.ask(session, "ingest", recording.id, clip_id=clip.id)
        return jsonify(clip=clip.id)


@page.patch("/clips/<int:clip_id>")
def rename_clip(clip_id: int) -> Response:
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        clip.name = library.clean_name((request.get_json() or {}).get("name"))
        return jsonify(name=clip.name)


@page.patch("/shoots/<int:shoot_id>")
def rename_shoot(shoot_id: int) -> Response:
    with services().database.session.begin() as session:
        shoot = library.get_shoot(session, shoot_id)
        shoot.name = library.clean_name((request.get_json() or {}).get("name"))
        return jsonify(name=shoot.name)


@page.delete("/clips/<int:clip_id>")
def remove_clip(clip_id: int) -> Response:
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        library.remove(clip)
        return jsonify(removed=clip.name)


@page.delete("/shoots/<int:shoot_id>")
def remove_shoot(shoot_id: int) -> Response:
    with services().database.session.begin() as session:
        shoot = library.get_shoot(session, shoot_id)
        library.remove(shoot)
        return jsonify(removed=shoot.name)


@page.post("/clips/<int:clip_id>/put-back")
def put_back_clip(clip_id: int) -> Response:
    with services().database.session.begin() as session:
        return _put_back(session.get(Clip, clip_id))


@page.post("/shoots/<int:shoot_id>/put-back")
def put_back_shoot(shoot_id: int) -> Response:
    with services().database.session.begin() as session:
        return _put_back(session.get(Shoot, shoot_id))


def _put_back(thing: Clip | Shoot | None) -> Response:
    if thing is None:
        raise library.NotFound("there is nothing to put back.")
    library.put_back(thing)
    return jsonify(name=thing.name)
