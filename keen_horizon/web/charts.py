"""Charts: printed, photographed, found, and the lens that they give."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, jsonify, request

from ..core.errors import KeenError
from ..core.media.photographs import LARGEST_FILE, check_photograph
from ..core.stations.lens.chart import Board
from ..core.stations.lens.printed import PAPERS, chart_pdf, chart_svg
from ..core.treatment.lens_profile import same_crop
from ..jobs.charts import CHART, MOST_PHOTOS, chart_result
from ..store import library
from ..store.scans import probe_of
from . import services
from .jobs import asked_once, describe
from .lens import squeeze_of
from .requests import body, whole

blueprint = Blueprint("charts", __name__)
_PHOTO_KEY = re.compile(r"photos/[0-9a-f]{2}/[0-9a-f]{64}(\.\w{1,8})?")


def _board(data: dict[str, Any]) -> Board:
    words = "a chart is given by its inner corners, across and down."
    return Board(whole(data, "columns", words), whole(data, "rows", words))


@blueprint.get("/chart.<kind>")
def printable(kind: str) -> Response:
    """A chart to print: ``?columns=9&rows=6&paper=A4``, as ``pdf`` or ``svg``."""
    board = _board({key: request.args.get(key, type=int) for key in ("columns", "rows")})
    paper = request.args.get("paper", "A4")
    if paper not in PAPERS or kind not in ("pdf", "svg"):
        raise library.NotFound("a chart is printed on A4 or A3, as pdf or svg.")
    if kind == "pdf":
        response = Response(chart_pdf(board, paper), mimetype="application/pdf")
    else:
        response = Response(chart_svg(board, paper), mimetype="image/svg+xml")
    name = f"chart-{board.columns}x{board.rows}-{paper}.{kind}"
    response.headers.set("Content-Disposition", "attachment", filename=name)
    return response


@blueprint.post("/clips/<int:clip_id>/photos")
def add_photo(clip_id: int) -> Response:
    """Take one photograph of a chart: the body is its bytes, ``?name=`` its name."""
    name = Path(request.args.get("name", "")).name or "photograph"
    kit = services()
    with kit.database.session() as session:
        library.get_clip(session, clip_id)
    with kit.store.workspace() as room:
        path, size = kit.store.receive(request.stream, name, room, LARGEST_FILE)  # type: ignore[arg-type]
        with path.open("rb") as stream:
            check_photograph(name, size, stream.read(16))
        key = kit.store.adopt("photos", path)
    return jsonify(key=key, name=name[:80])


@blueprint.post("/clips/<int:clip_id>/chart")
def chart(clip_id: int) -> Response:
    """Find charts in photographs that were added, or in the clip; the lens, once that is done."""
    data = body()
    board = _board(data)
    details: dict[str, Any] = {"columns": board.columns, "rows": board.rows}
    photos = data.get("photos") or []
    if not isinstance(photos, list) or len(photos) > MOST_PHOTOS:
        raise KeenError(f"{MOST_PHOTOS} photographs at most can be read at once.")
    kit = services()
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        if photos:
            details["photos"] = [photo_at(photo) for photo in photos]
        else:
            details |= {"first": clip.first_frame, "last": clip.last_frame}
        details |= {"recording": clip.recording_id, "squeeze": squeeze_of(clip)}
        found = chart_result(kit.store, details)
        if found is None:
            work = asked_once(session, clip, CHART.name, details)
            return jsonify(there=False, work=describe(work))
        why = ""
        if "settings" in found:
            probe = probe_of(clip.recording)
            aspect = 1.0 if photos else probe.pixel_aspect
            if not same_crop(found["width"] * aspect / found["height"], probe.canvas):
                why = (
                    f"The charts are {found['width']} × {found['height']}, this clip is "
                    f"{probe.width} × {probe.height}: another crop of the sensor, for which the "
                    "numbers do not hold."
                )
    return jsonify(there=True, refusal=why, **found)


def photo_at(photo: object) -> dict[str, str]:
    """The key and the name of a photograph that was added. Raises KeenError for anything else."""
    if not isinstance(photo, dict):
        raise KeenError("photographs are given as they were answered.")
    key, name = photo.get("key"), photo.get("name")
    known = isinstance(key, str) and _PHOTO_KEY.fullmatch(key) is not None
    if not known or not services().store.path(str(key)).is_file():
        raise KeenError("a photograph is not there any more.", remedy="Drop it again.")
    return {"key": str(key), "name": str(name)[:80]}


@blueprint.post("/clips/<int:clip_id>/demo-charts")
def demo_charts(clip_id: int) -> Response:
    """Photographs of a chart by the camera on the tender, to try it with."""
    return _shipped(clip_id, "charts")


@blueprint.post("/clips/<int:clip_id>/demo-wall")
def demo_wall(clip_id: int) -> Response:
    """A photograph of an even wall by the camera before the engine shed."""
    return _shipped(clip_id, "wall")


def _shipped(clip_id: int, name: str) -> Response:
    """Photographs that came with the demo shoot, taken in."""
    kit = services()
    with kit.database.session() as session:
        library.get_clip(session, clip_id)
    folder = Path(__file__).parent.parent / "demo" / name
    found = []
    for path in sorted(folder.glob("*.jpg")):
        with kit.store.workspace() as room:
            copy = room / path.name
            copy.write_bytes(path.read_bytes())
            found.append({"key": kit.store.adopt("photos", copy), "name": path.name})
    return jsonify(photos=found)
