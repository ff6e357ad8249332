"""Tracks and a treatment give the camera's motion: who steers, seen through which lens, read how
fast, by which model.

:func:`motion_for` reads in that order. What several treatments share (the fit of all tracks, groups
of them) comes from :class:`Estimates`, which a server keeps between questions.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.lens import Lens
from ..geometry.pinhole import Pinhole
from ..geometry.rotation import Rotations
from ..geometry.similarity import Similarities
from ..motion.angle_of_view import angle_of_view
from ..motion.camera_motion import (
    MOTION_MODELS,
    AngleOfView,
    CameraMotion,
    LensEvidence,
    ModelChoice,
    PointTrack,
    Wobble,
)
from ..motion.held_point import HeldPoint
from ..motion.model_selection import choose_model, fit_residual, turns_from
from ..motion.pairwise import pairwise_motion
from ..motion.refit import refit
from ..motion.residual_fields import ROUNDS, USUAL_STIFFNESS, WIDE, displacement_field
from ..motion.robust_fit import BaseModel
from ..motion.rolling_shutter import unskew_tracks
from ..motion.undistort_tracks import undistort_tracks
from ..quality.wobble import bent_by, local_wobble
from ..stations.lens import LENS
from ..stations.lens.optics import bends, lens_from_settings, straight_camera
from ..stations.motion import MOTION, MotionSettings
from ..stations.shutter import SHUTTER, ShutterSettings
from ..tracking.exclusion import excluded_sightings
from ..tracking.groups import TrackGroup, groups_of
from ..tracking.tracks import Tracks
from ..treatment import Treatment
from ..types import Flags

TURN_WIDTHS = tuple(np.geomspace(WIDE, 1.0, ROUNDS).tolist())  # of the fade, of a fit of turns


class Estimates:
    """What is found out about a range's tracks apart from any treatment. Subclasses may remember
    it, and know tracks of held points."""

    def __init__(self, tracks: Tracks, canvas: Canvas) -> None:
        self.tracks, self.canvas = tracks, canvas
        self._recorded: dict[str, CameraMotion] = {}
        self._groups: list[TrackGroup] | None = None

    def recorded(self, model: BaseModel) -> CameraMotion:
        """The fit of all tracks, as they were recorded, by a *shift* or a *similarity*; with the
        wobble of the source."""
        if model not in self._recorded:
            self._recorded[model] = recorded_motion(self.tracks, self.canvas, model)
        return self._recorded[model]

    def groups(self) -> list[TrackGroup]:
        """The tracks that move together, otherwise than the camera."""
        if self._groups is None:
            whole = self.recorded("similarity")
            self._groups = groups_of(self.tracks, self.canvas, whole.steps, whole.evidence.steering)
        return self._groups

    def angle(self) -> AngleOfView:
        """What the tracks tell of the angle of view of the picture as it was recorded."""
        return angle_of_view(self.tracks, self.canvas, self.recorded("similarity"))

    def undistorted(self, treatment: Treatment, model: BaseModel) -> CameraMotion:
        """As :meth:`recorded`, seen through the treatment's lens."""
        return undistorted_motion(self.tracks, self.canvas, treatment, self.recorded(model))

    def held(self, point: HeldPoint) -> PointTrack | None:
        """The track of a point that is to be held, None if nobody has followed it."""
        return None


@dataclass(frozen=True)
class _Seen:
    """Tracks as they are seen at some step of the way, and the ``motion`` fitted to them."""

    tracks: Tracks
    canvas: Canvas
    motion: CameraMotion


