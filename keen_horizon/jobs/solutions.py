"""Solved treatments and what they stand on, remembered: in memory, and in the vault what takes
long. What is found here depends on tracks and settings alone, so any process may find it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..core.motion.camera_motion import (
    AngleOfView,
    BackgroundFlow,
    CameraMotion,
    ModelChoice,
    PointTrack,
)
from ..core.motion.held_point import HeldPoint
from ..core.motion.readout import Readout
from ..core.motion.robust_fit import BaseModel
from ..core.pipeline import Estimates, MeasuredAgain, Solution, motion_for, solve
from ..core.pipeline.decide_model import decides, judged_at
from ..core.pipeline.estimate_motion import Choosing, base_model
from ..core.stations.lens import LENS
from ..core.stations.lens.optics import bends
from ..core.stations.motion import MOTION
from ..core.tracking.groups import TrackGroup
from ..core.tracking.tracks import Tracks
from ..core.treatment import Treatment, digest
from ..store.media_store import MediaStore
from ..store.models import Measure, Recording
from ..store.scans import probe_of
from .cache import BoundedCache
from .sphere_solutions import SphereSolver
from .vault import MEGABYTE, Kept, keep, kept_in, vault_key

WINDOW = 600  # frames of a long clip that are solved at once, around the one on show
SOLVED_AT_ONCE = 1000  # frames; a longer clip takes over 200 ms and is solved by a worker


class Solver:
    """Finds solutions; remembers the last few, and the motions they stand on; ``spheres`` does for
    spheres. Thread-safe."""

    def __init__(self, store: MediaStore) -> None:
        self.store = store
        self.motions: BoundedCache[CameraMotion] = BoundedCache(128 * MEGABYTE)
        self.groups: BoundedCache[list[TrackGroup]] = BoundedCache(16 * MEGABYTE)
        self.flows: BoundedCache[BackgroundFlow] = BoundedCache(64 * MEGABYTE)
        self.tracks: BoundedCache[Tracks] = BoundedCache(32 * MEGABYTE)
        self._solutions: BoundedCache[Solution] = BoundedCache(192 * MEGABYTE)
        self.spheres = SphereSolver(store)

    def estimates(self, recording: Recording, measure: Measure) -> KeptEstimates:
        """What is known of a measure apart from any treatment."""
        return KeptEstimates(self, recording, measure)

    def motion(self, recording: Recording, measure: Measure, treatment: Treatment) -> CameraMotion:
        """The motion that the treatment stands on; points that nobody has followed yet are left
        out."""
        treatment = self._followed(measure, treatment)
        key = motion_key(measure, treatment)

        def found() -> CameraMotion:
            kept = kept_in(self.store, key, CameraMotion)
            if kept is not None:
                return kept
            return motion_for(self.estimates(recording, measure), treatment)

        return self.motions.find(key, found)

    def keep_motion(self, recording: Recording, measure: Measure, treatment: Treatment) -> None:
        """Keep a motion that somebody will soon ask for."""
        motion = self.motion(recording, measure, treatment)
        keep(self.store, motion_key(measure, treatment), motion)

    def find(self, recording: Recording, measure: Measure, treatment: Treatment) -> Solution | None:
        """The solution if it is there, or quickly made; None where a worker has to."""
        key = solution_key(measure, treatment)
        known = self._solutions.get(key)
        if known is not None:
            return known
        if self.store.path(key).exists() or self.is_quick(measure, treatment):
            return self.solve(recording, measure, treatment)
        return None

    def is_quick(self, measure: Measure, treatment: Treatment) -> bool:
        """Whether a treatment can be solved while somebody waits."""
        return (
            not is_long(measure)
            and not self.to_follow(measure, treatment)
            and self.is_undistorted(measure, treatment)
            and self.is_decided(measure, treatment)
        )

    def solve(self, recording: Recording, measure: Measure, treatment: Treatment) -> Solution:
        """The solution, however long it takes; that of a long clip is kept in the vault."""
        return self._solutions.find(
            solution_key(measure, treatment), lambda: self._solved(recording, measure, treatment)
        )

    def _solved(self, recording: Recording, measure: Measure, treatment: Treatment) -> Solution:
        key = solution_key(measure, treatment)
        kept = kept_in(self.store, key, Solution)
        if kept is not None:
            return kept
        canvas = probe_of(recording).canvas
        solution = solve(self.motion(recording, measure, treatment), canvas, treatment)
        if is_long(measure):
            keep(self.store, key, solution)
        return solution

    def provisional(
        self, recording: Recording, measure: Measure, treatment: Treatment, near: int
    ) -> Solution:
        """A solution of the frames around frame ``near`` of a long clip, for as long as a worker
        takes with the whole. Another zoom and edges at its ends are the price of seeing it now."""
        count = measure.last_frame - measure.first_frame + 1
        start = int(np.clip(near - WINDOW // 2, 0, max(0, count - WINDOW)))
        stop = min(count, start + WINDOW)
        treatment = self._followed(measure, treatment)
        around = f"{start} to {stop}"

        def motion() -> CameraMotion:
            whole = self.motions.get(motion_key(measure, treatment))
            if whole is not None:
                return whole.window(start, stop)
            return motion_for(self.estimates(recording, measure).window(start, stop), treatment)

        def made() -> Solution:
            found = self.motions.find(f"{motion_key(measure, treatment)} {around}", motion)
            return solve(found, probe_of(recording).canvas, treatment)

        return self._solutions.find(f"{solution_key(measure, treatment)} {around}", made)

    # --- points that are held ---------------------------------------------------------------------

    def to_follow(self, measure: Measure, treatment: Treatment) -> list[HeldPoint]:
        """Points to be held that nobody has followed yet: a worker has to, with the pictures."""
        settings = treatment.of(MOTION)
        if settings.aim != "hold":
            return []
        return [
            point
            for point in settings.hold
            if not self.store.path(track_key(measure, point)).exists()
        ]

    def keep_track(self, measure: Measure, point: HeldPoint, track: PointTrack) -> None:
        keep(self.store, track_key(measure, point), track)

    def _followed(self, measure: Measure, treatment: Treatment) -> Treatment:
        """The treatment, following the camera as long as its points wait to be followed."""
        if not self.to_follow(measure, treatment):
            return treatment
        return treatment.changed(MOTION, aim="follow")

    # --- the finished picture ---------------------------------------------------------------------

    def check_of(self, measure: Measure, treatment: Treatment) -> MeasuredAgain | None:
        """What the finished picture was measured to, if it was."""
        return kept_in(self.store, check_key(measure, treatment), MeasuredAgain)

    def keep_check(self, measure: Measure, treatment: Treatment, again: MeasuredAgain) -> None:
        keep(self.store, check_key(measure, treatment), again)

    # --- what is kept -----------------------------------------------------------------------------

    def is_undistorted(self, measure: Measure, treatment: Treatment) -> bool:
        """Whether nothing has to be seen through a lens, or it has been."""
        if not bends(treatment.of(LENS)):
            return True
        key = undistorted_key(measure, treatment, base_model(treatment.of(MOTION)))
        return self.motions.get(key) is not None or self.store.path(key).exists()

    def is_decided(self, measure: Measure, treatment: Treatment) -> bool:
        """Whether it is known which model the clip asks for, if that is up to the clip."""
        treatment = self._followed(measure, treatment)
        return not decides(treatment) or self.store.path(choice_key(measure, treatment)).exists()


class KeptEstimates(Estimates):
    """What is found out about a measure, remembered for all who ask."""

    def __init__(self, solver: Solver, recording: Recording, measure: Measure) -> None:
        self._solver, self._measure = solver, measure
        folder = solver.store.path(measure.folder_key)
        tracks = solver.tracks.find(measure.folder_key, lambda: Tracks.read(folder))
        super().__init__(tracks, probe_of(recording).canvas)

    def recorded(self, model: BaseModel) -> CameraMotion:
        key = vault_key("recorded", self._measure.folder_key, model)
        return self._kept(key, lambda: super(KeptEstimates, self).recorded(model))

    def undistorted(self, treatment: Treatment, model: BaseModel) -> CameraMotion:
        key = undistorted_key(self._measure, treatment, model)
        return self._kept(key, lambda: super(KeptEstimates, self).undistorted(treatment, model))

    def angle(self) -> AngleOfView:
        key = vault_key("angles", self._measure.folder_key)
        return self._in_vault(key, AngleOfView, super().angle)

    def flow(self) -> BackgroundFlow:
        key = vault_key("flows", self._measure.folder_key)
        return self._solver.flows.find(
            key, lambda: self._in_vault(key, BackgroundFlow, super(KeptEstimates, self).flow)
        )

    def readout(self) -> Readout:
        key = vault_key("readouts", self._measure.folder_key)
        return self._in_vault(key, Readout, super().readout)

    def choice(self, treatment: Treatment, make: Choosing) -> ModelChoice:
        key = choice_key(self._measure, treatment)
        return self._in_vault(key, ModelChoice, lambda: make(self))

    def known_choice(self, treatment: Treatment) -> ModelChoice | None:
        return kept_in(self._solver.store, choice_key(self._measure, treatment), ModelChoice)

    def by_model(self, treatment: Treatment, half: int | None = None) -> CameraMotion:
        key = f"{motion_key(self._measure, treatment)} by half {half}"
        return self._solver.motions.find(
            key, lambda: super(KeptEstimates, self).by_model(treatment, half)
        )

    def groups(self) -> list[TrackGroup]:
        return self._solver.groups.find(self._measure.folder_key, super().groups)

    def held(self, point: HeldPoint) -> PointTrack | None:
        return kept_in(self._solver.store, track_key(self._measure, point), PointTrack)

    def window(self, start: int, stop: int) -> Estimates:
        """Those of frames ``start`` to ``stop`` of the range."""
        return _WindowEstimates(self, start, stop)

    def _kept(self, key: str, make: Callable[[], CameraMotion]) -> CameraMotion:
        """A motion that takes long enough to be kept in the vault, and in memory."""
        return self._solver.motions.find(key, lambda: self._in_vault(key, CameraMotion, make))

    def _in_vault(self, key: str, kind: type[Kept], make: Callable[[], Kept]) -> Kept:
        kept = kept_in(self._solver.store, key, kind)
        if kept is None:
            kept = make()
            keep(self._solver.store, key, kept)
        return kept

    def is_kept(self, treatment: Treatment) -> bool:
        return self._solver.is_undistorted(self._measure, treatment)


class _WindowEstimates(Estimates):
    """What is found out about some frames of a range, mostly known from the whole."""

    def __init__(self, whole: KeptEstimates, start: int, stop: int) -> None:
        super().__init__(whole.tracks.window(start, stop), whole.canvas)
        self._whole, self._frames = whole, (start, stop)

    def recorded(self, model: BaseModel) -> CameraMotion:
        return self._whole.recorded(model).window(*self._frames)

    def angle(self) -> AngleOfView:
        return self._whole.angle()

    def flow(self) -> BackgroundFlow:
        return self._whole.flow().window(*self._frames)

    def readout(self) -> Readout:
        return self._whole.readout()

    def choice(self, treatment: Treatment, make: Choosing) -> ModelChoice | None:
        # Somebody waits for these frames; until a worker has chosen, the plain fit stands in.
        return self._whole.known_choice(treatment)

    def undistorted(self, treatment: Treatment, model: BaseModel) -> CameraMotion:
        if self._whole.is_kept(treatment):
            return self._whole.undistorted(treatment, model).window(*self._frames)
        return super().undistorted(treatment, model)

    def held(self, point: HeldPoint) -> PointTrack | None:
        found = self._whole.held(point)
        return None if found is None else found.window(*self._frames)


def is_long(measure: Measure) -> bool:
    """Whether a range is solved by a worker."""
    return measure.last_frame - measure.first_frame + 1 > SOLVED_AT_ONCE


def motion_key(measure: Measure, treatment: Treatment) -> str:
    """What a motion depends on."""
    if decides(treatment):
        judged = digest(judged_at(treatment), "path")
        return vault_key("motions", measure.folder_key, digest(treatment, "motion"), judged)
    return vault_key("motions", measure.folder_key, digest(treatment, "motion"))


def choice_key(measure: Measure, treatment: Treatment) -> str:
    """The vault key of a choice of model, which also depends on what models are judged at."""
    return vault_key("choices", measure.folder_key, digest(judged_at(treatment), "path"))


def undistorted_key(measure: Measure, treatment: Treatment, model: BaseModel) -> str:
    """The vault key of the motion of undistorted tracks."""
    return vault_key("undistorted", measure.folder_key, model, digest(treatment, "tracks"))


def track_key(measure: Measure, point: HeldPoint) -> str:
    """The vault key of a held point's track."""
    return vault_key("tracks", measure.folder_key, point.model_dump(mode="json"))


def check_key(measure: Measure, treatment: Treatment) -> str:
    """The vault key of what a finished picture was measured to."""
    return vault_key("checks", measure.folder_key, digest(treatment, "map"))


def solution_key(measure: Measure, treatment: Treatment) -> str:
    """The vault key of a solution."""
    return vault_key("solutions", measure.folder_key, digest(treatment, "map"))
