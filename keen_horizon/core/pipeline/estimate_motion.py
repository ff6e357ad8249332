"""Tracks and a treatment give the camera's motion: who steers, seen through which lens, read how
fast, by which model.

:func:`motion_by_model` reads in that order. What several treatments share (the fit of all tracks,
groups of them) comes from :class:`Estimates`, which a server keeps between questions.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.lens import Lens
from ..geometry.motion import Motion
from ..geometry.pinhole import Pinhole
from ..geometry.rotation import turns_from
from ..geometry.similarity import Similarities
from ..geometry.turn_and_slide import TurnsAndSlides
from ..motion.angle_of_view import angle_of_view
from ..motion.background_flow import background_flow
from ..motion.camera_motion import (
    MOTION_MODELS,
    AngleOfView,
    BackgroundFlow,
    CameraMotion,
    LensEvidence,
    ModelChoice,
    PointTrack,
)
from ..motion.fit_residual import fit_residual
from ..motion.held_point import HeldPoint
from ..motion.pairwise import pairwise_motion
from ..motion.readout import Readout, estimate_readout
from ..motion.refit import refit
from ..motion.residual_fields import ROUNDS, WIDE, displacement_field
from ..motion.robust_fit import BaseModel
from ..motion.rolling_shutter import unskew_tracks
from ..motion.undistort_tracks import undistort_tracks
from ..once import once
from ..stations.lens import LENS
from ..stations.lens.optics import bends, lens_from_settings, straight_camera
from ..stations.motion import MOTION, MotionSettings
from ..stations.motion.settings import NEEDING, TURNING
from ..stations.shutter import SHUTTER, ShutterSettings
from ..tracking.exclusion import excluded_sightings
from ..tracking.groups import TrackGroup, groups_of
from ..tracking.tracks import Tracks
from ..treatment import Treatment, digest
from ..types import Flags

Choosing = Callable[["Estimates"], ModelChoice]  # of a model, by what is found out
READ_ALIKE = 0.06  # ms between two readouts that are shown alike
TURN_WIDTHS = tuple(np.geomspace(WIDE, 1.0, ROUNDS).tolist())  # of the fade, of a fit of turns


class Estimates:
    """What is found out about a range's tracks apart from any treatment, each thing once.
    Subclasses may remember it for longer, and know tracks of held points."""

    def __init__(self, tracks: Tracks, canvas: Canvas) -> None:
        self.tracks, self.canvas = tracks, canvas
        self._seen: tuple[str, _Seen] | None = None

    def recorded(self, model: BaseModel) -> CameraMotion:
        """The fit of all tracks, as they were recorded, by a *shift* or a *similarity*."""
        return once(self, model, lambda: pairwise_motion(self.tracks, self.canvas, model))

    def groups(self) -> list[TrackGroup]:
        """The tracks that move together, otherwise than the camera."""
        whole = self.recorded("similarity")
        return once(
            self,
            "groups",
            lambda: groups_of(self.tracks, self.canvas, whole.steps, whole.evidence.steering),
        )

    def angle(self) -> AngleOfView:
        """What the tracks tell of the angle of view of the picture as it was recorded."""
        motion = self.recorded("similarity")
        return once(self, "angle", lambda: angle_of_view(self.tracks, self.canvas, motion))

    def flow(self) -> BackgroundFlow:
        """How the background moves, as far as nobody has set anything aside."""
        motion = self.recorded("similarity")
        return once(self, "flow", lambda: background_flow(self.tracks, self.canvas, motion))

    def readout(self) -> Readout:
        """How long the rows took to be read."""
        motion = self.recorded("similarity")
        return once(self, "readout", lambda: estimate_readout(self.tracks, motion, self.flow()))

    def choice(self, treatment: Treatment, make: Choosing) -> ModelChoice | None:
        """The model that the clip asks for, at what a treatment asks; None while that is not known
        and cannot be waited for."""
        return make(self)

    def window(self, start: int, stop: int) -> Estimates:
        """Those of frames ``start`` to ``stop`` of the range."""
        return Estimates(self.tracks.window(start, stop), self.canvas)

    def by_model(self, treatment: Treatment, half: int | None = None) -> CameraMotion:
        """The motion by the model that a treatment names; see :func:`motion_by_model`."""
        return motion_by_model(self, treatment, half)

    def seen(self, treatment: Treatment, make: Callable[[], _Seen]) -> _Seen:
        """The tracks as a treatment sees them, whatever the model that is then fitted."""
        basis = treatment.changed(MOTION, model=base_model(treatment.of(MOTION)))
        key = digest(basis, "motion")
        if self._seen is None or self._seen[0] != key:
            self._seen = key, make()
        return self._seen[1]

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


def motion_by_model(
    estimates: Estimates, treatment: Treatment, half: int | None = None
) -> CameraMotion:
    """The motion that a treatment stands on, by the model that it names.

    Subjects are excluded in the picture as it was recorded, because that is where they were pointed
    at; what is left is seen through the lens, then put back to the frame's own time, row by row;
    then the model is fitted, and what it leaves is judged. With a ``half``, what no similarity says
    is fitted to every other track only.
    """
    treatment = treatment.in_force()
    settings = treatment.of(MOTION)
    excluded, notes = _exclusions(estimates, settings)

    def look() -> _Seen:
        found = _undistorted(estimates, treatment, excluded)
        return _unskewed(found, treatment.of(SHUTTER), settings)

    seen = estimates.seen(treatment, look)
    start = carried_over(estimates.recorded(base_model(settings)), seen.motion.lens)
    camera, angle = camera_of(estimates, treatment, seen.motion.lens)
    motion, more = _modelled(seen, settings, start, camera, angle, half)
    motion = replace(
        motion,
        angle=angle,
        readout_sure=_readout_sure(estimates, treatment.of(SHUTTER)),
        lens_evidence=_lens_evidence(estimates, treatment, seen, motion),
        flow=_flow(estimates, excluded),
    )
    held = _held(estimates, settings)
    said = [*notes, *more, *dict.fromkeys(track.note for track in held if track.note)]
    return replace(motion, held=held, notes=tuple(said))


def _flow(estimates: Estimates, excluded: Flags | None) -> BackgroundFlow:
    """How the background moves: what may steer."""
    if excluded is None or not excluded.any():
        return estimates.flow()
    whole = estimates.recorded("similarity")
    own = replace(whole, evidence=replace(whole.evidence, excluded=excluded))
    return background_flow(estimates.tracks, estimates.canvas, own)


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
        motion = replace(fitted, lens=motion.lens)
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
    """As :func:`.pairwise_motion`, of tracks seen through the treatment's lens.

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
    return replace(motion, steps=steps, evidence=evidence)


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
    return _Seen(tracks, seen.canvas, unskewed)


