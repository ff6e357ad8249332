"""Files the pages show or offer: proxies, posters, exports. Ranges are answered.

What a browser may keep has the content's name in its address, so that it never shows one recording
for another: numbers of recordings begin anew with every new shelf.
"""

from __future__ import annotations

from pathlib import PurePosixPath

from flask import Blueprint, Response, send_file

from ..store.library import NotFound
from ..store.models import Export, Recording
from . import YEAR, services

blueprint = Blueprint("media", __name__)
# What browsers are told of files that they may be able to play themselves, by their endings.
PLAYED = {
    ".mp4": "video/mp4", ".m4v": "video/mp4", ".mov": "video/mp4",
    ".webm": "video/webm", ".mkv": "video/webm",
}  # fmt: skip


def proxy_address(recording: Recording) -> str | None:
    """Where a recording's proxy is; None as long as there is none."""
    return _address(recording, "proxy", recording.proxy_key)


def poster_address(recording: Recording) -> str | None:
    return _address(recording, "poster", recording.poster_key)


def file_address(recording: Recording) -> str | None:
    """Where a recording's own file is, if browsers might play it."""
    plays = PurePosixPath(recording.source_key).suffix in PLAYED
    return _address(recording, "file", recording.source_key) if plays else None


def _address(recording: Recording, what: str, key: str | None) -> str | None:
    return f"/recordings/{recording.id}/{what}/{PurePosixPath(key).name}" if key else None


def _recording(recording_id: int) -> Recording:
    with services().database.session() as session:
        recording = session.get(Recording, recording_id)
    if recording is None:
        raise NotFound("there is no such recording.")
    return recording


def _kept(key: str | None, name: str, mimetype: str) -> Response:
    """A file of the vault, if it is the one that was named."""
    if key is None:
        raise NotFound("this has not been made yet.")
    if PurePosixPath(key).name != name:
        raise NotFound("this has been made anew.", remedy="Load the page again.")
    path = services().store.path(key)
    if not path.exists():
        raise NotFound("the file is missing from the media vault.", file=path)
    response = send_file(path, mimetype=mimetype, conditional=True, max_age=YEAR, etag=path.stem)
    response.headers["Accept-Ranges"] = "bytes"
    return response


@blueprint.get("/recordings/<int:recording_id>/proxy/<name>")
def proxy(recording_id: int, name: str) -> Response:
    return _kept(_recording(recording_id).proxy_key, name, "video/mp4")


@blueprint.get("/recordings/<int:recording_id>/file/<name>")
def recorded_file(recording_id: int, name: str) -> Response:
    """The file as it came, to be looked at until there is a proxy."""
    mimetype = PLAYED.get(PurePosixPath(name).suffix)
    if mimetype is None:
        raise NotFound("browsers do not play such files.")
    return _kept(_recording(recording_id).source_key, name, mimetype)


@blueprint.get("/recordings/<int:recording_id>/poster/<name>")
def poster(recording_id: int, name: str) -> Response:
    return _kept(_recording(recording_id).poster_key, name, "image/jpeg")


def _export(export_id: int) -> tuple[Export, Response]:
    with services().database.session() as session:
        export = session.get(Export, export_id)
    if export is None or export.file_key is None:
        raise NotFound("this export is not finished.")
    name = PurePosixPath(export.file_key).name
    response = _kept(export.file_key, name, "video/mp4")
    response.headers["Cache-Control"] = "no-cache"  # its address does not name its content
    return export, response


@blueprint.get("/exports/<int:export_id>/file")
def export_file(export_id: int) -> Response:
    export, response = _export(export_id)
    response.headers.set("Content-Disposition", "attachment", filename=export.file_name)
    return response


@blueprint.get("/exports/<int:export_id>/film")
def export_film(export_id: int) -> Response:
    """The same, to be looked at on the page."""
    return _export(export_id)[1]
