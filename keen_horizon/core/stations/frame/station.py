"""The Frame station: what it adds to the chain, and what the picture costs."""

from __future__ import annotations

import numpy as np

from ...geometry.motion import Motion
from ...geometry.reshape import Reshape, edge_stretch, is_convex
from ...geometry.stage import Smoothness, WarpStage
from ...path.areas import shares_shown
from ...types import Real
from ..station import Figure, Report, Scene, Solved, Station, Tools
from .reshape import reshape_of_scene
from .settings import CORNERS, SIDES, FrameSettings
from .view import ceiling

KEPT_LOW = 70.0  # percent of the picture, below which an editor winces
SOFT_LOW = 0.8  # source px per output px, likewise
ALL_KEPT = 99.95  # percent: more is all
JOLT = 4.0  # percent more picture that a drifting zoom would keep for it to be the advice
MOST_NEEDED = 4.0  # zoom: what needs more counts as this
DRIFTS = 5e-4  # difference of the mean zoom and the most, from which on it drifts


class FrameStation(Station[FrameSettings]):
    """What happens at the edges."""

    name = "frame"
    title = "Frame"
    icon = '<path d="M6 10h28v20H6z"/><path class="thin" d="M11 14h18v12H11z"/>'
    Settings = FrameSettings
    tools = (Tools("flat", "stations/frame.html", "stations/frame.js"),)

    def in_force(self, settings: FrameSettings) -> FrameSettings:
        return settings  # switched off, bare edges stay; zoom, position and size hold all the same

    def heeds_keys(self, settings: FrameSettings) -> bool:
        return True

    def fault(self, settings: FrameSettings) -> str | None:
        if not settings.square_up:
            return None
        places = [
            complex(getattr(settings, f"{c}_x"), getattr(settings, f"{c}_y")) for c in CORNERS
        ]
        if is_convex(np.array(places)):
            return None
        return (
            "the corners of square up cross, or one lies inside the others; keep them in their "
            "order: top left, top right, bottom right, bottom left."
        )

    def stages(self, settings: FrameSettings, scene: Scene) -> tuple[WarpStage, ...]:
        reshape, _ = reshape_of_scene(settings, scene)
        return () if reshape is None else (reshape,)

    def report(self, settings: FrameSettings, solved: Solved) -> Report:
        chain, n = solved.chain, len(solved.motion)
        view, zooms, needed = chain.view, chain.view.zooms(n), solved.needed
        first, rule = solved.motion.timeline.first, settings.rule
        kept, bare = shares_shown(chain)
        scale = _source_pixels(solved, kept, bare)
        reshape = chain.find(Reshape)
        pulls = None if reshape is None else reshape.pulls
        return {
            "zoom": float(zooms.max()),
            "zoom_mean": float(zooms.mean()),
            "picture_kept": 100.0 * float(kept.mean()),
            "picture_kept_least": 100.0 * float(kept.min()),
            "borrowed": 100.0 * float(bare.mean()) if rule == "borrow" else 0.0,
            "borrowed_most": 100.0 * float(bare.max()) if rule == "borrow" else 0.0,
            "bare_edges": 100.0 * float(bare.max()) if rule == "leave" else 0.0,
            "tightest_frame": first + int(needed.argmax()),
            "pixels_per_output_pixel": float(scale.min()),
            "softest_frame": first + int(scale.argmin()),
            "output": {
                "width": view.output.width,
                "height": view.output.height,
                "pixel_aspect": view.output.pixel_aspect,
            },
            "cropping_ratio": 1.0 / float(zooms.max()),
            "zoom_ceiling": float(ceiling(solved.scene).max()),
            "zoom_needed": _most(needed),
            "spared_by_drifting": _spared(needed),
            "edge_stretch": {
                side: edge_stretch(float(pulls[:, k].max())) if pulls is not None else 0.0
                for k, side in enumerate(SIDES)
            },
        }

    def notes(self, settings: FrameSettings, solved: Solved, report: Report) -> list[str]:
        said = reshape_of_scene(settings, solved.scene)[1]
        canvas, output = solved.scene.canvas, solved.chain.view.output
        lost = [
            f"its last {name}"
            for name, size, shown in (
                ("column", canvas.width, output.width),
                ("row", canvas.height, output.height),
            )
            if size % 2 and shown == size - 1
        ]
        if lost:
            said.append(
                f"The recording is {canvas.width} × {canvas.height}; pictures with halved chroma "
                f"have even sizes, so {' and '.join(lost)} {'is' if len(lost) == 1 else 'are'} "
                "left out."
            )
        return said

    def warnings(self, settings: FrameSettings, report: Report) -> list[str]:
        said = []
        remedy = _remedy(settings, report)
        if report["picture_kept"] < KEPT_LOW:
            said.append(
                f"This clip keeps {report['picture_kept']:.0f} % of its picture. "
                f"Frame {report['tightest_frame']} is the reason; {remedy}"
            )
        if report["pixels_per_output_pixel"] < SOFT_LOW and settings.rule != "leave":
            smaller = settings.width or settings.height
            said.append(
                f"Each output pixel has {report['pixels_per_output_pixel']:.2f} source pixels at "
                f"frame {report['softest_frame']}, so the picture is soft; "
                f"{'a smaller output would be sharper.' if smaller else remedy}"
            )
        return said

    def summary(self, settings: FrameSettings, report: Report | None) -> str:
        """``Fill · keeps 88 %``."""
        label = self.facts["edge"].choices[settings.rule].label
        if report is None:
            return label
        if settings.rule == "leave" and report["bare_edges"] >= 0.05:
            return f"{label} · up to {report['bare_edges']:.1f} % bare"
        return f"{label} · keeps {report['picture_kept']:.0f} %"

    def figures(self, settings: FrameSettings, report: Report) -> list[Figure]:
        kept, soft = report["picture_kept"], report["pixels_per_output_pixel"]
        drifts = report["zoom"] - report["zoom_mean"] > DRIFTS
        zoom = f"× {report['zoom']:.3f}"
        if drifts:
            zoom = f"× {report['zoom_mean']:.3f} to {report['zoom']:.3f}"
        out = report["output"]
        tightest = report["tightest_frame"]
        said = [
            Figure("Picture kept", f"{kept:.1f} %", kept < KEPT_LOW, on_price_line=True),
            Figure("Zoom, mean to most" if drifts else "Zoom", zoom, on_price_line=True),
            Figure("Source px per output px", f"{soft:.3f}", soft < SOFT_LOW, on_price_line=True),
        ]
        if kept < ALL_KEPT:
            said.append(Figure("Tightest frame", f"{tightest}", frame=tightest, on_price_line=True))
        return [
            *said,
            Figure("Bare edges, most", f"{report['bare_edges']:.1f} %"),
            Figure("Borrowed, most", f"{report.get('borrowed_most', 0.0):.1f} %"),
            Figure("Cropping ratio", f"{report['cropping_ratio']:.3f}"),
            Figure("Output", f"{out['width']} × {out['height']} px"),
        ]

    def details(self, settings: FrameSettings, report: Report) -> dict[str, str]:
        """How much the picture is stretched at the sides that are pulled."""
        stretched = [
            f"{side} by {much:.0f} %"
            for side, much in report.get("edge_stretch", {}).items()
            if much >= 0.5
        ]
        said = f"Stretched at its edge: {', '.join(stretched)}." if stretched else ""
        return {"stretched": said}


