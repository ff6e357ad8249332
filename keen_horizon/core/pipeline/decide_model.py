"""The motion that a treatment stands on, and which model a clip asks for.

A model is judged by what matters: how much the background would still move in the finished picture
at the calm and ceiling asked for, by tracks that the model was not fitted to. What its bends cost
the path, what it does not know and what it gets wrong are all in that.
"""

from __future__ import annotations

from dataclasses import replace

from ..motion.angle_of_view import NARROWEST, WIDEST
from ..motion.camera_motion import MOTION_MODELS, CameraMotion, ModelChoice
from ..path.background_shake import background_shake
from ..stations.frame import FRAME
from ..stations.lens import LENS
from ..stations.lens.optics import bends
from ..stations.motion import MOTION
from ..stations.motion.settings import NEEDING, TURNING
from ..tracking.features import accuracy
from ..treatment import Treatment
from .estimate_motion import Estimates
from .solve_clip import solve

HARDLY = 1.06  # times the least that is left: a simpler model may leave that much
UNSEEN = 0.1  # of what motion is known to: less is no difference
LOOKED_AT = 900  # frames
FITTED, JUDGED = 0, 1  # halves of the tracks
CALMS = (40.0, 75.0)  # at which models are judged; the nearest counts
CEILINGS = (1.05, 1.15, 1.3)  # likewise, of the zoom


def motion_for(estimates: Estimates, treatment: Treatment) -> CameraMotion:
    """The motion that a treatment stands on, by its own model or by that which the clip asks for:
    the simplest that leaves hardly more of the background's shake than any."""
    treatment = treatment.in_force()
    if not decides(treatment):
        plain = treatment.changed(MOTION, model="similarity")
        return estimates.by_model(plain if treatment.of(MOTION).model == "decide" else treatment)
    at = judged_at(treatment)
    choice = estimates.choice(treatment, lambda whole: choose_model(whole, at))
    if choice is None:
        return estimates.by_model(treatment.changed(MOTION, model="similarity"))
    asked = _asking_for(choice.model, treatment, estimates)
    assert asked is not None
    angle = estimates.angle() if _asks_the_clip(treatment) else None
    return replace(estimates.by_model(asked), choice=choice, angle=angle)


def decides(treatment: Treatment) -> bool:
    """Whether the model is up to the clip."""
    settings = treatment.in_force().of(MOTION)
    return settings.on and settings.model == "decide"


def choose_model(estimates: Estimates, treatment: Treatment) -> ModelChoice:
    """The simplest model that leaves hardly more of the background's shake than any, at a
    treatment from :func:`judged_at`; by the middle of a long clip."""
    n = len(estimates.tracks)
    if n > LOOKED_AT:
        start = (n - LOOKED_AT) // 2
        estimates = estimates.window(start, start + LOOKED_AT)
    left: dict[str, float] = {}
    for model in MOTION_MODELS:
        own = _asking_for(model, treatment, estimates)
        if own is not None:
            left[model] = _left(estimates, own)
    least = min(left.values())
    most = HARDLY * least + UNSEEN * accuracy(estimates.canvas)
    return ModelChoice(next(name for name in left if left[name] <= most), left)


def _nearest(value: float, of: tuple[float, ...]) -> float:
    return min(of, key=lambda known: abs(known - value))


def judged_at(treatment: Treatment) -> Treatment:
    """The treatment at which its models are judged: at the nearest of a few calms and ceilings, and
    about its lens, so that a slider's every step does not ask anew; with nothing that only the
    frame is about."""
    settings, lens = treatment.of(MOTION), treatment.of(LENS)
    upto_motion = {
        name: getattr(settings, name)
        for name, facts in MOTION.facts.items()
        if facts.affects in ("tracks", "motion")
    }
    calm = _nearest(settings.calm, CALMS)
    ceiling = _nearest(treatment.of(FRAME).zoom_ceiling, CEILINGS)
    bare = treatment.model_copy(update={"motion": MOTION.Settings(), "frame": FRAME.Settings()})
    posed = bare.changed(MOTION, **upto_motion, calm=calm).changed(FRAME, zoom_ceiling=ceiling)
    if bends(lens):
        about = {
            "focal": max(round(lens.focal, 1), 0.1), "k1": round(lens.k1, 1),
            "k2": round(lens.k2, 1), "k3": 0.0, "k4": 0.0, "p1": 0.0, "p2": 0.0,
            "centre_x": 0.0, "centre_y": 0.0, "amount": 100.0,
        }  # fmt: skip
        posed = posed.changed(LENS, **about)
    return posed.model_copy(update={"keys": {}})


def _asks_the_clip(treatment: Treatment) -> bool:
    """Whether the angle of view is up to the clip."""
    return treatment.of(MOTION).angle_of_view is None and not bends(treatment.of(LENS))


def _asking_for(model: str, treatment: Treatment, estimates: Estimates) -> Treatment | None:
    """The treatment with another model; None where that cannot be. An angle of view that is only
    likely will do: it is judged by what comes of it."""
    own = treatment.changed(MOTION, model=model)
    if model == "shift" and bends(treatment.of(LENS)):
        return None  # through a lens that is known, a camera turns
    if model not in TURNING or not _asks_the_clip(treatment):
        return own
    likely = estimates.angle().across
    if not NARROWEST <= likely <= WIDEST:
        return None if model in NEEDING else own
    return own.changed(MOTION, angle_of_view=round(likely, 2))


def _left(estimates: Estimates, treatment: Treatment) -> float:
    """Rms px that the background would still shake by."""
    motion = estimates.by_model(treatment, FITTED)
    assert motion.flow is not None
    chain = solve(motion, estimates.canvas, treatment).chain
    return background_shake(motion.flow, motion.timeline, chain, JUDGED).px