def motion_for(estimates: Estimates, treatment: Treatment) -> CameraMotion:
    """The motion that a treatment stands on.

    Subjects are excluded in the picture as it was recorded, because that is where they were pointed
    at; what is left is seen through the lens, then put back to the frame's own time, row by row;
    then the model is fitted, and what it leaves is judged.
    """
    treatment = treatment.in_force()
    settings = treatment.of(MOTION)
    excluded, notes = _exclusions(estimates, settings)
    seen = _undistorted(estimates, treatment, excluded)
    seen = _unskewed(seen, treatment.of(SHUTTER), settings)
    start = carried_over(estimates.recorded(base_model(settings)), seen.motion.lens)
    camera, angle = _camera(estimates, seen, settings)
    motion, more = _modelled(seen, settings, start, camera, angle)
    motion = replace(
        motion, angle=angle, lens_evidence=_lens_evidence(estimates, treatment, seen, motion)
    )
    held = _held(estimates, settings)
    said = [*notes, *more, *dict.fromkeys(track.note for track in held if track.note)]
    return replace(motion, held=held, notes=tuple(said))


# --- exclusions -----------------------------------------------------------------------------------


def _exclusions(estimates: Estimates, settings: MotionSettings) -> tuple[Flags | None, list[str]]:
    """Which sightings must not steer, None for all may; and what could not be done, in words."""
    if not settings.aside and not settings.narrow:
        return None, []
    whole = estimates.recorded("similarity")
    return excluded_sightings(
        settings.aside, settings.steer_by, estimates.tracks, estimates.canvas, whole.steps,
        estimates.groups,
    )  # fmt: skip


def base_model(settings: MotionSettings) -> BaseModel:
    """The model of the fit that a treatment's own stands on."""
    return "shift" if settings.model == "shift" else "similarity"


def recorded_motion(tracks: Tracks, canvas: Canvas, model: BaseModel) -> CameraMotion:
    """The fit of all tracks by a *shift* or a *similarity*, with the wobble of the source."""
    return _with_wobble(tracks, canvas, pairwise_motion(tracks, canvas, model))


def _with_wobble(tracks: Tracks, canvas: Canvas, motion: CameraMotion) -> CameraMotion:
    """The motion with the wobble that a mesh of the usual stiffness shows on top of it."""
    mesh = displacement_field(tracks, canvas, motion, "mesh")
    assert mesh is not None
    wobble = local_wobble(mesh, motion.evidence.weight, motion.timeline, canvas)
    return replace(motion, wobble=Wobble(wobble, mesh=mesh))


# --- undistortion ---------------------------------------------------------------------------------


def _undistorted(estimates: Estimates, treatment: Treatment, excluded: Flags | None) -> _Seen:
    """What the lens makes of the tracks; fitted without those that are excluded."""
    settings = treatment.of(MOTION)
    model = base_model(settings)
    tracks, canvas = estimates.tracks, estimates.canvas
    motion = estimates.recorded(model)
    if bends(treatment.of(LENS)):
        motion = estimates.undistorted(treatment, model)
        canvas = LENS.recorded_canvas(treatment.of(LENS), canvas)
        if motion.lens is not None:
            tracks, useless = undistort_tracks(tracks, canvas, motion.lens)
            if excluded is not None and useless.any():
                excluded = excluded | useless
    if excluded is not None and excluded.any():
        fitted = pairwise_motion(tracks, canvas, model, excluded, narrow=settings.narrow)
        motion = replace(fitted, lens=motion.lens, wobble=motion.wobble)
    return _Seen(tracks, canvas, motion)


def lens_at(treatment: Treatment, canvas: Canvas, first: int, n: int) -> Lens | None:
    """The lens of a treatment at ``n`` frames from ``first`` of the recording on; ``canvas`` has
    pixels as wide as they were recorded."""
    frames = first + np.arange(n)
    names = ("focal", "centre_x", "centre_y", "amount")
    over_time = {name: treatment.values(f"lens.{name}", frames) for name in names}
    return lens_from_settings(treatment.of(LENS), canvas, over_time, n)


