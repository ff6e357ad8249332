"""Files the pages show or offer: proxies, posters, exports. Ranges are answered."""

from __future__ import annotations

from flask import Blueprint, Response, send_file

from ..store.library import NotFound
from ..store.models import Export, Recording
from . import services

page = Blueprint("media", __name__)
_YEAR = 365 * 24 * 3600


def _recording(recording_id: int) -> Recording:
    with services().database.session() as session:
        recording = session.get(Recording, recording_id)
    if recording is None:
        raise NotFound("there is no such recording.")
    return recording


def _kept(key: str | None, mimetype: str) -> Response:
    if key is None:
        raise NotFound("this has not been made yet.")
    path = services().vault.path(key)
    if not path.exists():
        raise NotFound("the file is missing from the media vault.", file=path)
    # Named by content, so it never changes.
    response = send_file(path, mimetype=mimetype, conditional=True, max_age=_YEAR, etag=path.stem)
    response.headers["Accept-Ranges"] = "bytes"
    return response


@page.get("/recordings/<int:recording_id>/proxy")
def proxy(recording_id: int) -> Response:
    return _kept(_recording(recording_id).proxy_key, "video/mp4")


@page.get("/recordings/<int:recording_id>/poster")
def poster(recording_id: int) -> Response:
    return _kept(_recording(recording_id).poster_key, "image/jpeg")


@page.get("/exports/<int:export_id>/file")
def export_file(export_id: int) -> Response:
    with services().database.session() as session:
        export = session.get(Export, export_id)
    if export is None or export.file_key is None:
        raise NotFound("this export is not finished.")
    response = _kept(export.file_key, "video/mp4")
    response.headers.set("Content-Disposition", "attachment", filename=export.file_name)
    return response
