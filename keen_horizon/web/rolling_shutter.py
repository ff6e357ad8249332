"""The readout time: estimated from a clip, remembered for a camera."""

from __future__ import annotations

import math

from flask import Blueprint, Response, jsonify
from sqlalchemy.orm import Session

from ..store import cameras, library, treatments
from . import services
from .requests import body

blueprint = Blueprint("shutter", __name__)


@blueprint.post("/clips/<int:clip_id>/readout")
def readout(clip_id: int) -> Response:
    """Estimate the readout time from the clip's marks; at most half a minute of it is looked at."""
    kit = services()
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measured_flat(session, clip)
        found = kit.solver.estimates(clip.recording, measure).readout()
    return jsonify(
        ms=round(found.ms, 1),
        sure=round(found.sure, 1) if math.isfinite(found.sure) else None,
        words=found.words,
    )


@blueprint.get("/cameras")
def known() -> Response:
    with services().database.session() as session:
        return _listed(session)


@blueprint.post("/cameras")
def remember() -> Response:
    data = body()
    with services().database.session.begin() as session:
        cameras.remember(session, data.get("name"), data.get("readout"))
        return _listed(session)


def _listed(session: Session) -> Response:
    told = [
        {"id": c.id, "readout": c.readout, "words": f"{c.name}: {c.readout:g} ms"}
        for c in cameras.cameras(session)
    ]
    return jsonify(cameras=told)
