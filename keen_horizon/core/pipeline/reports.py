"""What a measure and a correction say, as JSON data: see ``docs/formats.md``."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.lattice import lattice_points
from ..geometry.motion import Motion
from ..geometry.ray_motion import RayMotion
from ..media.probe import Probe
from ..motion.camera_motion import AngleOfView, CameraMotion, Timeline
from ..motion.readout import Readout
from ..picture.working_space import curve_words
from ..quality.scores import in_pixels
from ..stations.glass.dead_corners import dead_shares
from ..stations.station import Figure, Report
from ..treatment import Treatment
from .film import Rendered
from .find_glass import GlassFit
from .measure_again import MeasuredAgain
from .solve_clip import Solution

GLASS_LATTICE = (17, 11)
WHEN = ("before", "after")
SURE = 2.0  # standard deviations that a doubt is said with
AT_ONCE = 0.05  # seconds, below which nobody waited
MOST_ZOOM = 1e6  # that is written down; JSON has no infinity
CONVENTIONS = (
    "steady maps a pixel of the steadied picture (source size, before zoom) to the source "
    "pixel it is taken from, bends and rows apart; zoom is the zoom applied, zoom_needed "
    "the least for that frame"
)


def measure_report(
    motion: CameraMotion,
    canvas: Canvas,
    readout: Readout | None = None,
    angle: AngleOfView | None = None,
) -> dict[str, Any]:
    """A measure."""
    matrices = motion.steps.pixel_matrices(canvas)
    timeline, evidence = motion.timeline, motion.evidence
    return {
        "width": canvas.width,
        "height": canvas.height,
        "pixel_aspect": canvas.pixel_aspect,
        "frames": frame_entries(
            timeline,
            marks=evidence.tracks.tolist(),
            confidence=[round(value, 4) for value in evidence.confidence.tolist()],
            previous_to_this=matrices.tolist(),
        ),
        "cuts": (timeline.first + timeline.cuts).tolist(),
        "blurred": (timeline.first + np.nonzero(timeline.blurred)[0]).tolist(),
        "readout": None
        if readout is None
        else {
            "ms": round(readout.ms, 2),
            "sure_ms": round(readout.sure, 2) if np.isfinite(readout.sure) else None,
            "words": readout.words,
        },
        "model": motion.model,
        "angle_of_view": None if angle is None else _angle(angle),
    }


def frame_entries(timeline: Timeline, **columns: Sequence[Any]) -> list[dict[str, Any]]:
    """One entry a frame: its index and time, and what ``columns`` say of it."""
    frames, times = timeline.frames.tolist(), timeline.times.tolist()
    rows = zip(frames, times, *columns.values(), strict=True)
    return [dict(zip(("index", "time", *columns), row, strict=True)) for row in rows]


def _angle(angle: AngleOfView) -> dict[str, Any]:
    return {
        "across": round(angle.across, 2) if angle.told else None,
        "standard_error": round(angle.error, 2) if angle.told else None,
        "distortion": [round(k, 4) for k in angle.k],
        "words": angle.words,
    }


def camera_report(motion: CameraMotion) -> dict[str, Any]:
    """By which camera a clip was corrected."""
    steps = motion.steps
    focal = None
    if isinstance(steps, RayMotion):
        focal = round(float(np.mean(steps.straight_camera.focal)), 2)
    return {
        "model": motion.model,
        "focal": focal,
        "angle_of_view": None if motion.angle is None else _angle(motion.angle),
        "left_by_model": None if motion.choice is None else motion.choice.left,
    }


def told_figures(treatment: Treatment, report: Report) -> list[Figure]:
    """The numbers of a report as they are shown. A report by an earlier version may lack what a
    station tells now; that station is passed over."""
    figures: list[Figure] = []
    for station, own in treatment.each("flat"):
        try:
            figures += station.figures(own, report)
        except KeyError:
            continue
    if report.get("shake_measured_again") is not None:
        again = in_pixels(report["shake_measured_again"], report["shake_measured_again_sure"])
        figures.append(Figure("Shake left, measured in the file", again))
    return [*figures, *_edge_figures(report), *seconds_figures(report)]


def seconds_figures(report: Report) -> list[Figure]:
    """What took how long."""
    return [
        Figure(f"{what.capitalize()} took", "no time" if spent < AT_ONCE else f"{spent:.1f} s")
        for what, spent in report.get("seconds", {}).items()
    ]


def _edge_figures(report: Report) -> list[Figure]:
    """What the edges of the finished file tell, against those of the recording."""
    said = []
    fringes = [(report.get(f"fringe_{w}"), report.get(f"fringe_{w}_sure")) for w in WHEN]
    if all(px is not None and sure is not None for px, sure in fringes):
        words = (f"{px:.2f} ± {SURE * sure:.2f} px" for px, sure in fringes if sure is not None)
        said.append(Figure("Red and blue off green, in the file", " → ".join(words)))
    sharp = [report.get(f"sharpness_{w}") for w in WHEN]
    if None not in sharp:
        words = (f"{value:.3f}" for value in sharp)
        said.append(Figure("Half contrast of edges at", f"{' → '.join(words)} cycles a px"))
    return said


def glass_report(fit: GlassFit, probe: Probe) -> dict[str, Any]:
    """What was found of a clip's glass, by ``columns`` and ``rows`` of a lattice from edge to edge
    of the picture, row by row: ``gain`` of linear light, and by how many px ``red`` and ``blue``
    lie off green, ``dead`` the share of what is about it that lies in dead corners."""
    columns, rows = GLASS_LATTICE
    canvas = probe.canvas
    places = lattice_points(canvas, columns, rows)
    light, colours = fit.fall_off, fit.lateral
    gain = red = blue = None
    if light.fall_off is not None:
        gain = np.exp2(light.fall_off.lost(places)).round(4).tolist()
    if colours.lateral is not None:
        red, blue = np.moveaxis(colours.lateral.parted(places), -2, 0).round(4).tolist()
    return {
        "width": canvas.width,
        "height": canvas.height,
        "columns": columns,
        "rows": rows,
        "words": [light.words, colours.words, fit.dead.words],
        "light": curve_words(probe.colour),
        "gain": gain,
        "gain_doubt": _known(light.doubt),
        "gain_residual": _known(light.residual),
        "marks": light.marks,
        "red": red,
        "blue": blue,
        "colour_doubt": [_known(doubt) for doubt in colours.doubt],
        "colour_residual": _known(colours.residual),
        "edges": colours.patches,
        "dead": dead_shares(fit.dead.live, canvas, columns, rows),
        "settings": fit.settings,
    }


def _known(value: float) -> float | None:
    return value if np.isfinite(value) else None


def correction_report(
    solution: Solution,
    treatment: Treatment,
    rendered: Rendered,
    seconds: dict[str, float],
    again: MeasuredAgain | None = None,
    edges: dict[str, float | None] | None = None,
) -> dict[str, Any]:
    """A finished correction: its figures, and one entry a frame.

    ``seconds`` spent in ``measure``, ``solve``, ``render`` and ``check``; ``again`` what the
    finished file was measured to, ``edges`` what its edges tell.
    """
    chain, timeline = solution.chain, solution.motion.timeline
    motions = [stage for stage in solution.corrections if isinstance(stage, Motion)]
    steady = np.broadcast_to(np.eye(3), (len(chain), 3, 3))
    for motion in motions:
        steady = motion.matrices @ steady
    scene = chain.source.scene_matrix
    steady = np.linalg.inv(scene) @ steady @ scene
    steady = steady / steady[:, 2:, 2:]
    zooms = chain.view.zooms(len(chain))
    # What was solved for the full size may have been delivered smaller.
    shrink = chain.view.output.height / rendered.height
    told = solution.told(treatment)
    return (told | (edges or {})) | {
        "pixels_per_output_pixel": told["pixels_per_output_pixel"] * shrink,
        "output": told["output"] | {"width": rendered.width, "height": rendered.height},
        "shake_measured_again": None if again is None else again.px,
        "shake_measured_again_sure": None if again is None else again.sure,
        "camera": camera_report(solution.motion),
        "notes": [*told["notes"], *rendered.notes],
        "sound": rendered.sound,
        "damaged_frames": list(rendered.damaged),
        "treatment": treatment.as_data(),
        "seconds": seconds,
        "conventions": CONVENTIONS,
        "frames": frame_entries(
            timeline,
            steady=steady.tolist(),
            zoom=zooms.tolist(),
            zoom_needed=np.minimum(solution.zooms, MOST_ZOOM).tolist(),
        ),
    }
