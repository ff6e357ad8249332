"""What a sphere's measure and its correction say, as JSON data: see ``docs/formats.md``."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from ..geometry.canvas import Canvas
from ..media.probe import scan
from ..motion.sphere_turns import SphereMotion, sphere_motion
from ..treatment import Treatment
from .render_clip import Rendered
from .reports import frame_entries
from .sphere_solution import SphereSolution, shake_of_poses
from .sphere_tracks import first_eye, measure_sphere

CONVENTIONS = (
    "previous_to_this and steady are 3 x 3 rotations of rays (x right, y down, z forward) as "
    "columns: from the frame before to this one, and from the output's rays to the source's"
)


def sphere_measure_report(motion: SphereMotion, canvas: Canvas) -> dict[str, Any]:
    """A sphere's measure, as JSON data."""
    timeline, evidence = motion.timeline, motion.evidence
    return {
        "projection": "equirectangular",
        "width": canvas.width,
        "height": canvas.height,
        "conventions": CONVENTIONS,
        "frames": frame_entries(
            timeline,
            marks=evidence.tracks.tolist(),
            confidence=[round(value, 4) for value in evidence.confidence.tolist()],
            doubt_degrees=[round(value, 4) for value in np.degrees(motion.doubt).tolist()],
            previous_to_this=motion.turns.tolist(),
            travel=[way if any(way) else None for way in motion.travel.tolist()],
        ),
        "cuts": (timeline.first + timeline.cuts).tolist(),
        "blurred": (timeline.first + np.nonzero(timeline.blurred)[0]).tolist(),
    }


def shake_in_file(path: Path, nadir: float, room: Path) -> tuple[float, float]:
    """The shake of a finished sphere, degrees, from its own pixels, and what it is sure to; tracks
    are kept in a folder ``room`` meanwhile."""
    found = scan(path)
    tracks = measure_sphere(path, found, 0, found.probe.frame_count - 1, room)
    motion = sphere_motion(tracks, first_eye(found), nadir)
    return shake_of_poses(motion, motion.poses), 2 * float(np.degrees(np.median(motion.doubt)))


def sphere_report(
    solution: SphereSolution, treatment: Treatment, rendered: Rendered, seconds: dict[str, float],
    again: tuple[float, float] | None = None,
) -> dict[str, Any]:  # fmt: skip
    """A finished correction of a sphere, as JSON data; ``again`` is the shake of the file, and what
    it is sure to, where that was measured."""
    return solution.report | {
        "shake_measured_again": again and again[0],
        "shake_measured_again_sure": again and again[1],
        "output": {"width": rendered.width, "height": rendered.height},
        "sound": rendered.sound,
        "treatment": treatment.as_data(),
        "seconds": seconds,
        "conventions": CONVENTIONS,
        "frames": frame_entries(
            solution.motion.timeline,
            steady=solution.corrections.tolist(),
            look=[None] * len(solution) if solution.looks is None else solution.looks.tolist(),
        ),
    }
