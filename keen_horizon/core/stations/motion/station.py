"""The Motion station: what it says of itself. Its stages are solved for: see ``steadying``."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...geometry.displacement import DisplacementGrid
from ...geometry.motion import Motion
from ...path.background_shake import BackgroundShake, background_shake
from ...path.point_lock import lock_report
from ...path.tripod import TripodCost, tripod_cost
from ...quality import scores
from ...tracking.features import accuracy
from ...types import Real
from ..station import Figure, Report, Solved, Station, Tools
from .settings import MotionSettings
from .steadying import point_lock_of

STILL = 0.25  # px of shake below which there is nothing to remove
STRAYS = 2.0  # px, at 720 lines, that a held point may stray from its place unsaid
LOST_SAID = 3  # stretches without a held point that a sentence names
HARDLY = 0.5  # percent of the shake removed, that counts as nothing


class MotionStation(Station[MotionSettings]):
    """What the steadied camera should do."""

    name = "motion"
    title = "Motion"
    icon = '<path d="M4 24 l6 -9 5 12 6 -15 5 11 4 -5 6 3"/>'
    Settings = MotionSettings
    serves = frozenset({"flat", "sphere"})
    tools = (
        Tools("flat", "stations/motion.html", "stations/motion.js"),
        Tools("sphere", "stations/sphere_motion.html", "stations/sphere-motion.js"),
    )

    def report(self, settings: MotionSettings, solved: Solved) -> Report:
        motion, canvas = solved.motion, solved.scene.canvas
        timeline = motion.timeline
        n, first = len(motion), timeline.first
        motions = [stage for stage in solved.corrections if isinstance(stage, Motion)]
        sure = accuracy(canvas)
        before, after = shakes(solved)
        return {
            "frame_count": n,
            "shake_before": before.px,
            "shake_after": after.px,
            "shake_removed": 100.0 * (1.0 - after.px / before.px) if before.px > 0 else 0.0,
            "shake_before_sure": before.sure,
            "shake_after_sure": after.sure,
            "shake_accuracy": sure,
            "shake_measure": f"{scores.SHAKE_MEASURE}; in source pixels times the zoom",
            "shake_unit": "px",
            "stability_score": scores.stability_score(after.steps, timeline.segments),
            "stability_score_before": scores.stability_score(before.steps, timeline.segments),
            "distortion_value": scores.distortion_value(_linear_parts(motions)),
            **_wobble(solved, before, after),
            "weak_frames": int(motion.evidence.weak.sum()),
            "blurred_frames": (first + np.nonzero(timeline.blurred)[0]).tolist(),
            "cuts": (first + timeline.cuts).tolist(),
            "model_choice": motion.choice.why if motion.choice else None,
            "angle_told": motion.angle.words if motion.angle else None,
            "locking": _locking(settings, solved),
            "hold": _hold(settings, solved),
        }

    def notes(self, settings: MotionSettings, solved: Solved, report: Report) -> list[str]:
        motion = solved.motion
        notes = [*motion.notes]
        weak, n = report["weak_frames"], len(motion)
        if weak >= n - 1:
            notes.append(
                "No camera motion could be found: the picture is too dark, too plain or too "
                "blurred to follow, or everything in it moves its own way. It is left as it is."
                if not motion.evidence.excluded.any()
                else "Everything that could steer is set aside; the picture is left as it is. Put "
                "something back."
            )
        elif report["shake_before"] < STILL:
            still = shake_captions(report)["before"]
            notes.append(f"This clip is steady already ({still} of shake): nothing to do.")
        highest = float(solved.scene.values("frame.zoom_ceiling").max())
        lock = report["locking"]
        if lock is not None and (lock["zoom"] is None or lock["zoom"] > highest):
            notes.append(TripodCost(lock["frame"], lock["zoom"] or np.inf).words)
        if settings.on and settings.calm > 0 and highest <= 1.0:
            notes.append(
                "A zoom ceiling of × 1.00 leaves the correction no room, so nothing is corrected. "
                "Raise the ceiling."
            )
        if settings.on and settings.aim == "hold":
            notes += _hold_notes(settings, solved, report["hold"])
        return notes

    def warnings(self, settings: MotionSettings, report: Report) -> list[str]:
        said = []
        after = report["wobble_after"]
        if after is not None and _wobbles(settings, report):
            said.append(
                f"Parts of the picture wobble by {after:.2f} px (the source by "
                f"{report['wobble_before']:.2f} px), most at frame {report['wobble_frame']}; "
                f"{_wobble_remedy(settings, report)}"
            )
        weak = report["weak_frames"]
        if weak and weak < report["frame_count"] - 1:
            said.append(
                f"{weak} of {report['frame_count']} frames could not be measured surely; the "
                "correction is gentler there."
            )
        return said

    def summary(self, settings: MotionSettings, report: Report | None) -> str:
        """``Follow · calm 40``, and ``nothing removed`` where nothing was; ``level`` of a sphere
        whose horizon is."""
        if not settings.on:
            return "off"
        calms = settings.calms.values()
        calm = f"{min(calms):g}" if len(set(calms)) == 1 else f"{min(calms):g}–{max(calms):g}"
        said = f"{self.facts['aim'].choices[settings.aim].label} · calm {calm}"
        if report is not None and report.get("projection") == "equirectangular":
            return f"{said} · level" if report.get("level", {}).get("found") else said
        if report is None or removed_caption(report):
            return said
        return f"{said} · nothing removed"

    def figures(self, settings: MotionSettings, report: Report) -> list[Figure]:
        shake = shake_captions(report)
        wobbled = wobble_caption(report)
        removed = removed_caption(report) or "nothing"
        stable = f"{report['stability_score_before']:.2f} → {report['stability_score']:.2f}"
        amber = report.get("wobble_after") is not None and _wobbles(settings, report)
        return [
            Figure("Shake left", f"{shake['before']} → {shake['after']}", on_price_line=True),
            Figure("Shake removed", removed),
            Figure("Wobble", wobbled or "not known", amber, on_price_line=True),
            Figure("Stability", stable, on_price_line=True),
            Figure("Distortion value", f"{report['distortion_value']:.3f}"),
            Figure("Weak frames", f"{report['weak_frames']}"),
            Figure("Cuts", f"{len(report['cuts'])}"),
            Figure("Frames", f"{report['frame_count']}"),
        ]

    def details(self, settings: MotionSettings, report: Report) -> dict[str, str]:
        """What this treatment costs and buys, in a sentence, and what its tools say."""
        shake, removed = shake_captions(report), removed_caption(report)
        kept = f"{report['picture_kept']:.0f} %"
        lock = report["locking"]
        dear = lock is not None and (lock["zoom"] is None or lock["zoom"] > report["zoom_ceiling"])
        return {
            "left": f"{shake['after']} left, {kept} kept",
            "price": f"{kept} of the picture kept, "
            f"{f'{removed} of the shake removed' if removed else 'no shake removed'}.",
            "view": "" if lock is None else f"view of frame {lock['frame']}",
            "locking": ""
            if not dear
            else f"To hold this view still keeps {lock['picture_kept']:.0f} % of the picture.",
            "why": report.get("model_choice") or "",
            "angle": report.get("angle_told") or "",
        }


def shakes(solved: Solved) -> tuple[BackgroundShake, BackgroundShake]:
    """The background's shake before and after."""
    motion, chain = solved.motion, solved.chain
    if motion.flow is not None:
        timeline = motion.timeline
        return (
            background_shake(motion.flow, timeline),
            background_shake(motion.flow, timeline, chain),
        )
    # A motion without tracks is its own truth.
    view = chain.view.similarities(len(motion))
    motions = [stage for stage in solved.corrections if isinstance(stage, Motion)]
    canvas, timeline = solved.scene.canvas, motion.timeline
    told = []
    for corrections in ([], [view, *motions]):
        moved = scores.place_steps(motion.steps, canvas, corrections)
        px = scores.shake(moved, timeline.times, timeline.segments)
        steps = scores.step_similarities(moved, canvas)
        told.append(BackgroundShake(px, 0.0, np.zeros(len(motion)), steps))
    return told[0], told[1]