def undistorted_motion(
    tracks: Tracks, canvas: Canvas, treatment: Treatment, recorded: CameraMotion
) -> CameraMotion:
    """As :func:`recorded_motion`, of tracks seen through the treatment's lens.

    ``recorded`` is the fit to the tracks as they were recorded. Who steers is settled there: to the
    side, a straightened picture of a wide lens moves so much more than in its middle that a
    similarity would lose the tracks.
    """
    canvas = LENS.recorded_canvas(treatment.of(LENS), canvas)
    lens = lens_at(treatment, canvas, tracks.first, len(tracks))
    motion = replace(recorded, lens=lens)
    if lens is not None:
        tracks, useless = undistort_tracks(tracks, canvas, lens)
        if useless.any():
            motion = replace(motion, evidence=replace(motion.evidence, excluded=useless))
    steps, evidence = refit(tracks, canvas, motion, carried_over(recorded, lens))
    return _with_wobble(tracks, canvas, replace(motion, steps=steps, evidence=evidence))


def carried_over(recorded: CameraMotion, lens: Lens | None) -> Similarities:
    """Steps of the recorded picture as they are in the middle of the straight plane."""
    steps = recorded.steps
    assert isinstance(steps, Similarities)
    scale = 1.0 if lens is None else float(np.mean(lens.scale))
    return type(steps)(steps.a, scale * steps.b)


# --- rolling shutter ------------------------------------------------------------------------------


def _unskewed(seen: _Seen, shutter: ShutterSettings, settings: MotionSettings) -> _Seen:
    """What is left once the rows are put back to the frame's own time."""
    if not shutter.on or not shutter.readout:
        return seen
    motion = seen.motion
    fit = None
    if motion.lens is None:
        excluded = motion.evidence.excluded
        fit = partial(
            pairwise_motion, canvas=seen.canvas, model=base_model(settings),
            excluded=excluded if len(excluded) else None, narrow=settings.narrow,
        )  # fmt: skip
    tracks, unskewed = unskew_tracks(
        seen.tracks, seen.canvas, motion, shutter.readout / 1000, strong=shutter.strong, fit=fit
    )
    judged = _with_wobble(tracks, seen.canvas, unskewed)
    assert motion.wobble is not None
    assert judged.wobble is not None
    wobble = Wobble(motion.wobble.source, judged.wobble.source, judged.wobble.mesh)
    return _Seen(tracks, seen.canvas, replace(judged, wobble=wobble))


# --- the model ------------------------------------------------------------------------------------


def _modelled(
    seen: _Seen, settings: MotionSettings, start: Similarities, camera: Pinhole | None,
    angle: AngleOfView | None,
) -> tuple[CameraMotion, list[str]]:  # fmt: skip
    """The motion by the model that is asked for, or that the clip asks for."""
    if settings.model == "decide":
        return _decided(seen, settings, start, camera), []
    if settings.model == "rotation" and camera is None:
        assert angle is not None
        note = f"{angle.words} Until it is given, shift, roll and scale stand in for rotation."
        return _by_model("similarity", seen, settings, start, camera), [note]
    return _by_model(settings.model, seen, settings, start, camera), []


def _camera(
    estimates: Estimates, seen: _Seen, settings: MotionSettings
) -> tuple[Pinhole | None, AngleOfView | None]:
    """The straight camera, if a model needs one and it is known: by the lens, by its angle of view,
    or by what the clip tells of that, which then comes too."""
    if seen.motion.lens is not None:
        return straight_camera(seen.motion.lens), None
    if settings.angle_of_view is not None:
        return camera_of_angle(seen.canvas, settings.angle_of_view), None
    if settings.model not in ("rotation", "decide"):
        return None, None
    angle = estimates.angle()
    return (camera_of_angle(seen.canvas, angle.across) if angle.told else None), angle


def camera_of_angle(canvas: Canvas, angle_of_view: float) -> Pinhole:
    """The straight camera that sees ``angle_of_view`` degrees across."""
    return Pinhole(float(canvas.half[0] / np.tan(np.radians(angle_of_view) / 2)))


