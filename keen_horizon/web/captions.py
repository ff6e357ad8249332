"""Numbers in words: what a station does, what a file is."""

from __future__ import annotations

import math
from typing import Any

from ..core.path.least_zoom import Cover, WholeView
from ..core.quality.scores import in_pixels
from ..core.treatment import SIDES, Treatment

AIMS = {"follow": "Follow", "lock_off": "Lock off", "hold": "Hold"}
EDGES = {"leave": "Leave", "trim": "Trim", "fill": "Fill", "borrow": "Borrow"}


def motion_caption(treatment: Treatment, report: dict[str, Any] | None) -> str:
    """``Follow · calm 40``, and ``nothing removed`` where nothing was."""
    if not treatment.motion.on:
        return "off"
    calms = treatment.motion.calms.values()
    calm = f"{min(calms):g}" if len(set(calms)) == 1 else f"{min(calms):g}–{max(calms):g}"
    words = f"{AIMS[treatment.motion.aim]} · calm {calm}"
    if report is None:
        return words
    return words if removed_words(report) else f"{words} · nothing removed"


def lens_caption(treatment: Treatment, report: dict[str, Any] | None) -> str:
    """``151° · 3 edges · 0.1 px``."""
    lens = treatment.lens
    if not lens.on:
        return "off"
    said = []
    told = (report or {}).get("lens")
    if told is not None and told["bent"]["diagonal"] is not None:
        about = (
            ""
            if lens.found_by in ("angle", "chart", "profile") or (lens.model == "fisheye")
            else "≈ "
        )
        said.append(f"{about}{told['bent']['diagonal']:.0f}°")
    if lens.found_by == "edges" and lens.edges:
        said.append(f"{len(lens.edges)} edge{'s' if len(lens.edges) > 1 else ''}")
    elif lens.found_by in ("chart", "profile"):
        said.append(lens.found_by)
    if lens.residual is not None and lens.model != "rectilinear":
        said.append(f"{lens.residual:.1f} px")
    if lens.squeeze != 1.0:
        said.append(f"× {lens.squeeze:g}")
    if lens.model == "rectilinear" and not said:
        return "straight"
    return " · ".join(said) or lens.model


def angle_words(report: dict[str, Any]) -> dict[str, str]:
    """Angles of view of the ``bent`` picture and the ``straight`` one, as in ``131° × 74°, 151°
    diagonal``; empty without a lens."""
    told = report.get("lens")
    if told is None:
        return {"bent": "", "straight": ""}

    def degrees(value: float | None) -> str:
        return "beyond reach" if value is None else f"{value:.0f}°"

    return {
        name: f"{degrees(told[name]['across'])} × {degrees(told[name]['updown'])}, "
        f"{degrees(told[name]['diagonal'])} diagonal"
        for name in ("bent", "straight")
    }


def fit_words(report: dict[str, Any]) -> str:
    """What the lens does for the motion fit; nothing without one."""
    told = report.get("lens")
    if told is None or told["residual"] is None or told["bent_residual"] is None:
        return ""
    return (
        f"Marks miss the motion by {told['bent_residual']:.2f} px bent, {told['residual']:.2f} px "
        "straightened."
    )


def lens_warning(report: dict[str, Any] | None) -> str | None:
    return " ".join(report["warnings"].get("lens", [])) or None if report else None


def shutter_caption(treatment: Treatment) -> str:
    """``22.7 ms · strong``."""
    shutter = treatment.shutter
    if not shutter.on:
        return "off"
    if not shutter.readout:
        return "global"
    return f"{shutter.readout:g} ms{' · strong' if shutter.strong else ''}"


def straight_words(report: dict[str, Any]) -> str:
    """What putting the rows right did to the wobble; nothing where none were."""
    before, after = report["wobble_before"], report["wobble_straight"]
    if before is None or before == after:
        return ""
    sure = report["shake_accuracy"]
    return f"Wobble {in_pixels(before, sure)} → {in_pixels(after, sure)} by this station."


def shake_words(figures: dict[str, Any]) -> dict[str, str]:
    """Shake ``before`` and ``after``, as in ``5.62 px``; never less than can be measured."""
    sure = figures["shake_accuracy"]
    return {name: in_pixels(figures[f"shake_{name}"], sure) for name in ("before", "after")}