def _linear_parts(motions: list[Motion]) -> Real:
    """``(n, 2, 2)`` of the corrections at the picture's centre."""
    h = motions[-1].matrices
    for other in reversed(motions[:-1]):
        h = h @ other.matrices
    w = h[:, 2, 2, None, None]
    # Of u = N / W at the centre: (N' W - N W') / W^2.
    return np.asarray((h[:, :2, :2] * w - h[:, :2, 2, None] * h[:, None, 2, :2]) / (w * w))


def _wobble(solved: Solved, before: BackgroundShake, after: BackgroundShake) -> dict[str, Any]:
    """The wobble before and after."""
    known = solved.motion.flow is not None
    return {
        "wobble_before": scores.rms(before.wobble) if known else None,
        "wobble_after": scores.rms(after.wobble) if known else None,
        "wobble_frame": solved.motion.timeline.first + int(after.wobble.argmax())
        if known
        else None,
        "wobble_measure": f"{scores.WOBBLE_MEASURE}; after: times the zoom",
        "bends": solved.chain.find(DisplacementGrid) is not None,
    }


def _wobbles(settings: MotionSettings, report: Report) -> bool:
    """Whether the wobble is more than an editor would want."""
    limit = max(settings.wobble_limit, float(report["shake_accuracy"]))
    return bool(report["wobble_after"] > limit)


