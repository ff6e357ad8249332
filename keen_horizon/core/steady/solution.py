"""From camera motion and a treatment to a warp chain and its price."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.chain import View, WarpChain
from ..geometry.similarity import Similarities
from ..motion.camera import CameraMotion
from ..motion.marks import accuracy
from ..quality import scores
from ..treatment import MotionSettings, Treatment
from .coverage import held_below, largest_rectangle, room_left, seen_shares, zoom_needed
from .path import FOLLOW, LOCK_OFF, Freedom, steady_path

WIDEST_TUBE = 0.30  # share of the picture's half size that calm 100 may shift it by
STILL = 0.25  # px of shake below which there is nothing to remove
DOUBTFUL = 0.3  # confidence below which a frame is called weak


@dataclass(frozen=True)
class Solution:
    """A solved clip: the chain to draw through, and per frame what the strip shows.

    ``zooms`` ``(n,)`` least zoom of each frame, ``room`` ``(n,)`` px left between crop and source
    edge. ``report`` holds the numbers that ``docs/formats.md`` lists, frames counted as in the
    recording.
    """

    chain: WarpChain
    zooms: NDArray[np.float64]
    room: NDArray[np.float64]
    report: dict[str, Any]


def tube(calm: float, ceiling: float) -> float:
    """Size of the crop that must stay covered, 0..1, for a calm and a zoom ceiling.

    Calm opens a tube around the original path, within which the steadied path may run: at calm
    ``c`` the picture may be shifted by ``0.3 (c/100)^1.5`` of its half size. The power spends
    little at first, because the fast shake is small and disturbs most. A ceiling that allows
    less wins.
    """
    wanted = 1.0 - WIDEST_TUBE * (calm / 100.0) ** 1.5
    return max(wanted, 1.0 / ceiling)


def bounds(settings: MotionSettings, ceiling: float) -> tuple[float, Freedom]:
    """The crop that must stay covered, and how much of it each component may use.

    The calmest component opens the tube; the others get as much of it as their own calm would.
    """
    tubes = {name: tube(calm, ceiling) for name, calm in settings.calms.items()}
    crop = min(tubes.values())
    room = max(1.0 - crop, 1e-9)
    return crop, Freedom(**{name: (1.0 - own) / room for name, own in tubes.items()})


def solve(motion: CameraMotion, canvas: Canvas, treatment: Treatment) -> Solution:
    """Correct a clip. Pure and deterministic; 300 frames take a fraction of a second."""
    settings, ceiling = treatment.motion, treatment.frame.zoom_ceiling
    before = scores.shake(motion.steps, motion.times, motion.segments, canvas)
    nothing_to_do = before < STILL
    blind = bool((motion.confidence[1:] < DOUBTFUL).all())
    steady, failed = Similarities.identity(len(motion)), False
    if settings.on and not nothing_to_do and not blind:
        weights = LOCK_OFF if settings.aim == "lock_off" else FOLLOW
        try:
            steady = steady_path(motion, canvas, weights, *bounds(settings, ceiling))
            steady = held_below(steady, canvas, ceiling)
        except ArithmeticError:
            failed = True
    zooms = zoom_needed(steady, canvas)
    view = _view(treatment, canvas, steady, zooms)
    chain = WarpChain(canvas, view, steady)
    room = room_left(steady, canvas, view.zoom if treatment.edge == "fill" else 1.0)
    report = _report(motion, chain, treatment, zooms, before)
    report["notes"] = _notes(motion, report, nothing_to_do)
    if failed:
        report["notes"].insert(
            0, "The camera path could not be solved; the picture is left as it is. Another calm "
            "or model may do."
        )  # fmt: skip
    return Solution(chain, zooms, room, report)


def _view(
    treatment: Treatment, canvas: Canvas, steady: Similarities, zooms: NDArray[np.float64]
) -> View:
    """The canvas delivered. H.264 wants even sizes; an odd row or column is left out."""
    if treatment.edge == "trim":
        size, centre = largest_rectangle(steady, canvas)
        width = max(16, int(size * (canvas.width - 1) + 1 + 1e-6) // 2 * 2)
        height = max(16, int(size * (canvas.height - 1) + 1 + 1e-6) // 2 * 2)
        output = Canvas(width, height, canvas.pixel_aspect)
        offset = centre if size < 1 else _pixel_offset(canvas, output)
        return View(output, offset=offset)
    output = Canvas(canvas.width // 2 * 2, canvas.height // 2 * 2, canvas.pixel_aspect)
    zoom = float(zooms.max()) if treatment.edge == "fill" else 1.0
    return View(output, zoom=zoom, offset=_pixel_offset(canvas, output) / zoom)


def _pixel_offset(canvas: Canvas, output: Canvas) -> complex:
    """Half-pixel shift that keeps pixels on pixels where the output is one row smaller."""
    (cx, cy), (ox, oy) = canvas.centre, output.centre
    return complex((ox - cx) * canvas.pixel_aspect, oy - cy)


def _report(
    motion: CameraMotion,
    chain: WarpChain,
    treatment: Treatment,
    zooms: NDArray[np.float64],
    before: float,
) -> dict[str, Any]:
    view, canvas = chain.view, chain.source
    moved = scores.output_steps(motion.steps, chain.steady)
    after = scores.shake(moved, motion.times, motion.segments, canvas) * view.zoom
    corners = view.to_plane(view.output.to_pixels(view.output.corners))
    kept, bare = seen_shares(chain.steady.apply(corners), canvas)
    scale = 1.0 / (view.zoom * np.abs(chain.steady.a).max())
    sure = accuracy(canvas)
    return {
        "frame_count": len(motion),
        "zoom": view.zoom,
        "picture_kept": 100.0 * float(kept.mean()),
        "bare_edges": 100.0 * float(bare.max()) if treatment.edge == "leave" else 0.0,
        "tightest_frame": motion.first + int(zooms.argmax()),
        "pixels_per_output_pixel": float(scale),
        "output": {"width": view.output.width, "height": view.output.height},
        "shake_before": before,
        "shake_after": after,
        "shake_removed": 100.0 * (1.0 - after / before) if before > 0 else 0.0,
        "shake_accuracy": sure,
        "shake_measure": f"{scores.SHAKE_MEASURE}, which is sure to about {sure:.2g} px; in source "
        "pixels times the zoom",
        "shake_unit": "px",
        "stability_score": scores.stability_score(moved, motion.segments),
        "stability_score_before": scores.stability_score(motion.steps, motion.segments),
        "distortion_value": scores.distortion_value(chain.steady.linear_parts),
        "cropping_ratio": 1.0 / view.zoom,
        "weak_frames": int((motion.confidence < DOUBTFUL).sum()),
        "cuts": (motion.first + motion.cuts).tolist(),
    }


def _notes(motion: CameraMotion, report: dict[str, Any], nothing_to_do: bool) -> list[str]:
    """Plain sentences about what the numbers mean."""
    notes = []
    weak, n = report["weak_frames"], len(motion)
    if weak >= n - 1:
        notes.append(
            "No camera motion could be found: the picture is too dark, too plain or too blurred "
            "to follow, or everything in it moves its own way. It is left as it is."
        )
    elif nothing_to_do:
        notes.append(
            "This clip is steady already "
            f"({scores.in_pixels(report['shake_before'], report['shake_accuracy'])} of shake): "
            "nothing to do."
        )
    elif weak:
        notes.append(
            f"{weak} of {n} frames could not be measured surely; the correction is gentler there."
        )
    if report["picture_kept"] < 70:
        notes.append(
            f"This clip keeps {report['picture_kept']:.0f} % of its picture. "
            f"Frame {report['tightest_frame']} is the reason."
        )
    if report["pixels_per_output_pixel"] < 0.8:
        notes.append(
            f"The picture is enlarged to {1 / report['pixels_per_output_pixel']:.2f} times its "
            "size and will look softer. Less calm or a lower zoom ceiling keeps it sharper."
        )
    return notes


def first_treatment(motion: CameraMotion, canvas: Canvas) -> Treatment:
    """A sensible start: locked off if the camera meant to stand still, following if it moved.

    It meant to stand still if its path, without the shake, stays within what the default calm
    could hold in place anyway.
    """
    default = Treatment()
    extent = 0.0
    for start, stop in motion.segments:
        paths = scores.point_paths(motion.steps[start:stop], canvas)
        slow = paths - scores.fast_part(paths, motion.times[start:stop])
        extent = max(extent, float(np.ptp(slow.real, axis=0).max() / canvas.half[0] / 2))
        extent = max(extent, float(np.ptp(slow.imag, axis=0).max() / canvas.half[1] / 2))
    stays = extent < 1.0 - tube(default.motion.calm, default.frame.zoom_ceiling)
    if not stays:
        return default
    return default.model_copy(
        update={"motion": default.motion.model_copy(update={"aim": "lock_off"})}
    )
