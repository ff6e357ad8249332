"""The glass: its fall-off, found in a clip or told by hand."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import Any

from flask import Blueprint, Response, jsonify

from ..core.errors import BadSetting
from ..core.stations.glass.by_hand import EVEN, LARGEST, MOST, SMALLEST, Shape, coefficients
from ..core.stations.glass.fall_off import hand_settings
from ..jobs.glass import GLASS, found_glass, glass_details
from ..store import library, treatments
from . import services
from .jobs import describe
from .requests import body

blueprint = Blueprint("glass", __name__, url_prefix="/clips/<int:clip_id>/glass")


@blueprint.app_context_processor
def by_hand() -> dict[str, Any]:
    """What the tools have to know of a fall-off told by hand."""
    low, high = math.ceil(100 * SMALLEST), math.floor(100 * LARGEST)
    return {"by_hand": {"most": MOST, "smallest": low, "largest": high, "even": asdict(EVEN)}}


@blueprint.post("/find")
def find(clip_id: int) -> Response:
    """The fall-off that the clip's marks speak for; a worker looks at some frames."""
    kit = services()
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measured(session, clip)
        details = glass_details(measure)
        known = found_glass(kit.store, details)
        if known is not None:
            return jsonify(work=None, **known)
        job = kit.queue.ask(
            session, GLASS.name, clip.recording_id, clip_id=clip.id, details=details
        )
        return jsonify(work=describe(job), settings=None, words="")


@blueprint.post("/shape")
def shape(clip_id: int) -> Response:
    """The settings of a fall-off told by its loss in the corners, size and softness."""
    data = body()
    numbers = [data.get(name) for name in ("stops", "size", "softness")]
    if not all(isinstance(n, int | float) and not isinstance(n, bool) for n in numbers):
        raise BadSetting("a fall-off is told by its stops, its size and its softness.")
    stops, size, softness = (float(n) for n in numbers if n is not None)
    return jsonify(settings=hand_settings(coefficients(Shape(stops, size, softness))))
