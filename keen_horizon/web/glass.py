"""The glass: what it does to light and colours, found in a clip or told by hand."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import Any

from flask import Blueprint, Response, jsonify

from ..core.errors import BadSetting, KeenError
from ..core.stations.glass import GLASS as STATION
from ..core.stations.glass.by_hand import (
    EVEN,
    FARTHEST,
    LARGEST,
    MOST,
    SMALLEST,
    TOGETHER,
    Parting,
    Shape,
    coefficients,
    parted_by_hand,
)
from ..core.stations.glass.fall_off import hand_settings
from ..core.stations.glass.lateral import told_settings
from ..core.treatment import parse
from ..jobs.glass import GLASS, found_glass, glass_details
from ..store import library, treatments
from ..store.models import Measure
from ..store.scans import stored_scan
from . import services
from .charts import photo_at
from .jobs import describe
from .requests import body, measured_frame

blueprint = Blueprint("glass", __name__, url_prefix="/clips/<int:clip_id>/glass")


@blueprint.app_context_processor
def by_hand() -> dict[str, Any]:
    """What the tools have to know of what is told by hand."""
    low, high = math.ceil(100 * SMALLEST), math.floor(100 * LARGEST)
    light = {"most": MOST, "smallest": low, "largest": high, "even": asdict(EVEN)}
    colours = {"most": FARTHEST, "together": asdict(TOGETHER)}
    return {"by_hand": {"light": light, "colours": colours}}


@blueprint.post("/find")
def find(clip_id: int) -> Response:
    """What the clip tells of its glass; a worker looks at some frames."""
    kit = services()
    asked = body().get("even")
    limit = parse({"glass": {k: v for k, v in body().items() if k == "limit"}}).of(STATION).limit
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measured_flat(session, clip)
        details = glass_details(measure, limit, None if asked is None else _even(asked, measure))
        known = found_glass(kit.store, details)
        if known is not None:
            return jsonify(work=None, **known)
        job = kit.queue.ask(
            session, GLASS.name, clip.recording_id, clip_id=clip.id, details=details
        )
        return jsonify(work=describe(job), settings=None, words="")


def _even(asked: object, measure: Measure) -> dict[str, Any]:
    """An even surface: a frame of the clip, or a photograph that was added."""
    if not isinstance(asked, dict):
        raise KeenError("an even surface is a frame, or a photograph.")
    if "frame" in asked:
        return {"frame": measured_frame(asked, measure)}
    return photo_at(asked)


@blueprint.post("/light")
def light(clip_id: int) -> Response:
    """The settings of a fall-off told by its loss in the corners, size and softness."""
    stops, size, softness = _numbers("a fall-off", "stops", "size", "softness")
    return jsonify(settings=hand_settings(coefficients(Shape(stops, size, softness))))


@blueprint.post("/colours")
def colours(clip_id: int) -> Response:
    """The settings of lateral colour told by px in the corners, and how it grows outwards."""
    red, blue, outwards = _numbers("lateral colour", "red", "blue", "outwards")
    kit = services()
    with kit.database.session() as session:
        recording = library.get_clip(session, clip_id).recording
        canvas = stored_scan(recording, kit.store).probe.canvas
    found = parted_by_hand(Parting(red, blue, outwards), canvas.radius)
    return jsonify(settings=told_settings(found["red"], found["blue"]))


def _numbers(what: str, *names: str) -> list[float]:
    """Numbers of a question. Raises BadSetting where one is missing."""
    data = body()
    numbers = [data.get(name) for name in names]
    told = [float(n) for n in numbers if isinstance(n, int | float) and not isinstance(n, bool)]
    if len(told) < len(names) or not all(map(math.isfinite, told)):
        raise BadSetting(f"{what} is told by {', '.join(names[:-1])} and {names[-1]}.")
    return told