def _wobble_remedy(settings: MotionSettings, report: Report) -> str:
    if not report["bends"]:
        return "a model that bends, such as mesh, would help most."
    if settings.model in ("mesh", "decide"):
        return "less stiffness helps most."
    return "the model mesh would help most."


def _locking(settings: MotionSettings, solved: Solved) -> dict[str, Any] | None:
    if not settings.on or settings.aim != "lock_off":
        return None
    return tripod_cost(solved.motion, solved.scene.canvas, settings.lock_frame).report


def _hold(settings: MotionSettings, solved: Solved) -> dict[str, Any] | None:
    if not settings.on or settings.aim != "hold" or not settings.hold:
        return None
    return lock_report(solved.chain, solved.motion, point_lock_of(settings))


def _hold_notes(
    settings: MotionSettings, solved: Solved, report: dict[str, Any] | None
) -> list[str]:
    """Sentences about a hold."""
    if any(track.note for track in solved.motion.held):
        return []  # which is said already
    if report is None:
        return ["No point is held yet, so the camera is followed. Place a point to hold."]
    said = []
    if report["lost"]:
        runs = [f"{a} to {b}" if b > a else f"{a}" for a, b in report["lost"]]
        where = ", ".join(runs[:LOST_SAID]) + (" and elsewhere" if len(runs) > LOST_SAID else "")
        frames = "frame" if report["known_frames"] == len(solved.motion) - 1 else "frames"
        said.append(
            f"The held point is not known in {frames} {where}; place it there by hand, and it is "
            "followed on."
        )
    if report["strays"] > STRAYS * solved.scene.canvas.height / 720:
        better = "A higher zoom ceiling" if settings.tightness >= 100 else "More tightness"
        said.append(
            f"The point strays {report['strays']:.1f} px from its place. {better} holds it better."
        )
    return said


def shake_captions(figures: Report) -> dict[str, str]:
    """Shake ``before`` and ``after``, as in ``5.62 px`` and ``0.31 ± 0.06 px``; never less than can
    be measured."""
    return {
        name: scores.in_pixels(figures[f"shake_{name}"], _sure(figures, name))
        for name in ("before", "after")
    }


def _sure(figures: Report, name: str) -> float:
    """What a shake is sure to; a report by an earlier version only knew one figure for all."""
    usual = scores.doubt(figures[f"shake_{name}"], figures["shake_accuracy"])
    return float(figures.get(f"shake_{name}_sure", usual))


def wobble_caption(report: Report) -> str:
    """Wobble before and after, as in ``0.82 → 0.33 px``; nothing where it is not known."""
    if report.get("wobble_before") is None:  # unknown, or reported by an earlier version
        return ""
    before, after = (
        scores.in_pixels(value, scores.doubt(value, report["shake_accuracy"]))
        for value in (report["wobble_before"], report["wobble_after"])
    )
    return f"{before} → {after}"


def removed_caption(figures: Report) -> str | None:
    """How much of the shake is gone, ``94 %``; None for nothing. ``over 96 %`` where less is left
    than can be measured."""
    before, after = figures["shake_before"], figures["shake_after"]
    most = after + _sure(figures, "after")
    if before <= figures["shake_accuracy"] or figures["shake_removed"] <= HARDLY:
        return None
    if scores.is_resolved(after, most - after):
        return f"{figures['shake_removed']:.0f} %"
    return f"over {int(np.floor(100 * (1 - most / before)))} %" if most < before else None


MOTION = MotionStation()