def wobble_words(report: dict[str, Any]) -> str:
    """Wobble before and after, as in ``0.82 → 0.33 px``; nothing where it is not known."""
    if report.get("wobble_before") is None:  # unknown, or reported by an earlier version
        return ""
    sure = report["shake_accuracy"]
    before, after = (in_pixels(report[f"wobble_{name}"], sure) for name in ("before", "after"))
    return f"{before} → {after}"


def removed_words(figures: dict[str, Any]) -> str | None:
    """How much of the shake is gone, ``94 %``; None for nothing. ``over 96 %`` where less is left
    than can be measured."""
    before, after, sure = (figures[f"shake_{name}"] for name in ("before", "after", "accuracy"))
    if after < sure < before:
        return f"over {math.floor(100 * (1 - sure / before))} %"
    if before <= sure or figures["shake_removed"] <= 0.5:
        return None
    return f"{figures['shake_removed']:.0f} %"


def pulled_words(treatment: Treatment) -> str:
    """``left 4 %, right 4 %``; nothing where no side is pulled."""
    pulls = {side: getattr(treatment.frame, f"pull_{side}") for side in SIDES}
    keyed = {side for side in SIDES if f"frame.pull_{side}" in treatment.keys}
    return ", ".join(
        f"{side} changes" if side in keyed else f"{side} {pull:g} %"
        for side, pull in pulls.items()
        if pull or side in keyed
    )


def stretched_words(report: dict[str, Any]) -> str:
    """How much the picture is stretched at the sides that are pulled."""
    stretched = {side: much for side, much in report.get("edge_stretch", {}).items() if much >= 0.5}
    if not stretched:
        return ""
    told = ", ".join(f"{side} by {much:.0f} %" for side, much in stretched.items())
    return f"Stretched at its edge: {told}."


def cover_words(found: Cover) -> str:
    """What covering takes."""
    if not found.possible:
        return "No zoom hides the bare edges: at some frame the middle of the output is bare."
    moved = max(abs(found.offset_x), abs(found.offset_y))
    how = f", moved by {found.offset_x:.1f} % and {found.offset_y:.1f} %" if moved >= 0.05 else ""
    return f"Zoom × {found.zoom:.3f}{how}: no edge is bare. Frame {found.frame} decides."


def whole_words(whole: WholeView) -> str:
    """How large an output that keeps all is, and what it takes."""
    size = f"{whole.width} × {whole.height} px, {whole.frame_bytes / 1e6:.0f} MB a frame"
    if whole.shrunk < 0.995:
        return (
            f"{size}; at full size it would be larger than the limit, so a source pixel gets "
            f"{whole.shrunk:.2f} of one."
        )
    return f"{size}; source pixels keep their size in the middle."


def frame_caption(treatment: Treatment, report: dict[str, Any] | None) -> str:
    """``Fill · keeps 88 %``."""
    words = EDGES[treatment.edge]
    if report is None:
        return words
    if treatment.edge == "leave" and report["bare_edges"] >= 0.05:
        return f"{words} · up to {report['bare_edges']:.1f} % bare"
    return f"{words} · keeps {report['picture_kept']:.0f} %"


def frame_warning(report: dict[str, Any] | None) -> str | None:
    """Why the price would make an editor wince, or None."""
    return " ".join(report["warnings"]["frame"]) or None if report else None


def motion_warning(report: dict[str, Any] | None) -> str | None:
    if report is None:
        return None
    said = list(report["warnings"]["motion"])
    if report["weak_frames"]:
        said.append(f"{report['weak_frames']} frames could not be measured surely.")
    return " ".join(said) or None


def frames_between(first: int, last: int) -> str:
    """``frames 12 to 80``."""
    return f"frame {first}" if first == last else f"frames {first} to {last}"


def size(count: int | None) -> str:
    """Bytes as an editor reads them: ``12.4 MB``."""
    value = float(count or 0)
    for unit in ("B", "kB", "MB"):
        if value < 1000:
            return f"{value:.0f} {unit}" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1000
    return f"{value:.2f} GB"


def duration(seconds: float) -> str:
    """``0:12.0``, ``1:02:03``."""
    minutes, rest = divmod(seconds, 60)
    if minutes < 60:
        return f"{int(minutes)}:{rest:04.1f}"
    return f"{int(minutes) // 60}:{int(minutes) % 60:02d}:{int(rest):02d}"


def rate(probe: dict[str, Any]) -> str:
    text = f"{probe['rate']:.2f}".rstrip("0").rstrip(".")
    return f"{text} fps, variable" if probe["variable_rate"] else f"{text} fps"
