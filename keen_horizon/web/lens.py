"""The lens: angles, edges traced in single pictures, and the lens they speak for."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
from flask import Blueprint, Response, jsonify, request
from pydantic import TypeAdapter, ValidationError
from sqlalchemy.orm import Session

from ..core.errors import BadSetting, KeenError
from ..core.geometry.angles import focal_of
from ..core.geometry.canvas import Canvas
from ..core.geometry.distortion import DISTORTION_MODELS, Distortion
from ..core.stations.lens import LENS
from ..core.stations.lens.by_motion import lens_by_motion, words_of
from ..core.stations.lens.edge_fit import EdgeFit, fit_edges, straight_turns
from ..core.stations.lens.optics import found_by, to_settings
from ..core.stations.lens.settings import StraightEdge
from ..core.stations.lens.trace import trace_edge
from ..core.types import Real
from ..jobs.frame_cache import LOOK
from ..store import library, treatments
from ..store.models import Clip
from ..store.scans import probe_of
from . import services
from .jobs import asked_once, describe
from .requests import body, whole

blueprint = Blueprint("lens", __name__, url_prefix="/clips/<int:clip_id>/lens")
SHAPES = {"16:9": 9 / 16, "4:3": 3 / 4}  # height over width of a recording
NARROWEST, WIDEST = 20.0, 179.0  # degrees from corner to corner that a dial can be turned to
MODELS = [name for name in DISTORTION_MODELS if name != "rectilinear"]
_EDGES = TypeAdapter(list[StraightEdge])


def lens_canvas(clip: Clip) -> Canvas:
    """The canvas of the clip's recording, with pixels as wide as its lens recorded them."""
    settings = treatments.current(clip).of(LENS).model_copy(update={"on": True})
    return LENS.recorded_canvas(settings, probe_of(clip.recording).canvas)


def squeeze_of(clip: Clip) -> float:
    """How much the clip's lens squeezes the picture across; a lens that is found keeps it."""
    return treatments.current(clip).of(LENS).squeeze


@blueprint.get("/angle")
def angle(clip_id: int) -> Response:
    """The settings of a lens known by its angle of view from corner to corner.

    ``shape`` is that of the recording the angle was told for: another crop of the same width.
    """
    degrees = request.args.get("degrees", type=float)
    shape = SHAPES.get(request.args.get("shape", ""))
    if degrees is None or not NARROWEST <= degrees <= WIDEST:
        raise BadSetting(f"an angle of view is a number from {NARROWEST:g} to {WIDEST:g} degrees.")
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        canvas, squeeze = lens_canvas(clip), squeeze_of(clip)
    own = canvas.height / (canvas.width * canvas.pixel_aspect)
    fisheye = Distortion("fisheye")
    focal = focal_of(degrees, 1.0, own if shape is None else shape, fisheye)
    return jsonify(settings=found_by("angle", None, **to_settings(fisheye, focal), squeeze=squeeze))


@blueprint.post("/motion")
def motion(clip_id: int) -> Response:
    """The lens that the clip's own motion tells of: settings, null where it tells of none that
    bends, and what it tells."""
    kit = services()
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measured_flat(session, clip)
        told = kit.solver.estimates(clip.recording, measure).angle()
        found = lens_by_motion(told, probe_of(clip.recording).canvas)
        squeeze = squeeze_of(clip)
    settings = None if found is None else found | {"squeeze": squeeze}
    return jsonify(settings=settings, words=words_of(told))


@blueprint.post("/look")
def look(clip_id: int) -> Response:
    """Have a frame decoded for tracing; the edges found in it, once that is done."""
    frame = _frame(body())
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        if not services().frames.is_there(clip.recording, frame):
            return jsonify(there=False, work=_asked(session, clip, frame))
        return jsonify(there=True, edges=services().frames.proposed(clip.recording, frame))


@blueprint.post("/trace")
def trace(clip_id: int) -> Response:
    """The edge along ``pins``, shares of the picture's size, in a frame that has been looked at."""
    data = body()
    frame, pins = _frame(data), data.get("pins")
    try:
        places = np.array(pins, float).reshape(-1, 2)
    except (TypeError, ValueError, OverflowError) as error:
        raise KeenError("an edge is given as points of the picture.") from error
    if len(places) < 2 or len(places) > 12 or not np.isfinite(places).all():
        raise KeenError("an edge takes two points, and up to ten more where it was dragged.")
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        canvas = probe_of(clip.recording).canvas
        if not services().frames.is_there(clip.recording, frame):
            return jsonify(there=False, work=_asked(session, clip, frame))
        slopes = services().frames.slopes(clip.recording, frame)
    size = np.array([canvas.width, canvas.height])
    found = trace_edge(slopes, [(float(x), float(y)) for x, y in places * size - 0.5])
    points = ((found.points + 0.5) / size).round(6).tolist()
    return jsonify(there=True, points=points, seen=round(found.seen, 3))


@blueprint.post("/fit")
def fit(clip_id: int) -> Response:
    """The lens that straightens edges: settings, and what each edge is left with."""
    data = body()
    try:
        edges = _EDGES.validate_json(json.dumps(data.get("edges")))
    except ValidationError as error:
        raise KeenError("edges are given as points of the picture, at least two each.") from error
    model, live = data.get("model"), data.get("live")
    if model not in (None, *MODELS) or live not in (None, *MODELS):
        raise KeenError(f"a lens is {', '.join(MODELS[:-1])} or {MODELS[-1]}.")
    if not edges:
        raise KeenError("there is no edge yet.", remedy="Trace one.")
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        canvas, squeeze = lens_canvas(clip), squeeze_of(clip)
    pixels = [_pixels(edge, canvas) for edge in edges]
    found = fit_edges(pixels, canvas, model, live)
    return jsonify(
        settings=found_by(
            "edges",
            round(found.residual, 3),
            **to_settings(found.distortion, found.focal),
            squeeze=squeeze,
        ),
        residuals=found.residuals.round(2).tolist(),
        contradicting=found.contradicting,
        words=found.words,
        levels=_levels(edges, pixels, canvas, found),
    )


def _levels(
    edges: list[StraightEdge], pixels: list[Real], canvas: Canvas, found: EdgeFit
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


def _pixels(edge: StraightEdge, canvas: Canvas) -> Real:
    return np.array(edge.points, float) * [canvas.width, canvas.height] - 0.5


def _frame(data: dict[str, Any]) -> int:
    frame = whole(data, "frame", "a frame is given by its number.")
    if frame < 0:
        raise KeenError("a frame is given by its number.")
    return frame


def _asked(session: Session, clip: Clip, frame: int) -> dict[str, Any]:
    count = probe_of(clip.recording).frame_count
    if frame >= count:
        raise KeenError(f"frame {frame} does not exist; the recording has {count}.")
    return describe(asked_once(session, clip, LOOK.name, {"frame": frame}))
