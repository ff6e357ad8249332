"""What a sphere's measure and its correction say, as JSON data: see ``docs/formats.md``."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from ..geometry.bend import MEETS
from ..geometry.canvas import Canvas
from ..media.probe import scan
from ..motion.sphere_turns import SphereMotion, sphere_motion
from ..motion.stitch_wobble import LEAST
from ..progress import Progress, silent
from ..stations.finish import FINISH
from ..stations.motion import MOTION
from ..stations.station import Figure, Report
from ..stations.view import VIEW
from ..stations.view.station import LEAST_DETAIL
from ..treatment import Treatment
from .film import Rendered
from .reports import frame_entries, seconds_figures
from .sphere_solution import SphereSolution, shake_of_poses
from .sphere_source import first_eye
from .sphere_tracks import measure_sphere

CONVENTIONS = (
    "previous_to_this and steady are 3 x 3 rotations of rays (x right, y down, z forward) as "
    "columns: from the frame before to this one, and from the output's rays to the source's; bend, "
    "where there is one, is three matrices S, T and H by which source rays are then bent: "
    "r + S r - (r . S r) r + r x T r + s H r, where s goes from -1 ahead to 1 behind as "
    f"t (3 - t^2) / 2 of t = -z / {MEETS:g}"
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


def shake_in_file(
    path: Path, nadir: float, room: Path, progress: Progress = silent
) -> tuple[float, float]:
    """The shake of a finished sphere, degrees, from its own pixels, and what it is sure to; tracks
    are kept in a folder ``room`` meanwhile."""
    found = scan(path)
    tracks = measure_sphere(path, found, 0, found.probe.frame_count - 1, room, progress)
    motion = sphere_motion(tracks, first_eye(found.probe), nadir)
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
        "notes": [*solution.report["notes"], *rendered.notes],
        "sound": rendered.sound,
        "damaged_frames": list(rendered.damaged),
        "treatment": treatment.as_data(),
        "seconds": seconds,
        "conventions": CONVENTIONS,
        "frames": frame_entries(
            solution.motion.timeline,
            steady=solution.corrections.tolist(),
            bend=[one.tolist() if one.any() else None for one in solution.bends],
            look=[None] * len(solution) if solution.looks is None else solution.looks.tolist(),
        ),
    }


def degrees_caption(value: float, sure: float) -> str:
    """``0.02 ± 0.01°``; never less than can be measured."""
    if value <= sure:
        return f"≤ {max(sure, 0.01):.2f}°"
    return f"{value:.2f} ± {max(sure, 0.01):.2f}°"


def stitch_caption(stitching: dict[str, Any], over: str = "") -> str:
    """How much a sphere bends by its stitching, ``over`` what that is taken, and what becomes of
    it."""
    if not stitching["found"]:
        return f"≤ {np.degrees(LEAST):.2f}°{over}"
    size = degrees_caption(stitching["wobble_degrees"], stitching["sure_degrees"])
    said = [f"{size}{over}"]
    if stitching["late_ms"]:
        when = "late" if stitching["late_ms"] > 0 else "early"
        said.append(f"half behind {abs(stitching['late_ms']):.0f} ± "
                    f"{max(stitching['late_sure_ms'], 1):.0f} ms {when}")  # fmt: skip
    said.append("taken out" if stitching["taken_out"] else "left")
    return "; ".join(said)


def sphere_shake_captions(report: Report) -> dict[str, str]:
    """Shake ``before`` and ``after``, with how sure it is."""
    sure = report["shake_sure"]
    return {when: degrees_caption(report[f"shake_{when}"], sure) for when in ("before", "after")}


def sphere_figures(treatment: Treatment, report: Report) -> dict[str, list[Figure]]:
    """A sphere's numbers as they are shown, by station."""
    shake = sphere_shake_captions(report)
    motion = [Figure("Shake left", f"{shake['before']} → {shake['after']}", on_price_line=True)]
    level = report.get("level")
    if level is not None:
        known = level["found"]
        text = f"± {level['sure_degrees']:.2f}°" if known else "not known"
        motion.append(Figure("Horizon level to", text, amber=not known, on_price_line=True))
    stitching = report.get("stitching")
    if stitching is not None:
        motion.append(Figure("Stitching wobble", stitch_caption(stitching)))
    motion += [
        Figure("Weak frames", f"{report['weak_frames']}"),
        Figure("Cuts", f"{len(report['cuts'])}"),
        Figure("Frames", f"{report['frame_count']}"),
    ]
    view = []
    if "pixels_per_output_pixel" in report:
        detail, pace = report["pixels_per_output_pixel"], report["view_pace"]
        soft = detail < LEAST_DETAIL
        view = [
            Figure("Source pixels per pixel", f"{detail:.2f}", soft, on_price_line=True),
            Figure("View turns by at most", f"{pace:.0f} °/s",
                   frame=report["view_pace_frame"] if pace > 0 else None, on_price_line=True),
        ]  # fmt: skip
    finish = FINISH.figures(treatment.of(FINISH), report)
    return {MOTION.name: motion, VIEW.name: view, FINISH.name: finish}


def told_sphere_figures(treatment: Treatment, report: Report) -> list[Figure]:
    """All numbers of an export's report."""
    figures = [figure for own in sphere_figures(treatment, report).values() for figure in own]
    if report.get("shake_measured_again") is not None:
        again = degrees_caption(report["shake_measured_again"], report["shake_measured_again_sure"])
        figures.append(Figure("Shake left, measured in the file", again))
    return [*figures, *seconds_figures(report)]
