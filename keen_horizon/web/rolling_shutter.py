"""The readout time: estimated from a clip, remembered for a camera."""

from __future__ import annotations

import math

from flask import Blueprint, Response, jsonify, request
from sqlalchemy.orm import Session

from ..core.media.probe import Probe
from ..core.motion.rolling_shutter import estimate_readout
from ..store import cameras, library, treatments
from . import services

page = Blueprint("shutter", __name__)


@page.post("/clips/<int:clip_id>/readout")
def readout(clip_id: int) -> Response:
    """Estimate the readout time from the clip's marks; at most half a minute of it is looked at."""
    kit = services()
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measured(session, clip)
        canvas = Probe.from_json(clip.recording.probe or {}).canvas
        motion = kit.solver.base_motion(clip.recording, measure, "similarity")
        found = estimate_readout(kit.solver.marks(measure), canvas, motion)
    return jsonify(
        ms=round(found.ms, 1),
        sure=round(found.sure, 1) if math.isfinite(found.sure) else None,
        words=found.words,
    )


@page.get("/cameras")
def known() -> Response:
    with services().database.session() as session:
        return _listed(session)


@page.post("/cameras")
def remember() -> Response:
    data = request.get_json() or {}
    with services().database.session.begin() as session:
        cameras.remember(session, data.get("name"), data.get("readout"))
        return _listed(session)


def _listed(session: Session) -> Response:
    told = [
        {"id": c.id, "readout": c.readout, "words": f"{c.name}: {c.readout:g} ms"}
        for c in cameras.cameras(session)
    ]
    return jsonify(cameras=told)