def _by_model(
    model: str, seen: _Seen, settings: MotionSettings, start: Similarities, camera: Pinhole | None
) -> CameraMotion:
    motion = seen.motion
    if model == "rotation":
        assert camera is not None
        return _turning(seen, turns_from(start, camera))
    if model == "shift" and motion.model != "shift":
        excluded = motion.evidence.excluded
        plain = pairwise_motion(
            seen.tracks, seen.canvas, "shift", excluded if excluded.any() else None,
            narrow=settings.narrow,
        )  # fmt: skip
        return replace(motion, model=model, steps=plain.steps, evidence=plain.evidence)
    usual = model == "mesh" and settings.stiffness == USUAL_STIFFNESS
    if usual and motion.wobble is not None and motion.wobble.mesh is not None:
        return replace(motion, model=model, field=motion.wobble.mesh)
    field = displacement_field(seen.tracks, seen.canvas, motion, model, settings.stiffness)
    return replace(motion, model=model, field=field)


def _turning(seen: _Seen, start: Rotations) -> CameraMotion:
    """The motion as that of a camera that turns, and the wobble of such a picture: what the turns
    do to it beyond its shift, and what is left besides. A mesh on top of shifts alone would lose
    the tracks of a wide lens."""
    tracks, canvas, motion = seen.tracks, seen.canvas, seen.motion
    steps, evidence = refit(tracks, canvas, motion, start, TURN_WIDTHS)
    turning = replace(motion, model="rotation", steps=steps, evidence=evidence)
    rest = displacement_field(tracks, canvas, turning, "mesh")
    assert rest is not None
    weight, timeline = evidence.weight, motion.timeline
    wobble = local_wobble(rest, weight, timeline, canvas, bent_by([steps], canvas, len(steps)))
    was = motion.wobble
    if was is not None and was.unskewed is not None:
        return replace(turning, wobble=Wobble(was.source, wobble))
    return replace(turning, wobble=Wobble(wobble))


def _decided(
    seen: _Seen, settings: MotionSettings, start: Similarities, camera: Pinhole | None
) -> CameraMotion:
    """The motion by the simplest model that explains the tracks and leaves little wobble."""
    choice = choose_model(seen.tracks, seen.canvas, seen.motion, settings.stiffness, camera)
    order = [name for name in MOTION_MODELS if name in choice.left]
    best: CameraMotion | None = None
    for name in order[order.index(choice.model) :]:
        motion = _by_model(name, seen, settings, start, camera)
        wobble = _wobble_left(motion, seen.canvas)
        if best is None or best.choice is None or wobble < best.choice.wobble:
            said = ModelChoice(name, choice.left, wobble, settings.wobble_limit)
            best = replace(motion, choice=said)
        if wobble <= settings.wobble_limit:
            break
    assert best is not None
    return best


def _wobble_left(motion: CameraMotion, canvas: Canvas) -> float:
    """Rms wobble that is left when what the model knows of it is taken out, source px."""
    assert motion.wobble is not None
    left = motion.wobble.left_by_shutter.astype(complex)
    known = bent_by([motion.steps], canvas, len(motion))
    if motion.field is not None or known is not None:
        weight, timeline = motion.evidence.weight, motion.timeline
        left = left - local_wobble(motion.field, weight, timeline, canvas, known)
    return float(np.sqrt((np.abs(left) ** 2).mean()))


# --- what came of it ------------------------------------------------------------------------------


def _lens_evidence(
    estimates: Estimates, treatment: Treatment, seen: _Seen, motion: CameraMotion
) -> LensEvidence | None:
    """What the lens does for the fit; None without one."""
    if not bends(treatment.of(LENS)):
        return None
    recorded = estimates.recorded(base_model(treatment.of(MOTION)))
    return LensEvidence(
        fit_residual(estimates.tracks, estimates.canvas, recorded),
        fit_residual(seen.tracks, seen.canvas, motion),
    )


def _held(estimates: Estimates, settings: MotionSettings) -> tuple[PointTrack, ...]:
    if settings.aim != "hold":
        return ()
    found = (estimates.held(point) for point in settings.hold)
    return tuple(track for track in found if track is not None)
