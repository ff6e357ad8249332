"""Solutions of spheres as the clip screen needs them: by station, by frame, and as turns to draw
with."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from ..core.geometry.bend import MEETS
from ..core.geometry.looks import WIDEST
from ..core.media.probe import Probe
from ..core.motion.uprights import DOWN
from ..core.pipeline.sphere_reports import sphere_figures, stitch_caption
from ..core.pipeline.sphere_solution import SphereSolution, timed_values
from ..core.pipeline.sphere_source import tag_of
from ..core.stations.finish import FINISH
from ..core.stations.motion import MOTION
from ..core.stations.station import Station
from ..core.stations.view import VIEW
from ..core.stations.view.keyed_looks import ROUND
from ..core.treatment import Treatment
from ..core.types import Rays, Real
from .answers import packed_stage
from .arrays import packed

# Of a texture, where the first eye is: left, top, width, height.
EYES = {"mono": (0, 0, 1, 1), "top-bottom": (0, 0, 1, 0.5), "left-right": (0, 0, 0.5, 1)}


def drawn_sphere(solution: SphereSolution, treatment: Treatment, probe: Probe) -> dict[str, Any]:
    """Everything about a solution, as :func:`.answers.drawn`."""
    told = solution.report
    view = treatment.of(VIEW)
    figures = sphere_figures(treatment, told)
    sharpen = solution.sharpen
    stations = {
        station.name: {
            "summary": station.summary(own, told),
            "warnings": told["warnings"].get(station.name, []),
            "details": _details(station, own, solution),
            "figures": [asdict(figure) for figure in figures.get(station.name, [])],
        }
        for station, own in treatment.each("sphere")
    }
    values = _values(solution, treatment)
    return {
        "report": told | {"output": output_of(treatment, probe)},
        "stations": stations,
        "price": [
            asdict(figure)
            for own in reversed(list(figures.values()))
            for figure in own
            if figure.on_price_line
        ],
        "notes": [note for note in solution.notes if note != _level_words(solution)],
        "pixels": [] if sharpen is None else [packed_stage(sharpen)],
        "first": solution.motion.timeline.first,
        "sphere": {
            "turns": packed(solution.corrections, np.float32),
            "bends": packed(solution.bends, np.float32) if solution.bends.any() else None,
            "meets": MEETS,
            "eye": EYES[tag_of(probe).stereo],
            "shape": {"width": solution.canvas.width, "height": solution.canvas.height},
            "view": {
                "on": view.on,
                "follows": view.follow is not None,
                "projection": view.projection,
                "widest": WIDEST[view.projection],
                "width": view.width,
                "height": view.height,
                "values": {name: packed(line, np.float32) for name, line in values.items()},
            },
        },
        "strip": _strip(solution, treatment, values),
    }


def _details(station: Station[Any], own: Any, solution: SphereSolution) -> dict[str, str]:
    """Further sentences of a station's tools; Motion's say what tells which way is down."""
    if station is FINISH:
        return FINISH.details(own, solution.report)
    if station is not MOTION:
        return {}
    frame = "the first frame" if own.lock_frame is None else f"frame {own.lock_frame}"
    return {
        "level": _level_words(solution),
        "view": f"As {frame} looks.",
        "stitch": f"Found: {stitch_caption(solution.report['stitching'], ' rms over the sphere')}.",
    }


def _level_words(solution: SphereSolution) -> str:
    return "" if solution.vertical is None else solution.vertical.words


def output_of(treatment: Treatment, probe: Probe) -> dict[str, Any]:
    """The size of what comes out."""
    view = treatment.of(VIEW)
    width, height = (view.width, view.height) if view.on else (probe.width, probe.height)
    return {"width": width, "height": height, "pixel_aspect": 1}


def _values(solution: SphereSolution, treatment: Treatment) -> dict[str, Real]:
    """What the flat camera is set to, frame by frame; as it would be, where it is off."""
    values = solution.view or timed_values(treatment, solution.motion.timeline)
    return {
        name: (line + 180.0) % 360.0 - 180.0 if name in ROUND else line
        for name, line in values.items()
    }


def _strip(
    solution: SphereSolution, treatment: Treatment, values: dict[str, Real]
) -> dict[str, Any]:
    """What the strip draws, one value a frame."""
    motion = solution.motion
    timeline = motion.timeline
    steadied = solution.corrections.swapaxes(1, 2) @ motion.poses
    before, after = _angles(motion.poses), _angles(steadied)
    if solution.downs is not None and np.isfinite(solution.downs).any():
        before["tilt"] = _tilt(solution.downs)
        after["tilt"] = _tilt(np.einsum("nji,nj->ni", solution.corrections, solution.downs))
    return {
        "before": {name: packed(line, np.float32) for name, line in before.items()},
        "after": {name: packed(line, np.float32) for name, line in after.items()},
        "blurred": packed(timeline.blurred, np.float32),
        "keyed": {
            f"{VIEW.name}.{name}": packed(values[name], np.float32)
            for name in treatment.keys_of(VIEW)
        },
        "confidence": packed(motion.evidence.confidence, np.float32),
        "weak": packed(motion.evidence.weak, np.float32),
        "cuts": timeline.cuts.tolist(),
    }


def _angles(poses: Real) -> dict[str, Real]:
    """Degrees that a camera is turned to the right, upwards and clockwise, frame by frame."""
    turned = Rotation.from_matrix(poses.swapaxes(1, 2)).as_euler("YXZ")
    yaw, pitch, roll = np.degrees(np.unwrap(turned, axis=0)).T
    return {"yaw": yaw, "pitch": pitch, "roll": roll}


def _tilt(downs: Rays) -> Real:
    """Degrees between straight down and the pictures' own; none where that is not known."""
    off = np.degrees(np.arccos(np.clip(np.nan_to_num(downs) @ DOWN, -1, 1)))
    return np.where(np.isfinite(downs).all(axis=1), off, 0.0)
