"""The cost curve of a clip, and what marks it: the starts and the versions."""

from __future__ import annotations

import time
from typing import Any

from flask import Blueprint, Response, jsonify
from sqlalchemy.orm import Session

from ..core.pipeline.cost_curve import at_calm, knee, starts
from ..core.quality.scores import in_pixels
from ..core.treatment import parse
from ..jobs.solving import PRICE, solving_details
from ..store import library, treatments
from ..store.models import Clip, Measure
from . import services
from .jobs import asked_once, describe
from .requests import body

KNEE = "chosen from this clip's curve: from here on, more calm buys less than it costs"
blueprint = Blueprint("cost", __name__, url_prefix="/clips/<int:clip_id>/cost")
SOLVING = 0.1  # seconds spent on one answer, about; who wants more asks again


@blueprint.post("")
def curve(clip_id: int) -> Response:
    """What is known of the curve for a treatment's aim, model and edges; ``more`` if not all."""
    data = body()
    began = time.monotonic()
    kit = services()
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatment = parse(data.get("treatment"))
        measure = treatments.measured_flat(session, clip)
        points, complete = kit.costs.grow(clip.recording, measure, treatment, SOLVING)
        work = None
        if not complete and not points:
            # A long clip: a worker finds it all. The calm does not matter to it.
            details = solving_details(measure, at_calm(treatment, 0))
            work = asked_once(session, clip, PRICE.name, details)
        versions, all_known = (
            _versions(session, clip, measure, began + 2 * SOLVING) if complete else ([], False)
        )
        found = starts(points) if complete else []
        best = knee(points) if complete else None
        return jsonify(
            points=[[p.calm, p.picture_kept, p.shake_after] for p in points],
            starts=[
                {
                    "calm": p.calm,
                    "why": KNEE if p == best else "",
                    "kept": f"keeps {p.picture_kept:.0f} %",
                    "left": in_pixels(p.shake_after, p.sure),
                }
                for p in found
            ],
            versions=versions,
            more=not all_known,
            work=describe(work) if work else None,
        )


def _versions(
    session: Session, clip: Clip, measure: Measure, end: float
) -> tuple[list[dict[str, Any]], bool]:
    """Where the versions lie, and whether that is all of them. One of a long clip that nobody
    has solved is left out."""
    found: list[dict[str, Any]] = []
    for version in treatments.versions(session, clip):
        if time.monotonic() > end:
            return found, False
        solution = services().solver.find(clip.recording, measure, parse(version.treatment))
        if solution is not None:
            report = solution.report
            found.append(
                {
                    "name": version.name,
                    "kept": report["picture_kept"],
                    "shake": report["shake_after"],
                }
            )
    return found, True
