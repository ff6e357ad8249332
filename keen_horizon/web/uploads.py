"""Resumable uploads by the tus protocol, version 1.0.0 (tus.io): core, creation, termination.

A file is announced by a POST, its bytes come by PATCH requests, each from where the last one ended;
HEAD tells how far it came, so that a connection may break, or a page be closed, as often as it
likes. The answer to the last bytes names the clip in ``X-Clip``.
"""

from __future__ import annotations

import base64
import binascii
from pathlib import Path

from flask import Blueprint, Response, current_app, request
from werkzeug.exceptions import ClientDisconnected

from ..core.errors import KeenError
from ..store import library
from ..store.media_store import too_large
from ..store.uploads import OutOfStep, Upload, Uploads
from . import services
from .library import take_file

blueprint = Blueprint("uploads", __name__)
VERSION = "1.0.0"
BYTES = "application/offset+octet-stream"


def _uploads() -> Uploads:
    return Uploads(services().store)


def _answer(status: int, **headers: str) -> Response:
    told = {name.replace("_", "-"): value for name, value in headers.items()}
    return Response(status=status, headers={"Tus-Resumable": VERSION, **told})


@blueprint.before_request
def _spoken() -> Response | None:
    """Refuse what speaks another version."""
    if request.method == "OPTIONS" or request.headers.get("Tus-Resumable") == VERSION:
        return None
    return _answer(412, Tus_Version=VERSION)


@blueprint.post("/shoots/<int:shoot_id>/uploads")
def begin(shoot_id: int) -> Response:
    """Announce a file: ``Upload-Length`` bytes; its name is in ``Upload-Metadata``."""
    size, name = _number("Upload-Length"), _name()
    limit = current_app.config["UPLOAD_LIMIT"]
    if size > limit:
        raise too_large(name, limit)
    with services().database.session() as session:
        if library.get_shoot(session, shoot_id).removed is not None:
            raise library.NotFound("the shoot was removed.", remedy="Put it back first.")
    upload = _uploads().begin(shoot_id, name, size)
    return _answer(201, Location=f"/uploads/{upload.number}")


def _name() -> str:
    for one in request.headers.get("Upload-Metadata", "").split(","):
        key, _, value = one.strip().partition(" ")
        if key == "filename":
            try:
                told = base64.b64decode(value, validate=True).decode()
            except (binascii.Error, UnicodeDecodeError) as error:
                raise KeenError("the file's name cannot be read.") from error
            return library.clean_name(Path(told).name or "clip")
    return "clip"


def _number(header: str) -> int:
    told = request.headers.get(header, "")
    if not (told.isascii() and told.isdecimal()) or len(told) > 15:
        raise KeenError(f"{header} has to be a number of bytes.")
    return int(told)


@blueprint.route("/uploads/<number>", methods=["HEAD"])
def ask(number: str) -> Response:
    """How far it came."""
    uploads = _uploads()
    upload = uploads.find(number)
    answer = _answer(
        200, Upload_Offset=str(uploads.come(upload)), Upload_Length=str(upload.size),
        Cache_Control="no-store",
    )  # fmt: skip
    if upload.clip:
        answer.headers["X-Clip"] = str(upload.clip)
    return answer


@blueprint.patch("/uploads/<number>")
def go_on(number: str) -> Response:
    """More of its bytes, from ``Upload-Offset`` on."""
    if request.mimetype != BYTES:
        raise KeenError(f"bytes come as {BYTES}.")
    uploads = _uploads()
    upload = uploads.find(number)
    have = _number("Upload-Offset")
    if upload.clip:
        return _answer(204, Upload_Offset=str(upload.size), X_Clip=str(upload.clip))
    try:
        have = uploads.append(upload, have, request.stream)  # type: ignore[arg-type]
    except OutOfStep:
        return _answer(409)
    except ClientDisconnected:
        return _answer(400)
    answer = _answer(204, Upload_Offset=str(have))
    if have == upload.size:
        answer.headers["X-Clip"] = str(_whole(uploads, upload))
    return answer


def _whole(uploads: Uploads, upload: Upload) -> int:
    """The clip that a whole file becomes. One that is no footage is forgotten; where something else
    is in the way its last byte is asked for once more, which tries again."""
    try:
        clip = take_file(upload.shoot, uploads.part(upload), upload.name)
    except KeenError:
        uploads.forget(upload)
        raise
    except Exception:  # the database is away, say
        uploads.step_back(upload)
        raise
    uploads.became(upload, clip)
    return clip


@blueprint.delete("/uploads/<number>")
def stop(number: str) -> Response:
    """It is not wanted any more."""
    uploads = _uploads()
    uploads.forget(uploads.find(number))
    return _answer(204)
