"""Solutions as the clip screen needs them: by station, by frame, and as a lattice to draw."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np

from ..core.geometry.angles import displacement_curve
from ..core.geometry.canvas import Canvas
from ..core.geometry.motion import Motion
from ..core.motion.camera_motion import CameraMotion
from ..core.path.areas import bare_shares
from ..core.picture.pixel_stage import AnyStage
from ..core.pipeline import Solution
from ..core.pipeline.render_clip import pixel_stages
from ..core.quality import scores
from ..core.stations.frame import FRAME
from ..core.treatment import Treatment
from ..core.types import Complex, Real
from .arrays import packed

NODES = 260_000  # of a lattice in one answer: two megabytes
NEARBY = 61  # frames of one while a slider moves


def drawn(
    solution: Solution, treatment: Treatment, near: int, *, sliding: bool = False
) -> dict[str, Any]:
    """Everything about a solution. ``near`` is the frame of the range that is on show; while
    something is ``sliding`` only what is around it is drawn."""
    told = solution.told(treatment)
    warnings = told["warnings"]
    stations = {
        station.name: {
            "summary": station.summary(own, told),
            "warnings": warnings[station.name],
            "details": station.details(own, told),
            "figures": [asdict(figure) for figure in station.figures(own, told)],
        }
        for station, own in treatment.each("flat")
    }
    return {
        "report": told,
        "stations": stations,
        # What bounds the picture comes first, as it does for an editor.
        "price": [
            asdict(figure)
            for station, own in reversed(list(treatment.each("flat")))
            for figure in station.figures(own, told)
            if figure.on_price_line
        ],
        "notes": list(solution.notes),
        "first": solution.motion.timeline.first,
        "lattice": lattice(solution, near, NEARBY if sliding else None),
        "pixels": _pixels(solution, treatment),
        "displacement": _displacement(solution.motion),
        "strip": _strip(solution, treatment),
    }


def lattice(solution: Solution, near: int = 0, most: int | None = None) -> dict[str, Any]:
    """The nodes of all frames, or, where that would be much, of those around frame ``near``."""
    chain = solution.chain
    columns, rows = chain.nodes
    count = min(most or len(chain), max(NEARBY, NODES // (columns * rows)), len(chain))
    start = int(np.clip(near - count // 2, 0, len(chain) - count))
    nodes = chain.lattice(slice(start, start + count))
    return {"start": start, "columns": columns, "rows": rows, "nodes": packed(nodes, np.float32)}


def _pixels(solution: Solution, treatment: Treatment) -> list[dict[str, Any]]:
    """What is done to pixels."""
    return [packed_stage(stage) for stage in pixel_stages(solution, treatment)]


def packed_stage(stage: AnyStage) -> dict[str, Any]:
    """A stage of pixels: its rule, and its numbers at every frame."""
    return {
        "name": stage.name,
        "end": stage.end,
        "coded": getattr(stage, "coded", False),
        "reach": getattr(stage, "reach", 0.0),
        "shader": stage.shader,
        "uniforms": {
            name: {"size": values[0].size, "values": packed(values, np.float32)}
            for name, values in stage.uniforms().items()
        },
    }


def _displacement(motion: CameraMotion) -> dict[str, list[float | None]] | None:
    """The lens' radial displacement, as points of a curve in percent of the half-diagonal."""
    if motion.lens is None:
        return None
    away, moved = displacement_curve(motion.lens)
    told = [round(v, 3) if np.isfinite(v) else None for v in moved.tolist()]
    return {"away": away.round(2).tolist(), "moved": told}


def _strip(solution: Solution, treatment: Treatment) -> dict[str, Any]:
    """What the strip draws, one value a frame, base64 of float32."""
    motion, canvas = solution.motion, solution.chain.source
    timeline, held = motion.timeline, motion.held
    borrows = treatment.of(FRAME).rule == "borrow"
    motions = [stage for stage in solution.corrections if isinstance(stage, Motion)]
    return {
        "before": _path(scores.place_steps(motion.steps, canvas), canvas),
        "after": _path(scores.place_steps(motion.steps, canvas, motions), canvas),
        "room": packed(solution.room, np.float32),
        "zoom": packed(solution.chain.view.zooms(len(motion)), np.float32),
        "blurred": packed(timeline.blurred, np.float32),
        "keyed": {
            name: packed(treatment.values(name, timeline.frames), np.float32)
            for name in treatment.keys
        },
        "view": packed(_view(solution), np.float32),
        "held": packed(np.min([t.likeness for t in held], axis=0), np.float32) if held else None,
        "places": packed(_shares(solution), np.float32) if held else None,
        "borrowed": packed(bare_shares(solution.chain), np.float32) if borrows else None,
        "confidence": packed(motion.evidence.confidence, np.float32),
        "weak": packed(motion.evidence.weak, np.float32),
        "cuts": timeline.cuts.tolist(),
    }


def _path(moved: Complex, canvas: Canvas) -> dict[str, str]:
    """The camera's path by its components: px across and down, degrees of roll, percent of size."""
    steps = scores.step_similarities(moved, canvas)
    return {
        "across": packed(np.cumsum(steps.b.real), np.float32),
        "updown": packed(np.cumsum(steps.b.imag), np.float32),
        "roll": packed(np.degrees(np.cumsum(np.angle(steps.a))), np.float32),
        "size": packed(100 * np.expm1(np.cumsum(np.log(np.abs(steps.a)))), np.float32),
    }


def _view(solution: Solution) -> Real:
    """``(n, 3)`` zoom of each frame against the picture as it fills the output at 1, and where its
    centre lies, in shares of the picture."""
    view, canvas = solution.chain.view, solution.chain.source
    n = len(solution.chain)
    width = canvas.width * canvas.pixel_aspect
    fit = view.output.width * view.output.pixel_aspect / width
    at = view.offsets(n)
    zoom = view.zooms(n) * view.scale / fit
    return np.stack([zoom, at.real / width, at.imag / canvas.height], axis=-1)


def _shares(solution: Solution) -> Real:
    """``(points, n, 2)`` where the held points are, shares of the source picture."""
    canvas = solution.chain.source
    size = np.array([canvas.width, canvas.height])
    held = solution.motion.held
    return np.stack([(canvas.to_pixels(track.places) + 0.5) / size for track in held])