def _source_pixels(solved: Solved, kept: Real, bare: Real) -> Real:
    """``(n,)`` source px per output px."""
    chain, n = solved.chain, len(solved.motion)
    view, canvas = chain.view, chain.source
    if chain.smoothness == Smoothness.CURVED:
        # A mean: at the rim a straightened picture is softer than in the middle.
        pixels = view.output.width * view.output.height * (1 - bare)
        return np.sqrt(kept * canvas.width * canvas.height / np.maximum(pixels, 1.0))
    shrinks = np.ones(n)
    for stage in chain.stages:
        if isinstance(stage, Motion) and "size" in stage.components:
            shrinks = shrinks * np.exp(stage.log()[:, stage.components.index("size")])
    return shrinks / (view.zooms(n) * view.scale)


def _most(needed: Real) -> float:
    """The largest zoom that any frame needs."""
    return float(np.where(np.isfinite(needed), needed, MOST_NEEDED).max())


def _spared(needed: Real) -> float:
    """Percent more picture that one zoom a frame would keep."""
    capped = np.minimum(needed, MOST_NEEDED)
    return 100.0 * (float((1 / capped**2).mean()) - 1 / _most(needed) ** 2)


def _remedy(settings: FrameSettings, report: Report) -> str:
    """The setting that would win back most of the picture."""
    if report["zoom"] > 1.15 * report["zoom_needed"] and settings.extra_zoom > 1:
        return "less extra zoom helps most."
    if settings.offset_x or settings.offset_y:
        return "less position offset helps most."
    if settings.rule == "fill" and settings.zoom_speed == 0 and report["spared_by_drifting"] > JOLT:
        return "a drifting zoom, or easing that moment, helps most."
    return "less calm helps most."


FRAME = FrameStation()
