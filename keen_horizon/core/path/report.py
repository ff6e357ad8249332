"""What a correction costs and buys: the numbers of the report, and words where they are high."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..geometry.chain import WarpChain
from ..geometry.reshape import edge_stretch
from ..geometry.similarity import Similarities
from ..motion.camera_motion import CameraMotion
from ..quality import scores, wobble
from ..tracking.features import accuracy
from ..treatment import SIDES, Treatment
from .coverage import shares_shown
from .lens_report import lens_report, lens_warnings

Real = NDArray[np.float64]
STILL = 0.25  # px of shake below which there is nothing to remove
WEAK = 0.3  # confidence below which a frame is called weak
KEPT_LOW, SOFT_LOW = 70.0, 0.8  # percent of the picture, source px per output px: worth a warning
JOLT = 4.0  # percent more picture that a drifting zoom would keep for it to be the advice


def price(
    motion: CameraMotion, chain: WarpChain, treatment: Treatment, needed: Real, before: float
) -> dict[str, Any]:
    """The report's numbers: see ``docs/formats.md``. ``before`` is the shake of the source."""
    view, canvas, n = chain.view, chain.source, len(motion)
    zooms = view.zooms(n)
    seen = chain.steady.after(Similarities((1.0 / zooms).astype(complex), view.offsets(n)))
    moved = scores.output_steps(motion.steps, seen)
    after = scores.shake(moved, motion.times, motion.segments, canvas)
    kept, bare = shares_shown(chain)
    scale = np.abs(chain.steady.a) / (zooms * view.scale)
    if chain.is_curved:  # a mean: at the rim a straightened picture is softer than in the middle
        pixels = view.output.width * view.output.height * (1 - bare)
        scale = np.sqrt(kept * canvas.width * canvas.height / np.maximum(pixels, 1.0))
    sure = accuracy(canvas)
    report: dict[str, Any] = {
        "frame_count": n,
        "zoom": float(zooms.max()),
        "zoom_mean": float(zooms.mean()),
        "picture_kept": 100.0 * float(kept.mean()),
        "picture_kept_least": 100.0 * float(kept.min()),
        "borrowed": 100.0 * float(bare.mean()) if treatment.edge == "borrow" else 0.0,
        "borrowed_most": 100.0 * float(bare.max()) if treatment.edge == "borrow" else 0.0,
        "bare_edges": 100.0 * float(bare.max()) if treatment.edge == "leave" else 0.0,
        "tightest_frame": motion.first + int(needed.argmax()),
        "pixels_per_output_pixel": float(scale.min()),
        "output": {
            "width": view.output.width,
            "height": view.output.height,
            "pixel_aspect": view.output.pixel_aspect,
        },
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
        "cropping_ratio": 1.0 / float(zooms.max()),
        "wobble_before": None,
        "wobble_straight": None,
        "wobble_after": None,
        "wobble_measure": f"{wobble.WOBBLE_MEASURE}; after: times the zoom",
        "weak_frames": int((motion.confidence < WEAK).sum()),
        "blurred_frames": (motion.first + np.nonzero(motion.blurred)[0]).tolist(),
        "cuts": (motion.first + motion.cuts).tolist(),
    }
    pulls = chain.view.shape.pulls if chain.view.shape is not None else None
    report["edge_stretch"] = {
        side: edge_stretch(float(pulls[:, k].max())) if pulls is not None else 0.0
        for k, side in enumerate(SIDES)
    }
    report["lens"] = lens_report(chain, motion)
    report["warnings"] = {
        "lens": lens_warnings(report["lens"]),
        "motion": _wobbling(motion, chain, treatment, report, zooms * view.scale),
        "frame": _warnings(treatment, report, needed, zooms, scale, motion.first),
    }
    return report


def _wobbling(
    motion: CameraMotion, chain: WarpChain, treatment: Treatment, report: dict[str, Any],
    enlarged: Real,
) -> list[str]:  # fmt: skip
    """Enter the wobble into the report; returns a sentence if there is too much of it.

    ``enlarged`` ``(n,)`` output pixels per source pixel.
    """
    if motion.wobble is None:
        return []
    facts = motion.times, motion.segments
    before = wobble.wobble_left(motion.wobble, None, *facts)
    straight = motion.wobble if motion.straight_wobble is None else motion.straight_wobble
    left = wobble.wobble_left(straight, chain.bend, *facts) * enlarged
    report["wobble_before"] = float(np.sqrt((before**2).mean()))
    report["wobble_straight"] = float(np.sqrt((np.abs(straight) ** 2).mean()))
    report["wobble_after"] = after = float(np.sqrt((left**2).mean()))
    limit = treatment.motion.wobble_limit
    if after <= max(limit, report["shake_accuracy"]):
        return []
    worst = motion.first + int(left.argmax())
    help_ = (
        "a model that bends, such as mesh, would help most."
        if chain.bend is None
        else "less stiffness helps most."
        if treatment.motion.model in ("mesh", "decide")
        else "the model mesh would help most."
    )
    return [
        f"Parts of the picture wobble by {after:.2f} px (the source by "
        f"{report['wobble_before']:.2f} px), most at frame {worst}; {help_}"
    ]


def bare_shares(chain: WarpChain) -> Real:
    """``(n,)`` the share of each output frame that its own source does not cover, 0..1."""
    return shares_shown(chain)[1]


def _warnings(
    treatment: Treatment, report: dict[str, Any], needed: Real, zooms: Real, scale: Real, first: int
) -> list[str]:
    """Sentences where the price is high, each with the frame and the setting that helps most."""
    said = []
    frame = report["tightest_frame"]
    if report["picture_kept"] < KEPT_LOW:
        said.append(
            f"This clip keeps {report['picture_kept']:.0f} % of its picture. "
            f"Frame {frame} is the reason; {_remedy(treatment, needed, zooms)}"
        )
    if report["pixels_per_output_pixel"] < SOFT_LOW and treatment.edge != "leave":
        softest = first + int(scale.argmin())
        help_ = (
            "a smaller output would be sharper."
            if treatment.frame.width or treatment.frame.height
            else _remedy(treatment, needed, zooms)
        )
        said.append(
            f"Each output pixel has {report['pixels_per_output_pixel']:.2f} source pixels at frame "
            f"{softest}, so the picture is soft; {help_}"
        )
    return said


def _remedy(treatment: Treatment, needed: Real, zooms: Real) -> str:
    """The setting that would win back most of the picture."""
    edges = float(np.where(np.isfinite(needed), needed, 4.0).max())
    if zooms.max() > 1.15 * edges and treatment.frame.extra_zoom > 1:
        return "less extra zoom helps most."
    if treatment.frame.offset_x or treatment.frame.offset_y:
        return "less position offset helps most."
    if treatment.edge == "fill" and treatment.frame.zoom_speed == 0:
        spared = 100.0 * (float((1 / np.minimum(needed, 4.0) ** 2).mean()) - 1 / edges**2)
        if spared > JOLT:
            return "a drifting zoom, or easing that moment, helps most."
    return "less calm helps most."
