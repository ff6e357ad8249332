"""The Lens station: what it adds to the chain, and what it says of itself."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

import numpy as np

from ...geometry.angles import Angles, angles_of, straight_angles
from ...geometry.canvas import Canvas
from ...geometry.chain import WarpChain
from ...geometry.lens import Lens
from ...geometry.stage import WarpStage
from ...motion.camera_motion import CameraMotion
from ..station import Report, Scene, Solved, Station, Tools
from .optics import bends
from .settings import LensSettings

WIDE = 140.0  # degrees across a straightened picture beyond which its sides are stretched out
HALF_AROUND = 174.0  # degrees from corner to corner that no straight picture holds


class LensStation(Station[LensSettings]):
    """How straight rays were bent."""

    name = "lens"
    title = "Lens"
    icon = '<path d="M20 5c7 9 7 21 0 30c-7-9-7-21 0-30z"/><path class="thin" d="M3 20h34"/>'
    Settings = LensSettings
    tools = (Tools("flat", "stations/lens.html", "stations/lens.js"),)

    def in_force(self, settings: LensSettings) -> LensSettings:
        return settings if bends(settings) else LensSettings()

    def heeds_keys(self, settings: LensSettings) -> bool:
        return bends(settings)

    def copied(self, settings: LensSettings) -> LensSettings:
        if settings.found_by != "edges":
            return settings
        return settings.model_copy(update={"found_by": "clip"})  # the edges stay where they are

    def recorded_canvas(self, settings: LensSettings, canvas: Canvas) -> Canvas:
        if not settings.on or settings.squeeze == 1.0:
            return canvas
        return Canvas(canvas.width, canvas.height, canvas.pixel_aspect * settings.squeeze)

    def stages(self, settings: LensSettings, scene: Scene) -> tuple[WarpStage, ...]:
        return () if scene.motion.lens is None else (scene.motion.lens,)

    def report(self, settings: LensSettings, solved: Solved) -> Report:
        return {"lens": lens_report(solved.chain, solved.motion)}

    def warnings(self, settings: LensSettings, report: Report) -> list[str]:
        told = report.get("lens")
        if told is None:
            return []
        said = []
        diagonal = told["bent"]["diagonal"]
        if diagonal is None:
            said.append(
                "These coefficients fold the picture before its corners; what lies beyond stays "
                "bare."
            )
        elif diagonal >= HALF_AROUND:
            said.append(
                f"{diagonal:.0f}° do not fit a straight picture, which ends below 180°; what "
                "lies further out is left out."
            )
        if told["straight"]["across"] > WIDE:
            said.append(
                f"Straightened to {told['straight']['across']:.0f}° across, the sides are "
                "stretched out; zoom in, or lower the amount."
            )
        return said

    def summary(self, settings: LensSettings, report: Report | None) -> str:
        """``151° · 3 edges · 0.1 px``."""
        if not settings.on:
            return "off"
        said = []
        told = (report or {}).get("lens")
        if told is not None and told["bent"]["diagonal"] is not None:
            told_surely = settings.found_by in ("angle", "chart", "motion", "profile")
            about = "" if told_surely or settings.model == "fisheye" else "≈ "
            said.append(f"{about}{told['bent']['diagonal']:.0f}°")
        if settings.found_by == "edges" and settings.edges:
            said.append(f"{len(settings.edges)} edge{'s' if len(settings.edges) > 1 else ''}")
        elif settings.found_by in ("chart", "motion", "profile"):
            said.append(settings.found_by)
        if settings.residual is not None and settings.model != "rectilinear":
            said.append(f"{settings.residual:.1f} px")
        if settings.squeeze != 1.0:
            said.append(f"× {settings.squeeze:g}")
        if settings.model == "rectilinear" and not said:
            return "straight"
        return " · ".join(said) or settings.model

    def details(self, settings: LensSettings, report: Report) -> dict[str, str]:
        """Angles of view, as in ``131° × 74°, 151° diagonal``, and what the lens does for the
        motion fit; empty without a lens."""
        told = report.get("lens")
        if told is None:
            return {"recorded": "", "shown": "", "fit": ""}
        fit = ""
        if told["residual"] is not None and told["bent_residual"] is not None:
            fit = (
                f"Marks miss the motion by {told['bent_residual']:.2f} px bent, "
                f"{told['residual']:.2f} px straightened."
            )
        return {
            "recorded": _angles_caption(told["bent"]),
            "shown": _angles_caption(told["straight"]),
            "fit": fit,
        }


def _angles_caption(told: dict[str, float | None]) -> str:
    def degrees(value: float | None) -> str:
        return "beyond reach" if value is None else f"{value:.0f}°"

    across, updown, diagonal = (degrees(told[n]) for n in ("across", "updown", "diagonal"))
    return f"{across} × {updown}, {diagonal} diagonal"


def lens_report(chain: WarpChain, motion: CameraMotion) -> dict[str, Any] | None:
    """The report's part about the lens: see ``docs/formats.md``. None without one."""
    lens = motion.lens
    if lens is None:
        return None
    view = chain.view
    # The straight plane is drawn at `scale` times the focal length, and then zoomed.
    focal = float(np.mean(lens.focal * np.asarray(lens.scale))) * float(np.mean(view.zoom))
    width = view.output.width * view.output.pixel_aspect / view.scale
    shown = straight_angles(width, view.output.height / view.scale, focal)
    evidence = motion.lens_evidence
    return {
        "bent": _told(angles_of(_first(lens))),
        "straight": _told(shown),
        "residual": None if evidence is None else evidence.undistorted,
        "bent_residual": None if evidence is None else evidence.recorded,
    }


def _told(angles: Angles) -> dict[str, float | None]:
    """As JSON: null where the model does not reach the edge."""
    return {n: v if np.isfinite(v) else None for n, v in asdict(angles).items()}


def _first(lens: Lens) -> Lens:
    """The lens of the first frame, all of its correction."""
    focal, centre = (np.asarray(v).reshape(-1)[0].item() for v in (lens.focal, lens.centre))
    return replace(lens, focal=focal, centre=centre, amount=1.0, scale=1.0)


LENS = LensStation()
