"""The lens: angles, edges traced in single pictures, and the lens they speak for."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
from flask import Blueprint, Response, jsonify, request
from numpy.typing import NDArray
from pydantic import TypeAdapter, ValidationError
from sqlalchemy.orm import Session

from ..core.errors import BadSetting, KeenError
from ..core.geometry.canvas import Canvas
from ..core.lens.angles import focal_of
from ..core.lens.distortion import USED, Distortion
from ..core.lens.fit import EdgeFit, fit_edges, straight_turns
from ..core.lens.lens_from_settings import to_settings
from ..core.lens.trace import trace_edge
from ..core.media.probe import Probe
from ..core.treatment import StraightEdge
from ..store import library
from ..store.models import Clip
from . import services
from .jobs import asked_once, describe

page = Blueprint("lens", __name__, url_prefix="/clips/<int:clip_id>/lens")
SHAPES = {"16:9": 9 / 16, "4:3": 3 / 4}  # height over width of a recording
WIDEST = 179.0  # degrees from corner to corner that a dial can be turned to
_EDGES = TypeAdapter(list[StraightEdge])


def _canvas(clip: Clip) -> Canvas:
    return Probe.from_json(clip.recording.probe or {}).canvas


@page.get("/angle")
def angle(clip_id: int) -> Response:
    """The focal length of a lens known by its angle of view from corner to corner.

    ``shape`` is that of the recording the angle was told for: another crop of the same width.
    """
    degrees = request.args.get("degrees", type=float)
    shape = SHAPES.get(request.args.get("shape", ""))
    if degrees is None or not 20 <= degrees <= WIDEST:
        raise BadSetting(f"an angle of view is a number from 20 to {WIDEST:g} degrees.")
    with services().database.session() as session:
        canvas = _canvas(library.get_clip(session, clip_id))
    own = canvas.height / (canvas.width * canvas.pixel_aspect)
    focal = focal_of(degrees, 1.0, own if shape is None else shape, Distortion("fisheye"))
    return jsonify(focal=round(focal, 5))


@page.post("/look")
def look(clip_id: int) -> Response:
    """Have a frame decoded for tracing; the edges found in it, once that is done."""
    frame = _frame((request.get_json() or {}).get("frame"))
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        if not services().looks.is_there(clip.recording, frame):
            return jsonify(there=False, work=_asked(session, clip, frame))
        return jsonify(there=True, edges=services().looks.proposed(clip.recording, frame))


@page.post("/trace")
def trace(clip_id: int) -> Response:
    """The edge along ``pins``, shares of the picture's size, in a frame that has been looked at."""
    data = request.get_json() or {}
    frame, pins = _frame(data.get("frame")), data.get("pins")
    try:
        places = np.array(pins, float).reshape(-1, 2)
    except (TypeError, ValueError) as error:
        raise KeenError("an edge is given as points of the picture.") from error
    if len(places) < 2 or len(places) > 12 or not np.isfinite(places).all():
        raise KeenError("an edge takes two points, and up to ten more where it was dragged.")
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        canvas = _canvas(clip)
        if not services().looks.is_there(clip.recording, frame):
            return jsonify(there=False, work=_asked(session, clip, frame))
        slopes = services().looks.slopes(clip.recording, frame)
    size = np.array([canvas.width, canvas.height])
    found = trace_edge(slopes, [(float(x), float(y)) for x, y in places * size - 0.5])
    points = ((found.points + 0.5) / size).round(6).tolist()
    return jsonify(there=True, points=points, seen=round(found.seen, 3))


@page.post("/fit")
def fit(clip_id: int) -> Response:
    """The lens that straightens edges: settings, and what each edge is left with."""
    data = request.get_json() or {}
    try:
        edges = _EDGES.validate_json(json.dumps(data.get("edges")))
    except ValidationError as error:
        raise KeenError("edges are given as points of the picture, at least two each.") from error
    model, live = data.get("model"), data.get("live")
    if model not in (None, *USED) or live not in (None, *USED) or "rectilinear" in (model, live):
        raise KeenError("a lens is brown, fisheye or division.")
    if not edges:
        raise KeenError("there is no edge yet.", remedy="Trace one.")
    with services().database.session() as session:
        canvas = _canvas(library.get_clip(session, clip_id))
    pixels = [_pixels(edge, canvas) for edge in edges]
    found = fit_edges(pixels, canvas, model, live)
    return jsonify(
        settings=to_settings(found.distortion, found.focal)
        | {"found_by": "edges", "residual": round(found.residual, 3)},
        residuals=found.residuals.round(2).tolist(),
        contradicting=found.contradicting,
        words=found.words,
        levels=_levels(edges, pixels, canvas, found),
    )


def _levels(
    edges: list[StraightEdge], pixels: list[NDArray[np.float64]], canvas: Canvas, found: EdgeFit
) -> list[dict[str, float]]:
    """By how much the picture has to turn, degrees clockwise, at each frame that has level or
    upright edges."""
    leans = np.degrees(straight_turns(pixels, canvas, found))
    at: dict[int, list[float]] = {}
    for edge, lean in zip(edges, leans, strict=True):
        if edge.runs != "any":
            off = lean if edge.runs == "level" else lean - 90
            at.setdefault(edge.frame, []).append(float((off + 90) % 180 - 90))
    return [{"frame": f, "turn": round(-float(np.mean(v)), 3)} for f, v in sorted(at.items())]


def _pixels(edge: StraightEdge, canvas: Canvas) -> NDArray[np.float64]:
    return np.array(edge.points, float) * [canvas.width, canvas.height] - 0.5


def _frame(value: object) -> int:
    if not isinstance(value, int) or value < 0:
        raise KeenError("a frame is given by its number.")
    return value


def _asked(session: Session, clip: Clip, frame: int) -> dict[str, Any]:
    count = (clip.recording.probe or {}).get("frame_count", 0)
    if frame >= count:
        raise KeenError(f"frame {frame} does not exist; the recording has {count}.")
    return describe(asked_once(session, clip, "look", {"frame": frame}))
