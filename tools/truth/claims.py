"""What the product claims, held against the truth: that the model it decides on is the best, and
how much shake it says is left, at other calms than its own.

Rendering all of that would take hours, so these rows go by the maps that would be drawn through.
"""

from __future__ import annotations

from pathlib import Path

from keen_horizon.core import pipeline
from keen_horizon.core.media.probe import scan
from keen_horizon.core.motion.camera_motion import MOTION_MODELS
from keen_horizon.core.pipeline import Estimates, Solution
from keen_horizon.core.quality.scores import in_pixels, is_resolved
from keen_horizon.core.stations.motion import MOTION
from keen_horizon.core.treatment import Treatment

from ..rows import Row
from .judge import shake_drawn
from .scene import Scene

CALMS = (40.0, 60.0, 90.0)
SAME = 1.3  # a figure that is resolved is within so many times the true one
WORSE = 1.1  # times the best model that the one decided on may leave


def agrees(px: float, sure: float, true: float) -> bool:
    """Whether a figure that may be ``sure`` more or less is right about the ``true`` one; one that
    is not resolved only says what it is under."""
    if not is_resolved(px, sure):
        return true <= px + sure
    return abs(true - px) <= sure and px / SAME <= true <= px * SAME


def claims(name: str, scene: Scene, source: Path, room: Path) -> list[Row]:
    """Rows about a recording ``source`` of ``scene``; ``room`` is a folder for its tracks."""
    found = scan(source)
    tracks = pipeline.measure(source, found, 0, scene.frames - 1, room)
    estimates = Estimates(tracks, found.probe.canvas)
    own = pipeline.first_treatment(estimates)

    def solved(treatment: Treatment) -> Solution:
        return pipeline.solve(
            pipeline.motion_for(estimates, treatment), estimates.canvas, treatment
        )

    decided = solved(own)
    left = shake_drawn(scene, decided.chain)
    named = {
        model: shake_drawn(scene, solved(_named(own, model, estimates)).chain)
        for model in MOTION_MODELS
    }
    best = min(named, key=lambda model: named[model])
    rows = [
        Row(f"{name}: decided on, against the best model by name", f"≤ {WORSE:g} ×",
            f"{decided.motion.model} {left:.3f} px, {best} {named[best]:.3f} px",
            left <= WORSE * named[best])
    ]  # fmt: skip
    for calm in CALMS:
        at = solved(own.changed(MOTION, calm=calm))
        px, sure = at.report["shake_after"], at.report["shake_after_sure"]
        true = shake_drawn(scene, at.chain)
        rows.append(Row(f"{name}: shake left said at calm {calm:g}, against the true one",
                        "within what it is sure to", f"{in_pixels(px, sure)}, true {true:.2f} px",
                        agrees(px, sure, true)))  # fmt: skip
    return rows


def _named(own: Treatment, model: str, estimates: Estimates) -> Treatment:
    """By a model that is named, with the angle of view that is likeliest where it asks for one."""
    named = own.changed(MOTION, model=model)
    likely = estimates.angle().across
    return named.changed(MOTION, angle_of_view=round(likely, 2)) if likely >= 5 else named