def _readout_sure(estimates: Estimates, shutter: ShutterSettings) -> float | None:
    """What a readout is sure to, ms, if it is the one that the clip tells."""
    if not shutter.on or not shutter.readout:
        return None
    told = estimates.readout()
    own = told.found and abs(told.ms - shutter.readout) < READ_ALIKE
    return told.sure if own else None


# --- the model ------------------------------------------------------------------------------------


def _modelled(
    seen: _Seen, settings: MotionSettings, start: Similarities, camera: Pinhole | None,
    angle: AngleOfView | None, half: int | None,
) -> tuple[CameraMotion, list[str]]:  # fmt: skip
    """The motion by the model that is asked for, or what stands in for it, which is then said."""
    if settings.model in NEEDING and camera is None:
        assert angle is not None
        said = MOTION_MODELS[settings.model]
        note = f"{angle.words} Until it is given, shift, roll and scale stand in for {said}."
        return _by_model("similarity", seen, settings, start, camera, half), [note]
    return _by_model(settings.model, seen, settings, start, camera, half), []


def camera_of(
    estimates: Estimates, treatment: Treatment, lens: Lens | None
) -> tuple[Pinhole | None, AngleOfView | None]:
    """The straight camera, if a model needs one and it is known: by the lens, by its angle of view,
    or by what the clip tells of that, which then comes too."""
    settings = treatment.of(MOTION)
    if settings.model not in TURNING:
        return None, None
    if lens is not None:
        return straight_camera(lens), None
    canvas = estimates.canvas
    if settings.angle_of_view is not None:
        return camera_of_angle(canvas, settings.angle_of_view), None
    angle = estimates.angle()
    return (camera_of_angle(canvas, angle.across) if angle.told else None), angle


def camera_of_angle(canvas: Canvas, angle_of_view: float) -> Pinhole:
    """The straight camera that sees ``angle_of_view`` degrees across."""
    return Pinhole(float(canvas.half[0] / np.tan(np.radians(angle_of_view) / 2)))


def _by_model(
    model: str, seen: _Seen, settings: MotionSettings, start: Similarities, camera: Pinhole | None,
    half: int | None,
) -> CameraMotion:  # fmt: skip
    motion = seen.motion
    if model in TURNING and camera is not None:
        turns = turns_from(start, camera)
        slid = TurnsAndSlides.of_turns(turns)
        turning = _turning(model, seen, turns if model == "rotation" else slid, half)
        if model != "mesh":
            return turning
        field = displacement_field(
            seen.tracks, seen.canvas, turning, model, settings.stiffness, half
        )
        return replace(turning, field=field)
    if model == "shift" and motion.model != "shift":
        excluded = motion.evidence.excluded
        plain = pairwise_motion(
            seen.tracks, seen.canvas, "shift", excluded if excluded.any() else None,
            narrow=settings.narrow,
        )  # fmt: skip
        return replace(motion, model=model, steps=plain.steps, evidence=plain.evidence)
    field = displacement_field(seen.tracks, seen.canvas, motion, model, settings.stiffness, half)
    return replace(motion, model=model, field=field)


def _turning(model: str, seen: _Seen, start: Motion, half: int | None) -> CameraMotion:
    """The motion as that of a camera that turns."""
    motion = seen.motion
    steps, evidence = refit(seen.tracks, seen.canvas, motion, start, TURN_WIDTHS, half)
    return replace(motion, model=model, steps=steps, evidence=evidence)


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
