"""Solutions of clips: from memory, from the vault, or solved now."""

from __future__ import annotations

import hashlib
import json
from dataclasses import replace

import numpy as np

from ..core.geometry.canvas import Canvas
from ..core.lens.lens_from_settings import lens_from_settings, recorded_canvas
from ..core.media.probe import Probe
from ..core.motion.camera_motion import CameraMotion, LocalMotion, PointTrack
from ..core.motion.estimate import (
    base_model,
    base_motion,
    carried_over,
    fitted_motion,
    is_bent,
    lens_settings,
    motion_settings,
    straight_focal,
    straight_motion,
)
from ..core.motion.point_tracker import read_track, track_name, write_track
from ..core.motion.robust_fit import Model
from ..core.motion.serialization import FIT, motion_path, packed, read_motion, unpacked
from ..core.path.serialization import read_solution, write_solution
from ..core.path.solution import Solution, solve
from ..core.tracking.groups import TrackGroup, groups_of
from ..core.tracking.tracks import Tracks
from ..core.treatment import HeldPoint, Treatment
from ..store.media_store import MediaStore
from ..store.models import Measure, Recording
from .lru_cache import Recent

WINDOW = 600  # frames of a long clip that are solved at once, around the one on show
SOLVED_AT_ONCE = 1000  # frames; a longer clip takes over 200 ms and is solved by a worker
SOLVER = 7  # to be raised when treatments come out differently: what is kept is then solved anew


class Solver:
    """Finds solutions; remembers the last few and the motion they stand on. Thread-safe."""

    def __init__(self, vault: MediaStore) -> None:
        self._vault = vault
        self._solutions: Recent[Solution] = Recent(24)
        self._motions: Recent[CameraMotion] = Recent(8)
        self._marks: Recent[Tracks] = Recent(4)
        self._groups: Recent[list[TrackGroup]] = Recent(8)

    def base_motion(self, recording: Recording, measure: Measure, model: Model) -> CameraMotion:
        """The motion by which every mark may steer, as the measure left it."""
        name = f"{measure.folder_key} {model}"
        found = self._motions.get(name)
        if found is None:
            folder = self._vault.path(measure.folder_key)
            if motion_path(folder, model).exists():
                found = read_motion(folder, model)
            else:  # measured by an earlier version
                found = base_motion(self.marks(measure), _canvas(recording), model)
            self._motions.put(name, found)
        return found

    def motion(self, recording: Recording, measure: Measure, treatment: Treatment) -> CameraMotion:
        """The motion that the treatment stands on; points that nobody has followed yet are left
        out."""
        treatment = self._followed(measure, treatment)
        name = _motion_name(measure, treatment)
        found = self._motions.get(name)
        if found is None:
            found = fitted_motion(
                self.marks(measure),
                _canvas(recording),
                treatment,
                base=lambda model: self.base_motion(recording, measure, model),
                grouped=lambda: self.groups(recording, measure),
                followed=lambda point: self.track(measure, point),
                straight_base=lambda model: self.straight_motion(
                    recording, measure, treatment, model
                ),
            )
            self._motions.put(name, found)
        return found

    def straight_motion(
        self, recording: Recording, measure: Measure, treatment: Treatment, model: Model
    ) -> CameraMotion:
        """As :meth:`base_motion`, of marks straightened through the treatment's lens. That takes a
        while, so it is kept."""
        key = straight_key(measure, treatment, model)
        found = self._motions.get(key)
        if found is None:
            path, canvas = self._vault.path(key), _canvas(recording)
            if path.exists():
                with np.load(path, allow_pickle=False) as kept:
                    found = unpacked(dict(kept), recorded_canvas(treatment, canvas))
            else:
                bent = self.base_motion(recording, measure, model)
                found = straight_motion(self.marks(measure), canvas, treatment, bent)
                with self._vault.keeping(key) as part:
                    np.savez(part, allow_pickle=False, **packed(found))
            self._motions.put(key, found)
        return found

    def is_straightened(self, measure: Measure, treatment: Treatment) -> bool:
        """Whether nothing has to be straightened, or it has been."""
        if not is_bent(treatment):
            return True
        key = straight_key(measure, treatment, base_model(treatment))
        return self._motions.get(key) is not None or self._vault.path(key).exists()

    def provisional(
        self, recording: Recording, measure: Measure, treatment: Treatment, near: int
    ) -> Solution:
        """A solution of the frames around frame ``near`` of a long clip, for as long as a worker
        takes with the whole. Another zoom and edges at its ends are the price of seeing it now."""
        count = measure.last_frame - measure.first_frame + 1
        start = int(np.clip(near - WINDOW // 2, 0, max(0, count - WINDOW)))
        stop = min(count, start + WINDOW)
        treatment = self._followed(measure, treatment)
        key = json.dumps([measure.folder_key, start, treatment.model_dump(mode="json")])
        solution = self._solutions.get(key)
        if solution is not None:
            return solution
        canvas = _canvas(recording)
        whole = self._motions.get(_motion_name(measure, treatment))
        motion = (
            whole.window(start, stop)
            if whole is not None
            else self._window_motion(recording, measure, treatment, start, stop)
        )
        solution = solve(motion, canvas, treatment)
        self._solutions.put(key, solution)
        return solution

    def _window_motion(
        self, recording: Recording, measure: Measure, treatment: Treatment, start: int, stop: int
    ) -> CameraMotion:
        """The motion of some frames; the fit of all marks is known for the whole clip, but for
        the lens, which is then taken to change it little but in scale."""
        name = json.dumps([start, _motion_name(measure, treatment)])
        found = self._motions.get(name)
        if found is None and not self.is_straightened(measure, treatment):
            base = self.base_motion(recording, measure, base_model(treatment))
            bent = base.window(start, stop)
            canvas = recorded_canvas(treatment, _canvas(recording))
            lens = lens_from_settings(treatment, canvas, bent.first + np.arange(len(bent)))
            steps = carried_over(bent.steps, lens)
            local = None
            if treatment.motion.model == "rotation" and lens is not None:
                local = LocalMotion("rotation", None, straight_focal(lens))
            return replace(bent, steps=steps, lens=lens, wobble=None, mesh=None, local=local)
        if found is None:
            found = fitted_motion(
                self.marks(measure).window(start, stop),
                _canvas(recording),
                treatment,
                base=lambda model: self.base_motion(recording, measure, model).window(start, stop),
                followed=lambda point: self.track(measure, point).window(start, stop),
                straight_base=lambda model: self.straight_motion(
                    recording, measure, treatment, model
                ).window(start, stop),
            )
            self._motions.put(name, found)
        return found

    def track(self, measure: Measure, point: HeldPoint) -> PointTrack:
        """A point that has been followed."""
        return read_track(self._vault.path(track_key(measure, point)))

    def to_follow(self, measure: Measure, treatment: Treatment) -> list[HeldPoint]:
        """Points to be held that nobody has followed yet: a worker has to, with the pictures."""
        if treatment.motion.aim != "hold":
            return []
        return [
            point
            for point in treatment.motion.hold
            if not self._vault.path(track_key(measure, point)).exists()
        ]

    def _followed(self, measure: Measure, treatment: Treatment) -> Treatment:
        """The treatment, following the camera as long as its points wait to be followed."""
        if not self.to_follow(measure, treatment):
            return treatment
        settings = treatment.motion.model_copy(update={"aim": "follow"})
        return treatment.model_copy(update={"motion": settings})

    def keep_track(self, measure: Measure, point: HeldPoint, track: PointTrack) -> None:
        with self._vault.keeping(track_key(measure, point)) as part:
            write_track(track, part)

    def groups(self, recording: Recording, measure: Measure) -> list[TrackGroup]:
        """The marks that move together."""
        found = self._groups.get(measure.folder_key)
        if found is None:
            whole = self.base_motion(recording, measure, "similarity")
            found = groups_of(self.marks(measure), _canvas(recording), whole)
            self._groups.put(measure.folder_key, found)
        return found

    def marks(self, measure: Measure) -> Tracks:
        """The measure itself."""
        found = self._marks.get(measure.folder_key)
        if found is None:
            found = Tracks.read(self._vault.path(measure.folder_key))
            self._marks.put(measure.folder_key, found)
        return found

    def find(
        self, recording: Recording, measure: Measure, treatment: Treatment, *, patient: bool
    ) -> Solution | None:
        """The solution; None if it would take long and the caller is not ``patient``, or if
        points have to be followed first.

        What a patient caller solves of a long clip is kept in the vault for the others.
        """
        key = solution_key(measure, treatment)
        solution = self._solutions.get(key)
        if solution is not None:
            return solution
        canvas = _canvas(recording)
        path = self._vault.path(key)
        long = measure.last_frame - measure.first_frame + 1 > SOLVED_AT_ONCE
        if self.to_follow(measure, treatment):
            return None
        if not patient and not self.is_straightened(measure, treatment):
            return None
        if path.exists():
            solution = read_solution(path, canvas)
        elif long and not patient:
            return None
        else:
            solution = solve(self.motion(recording, measure, treatment), canvas, treatment)
            if long:
                with self._vault.keeping(key) as part:
                    write_solution(solution, part)
        self._solutions.put(key, solution)
        return solution


def _motion_name(measure: Measure, treatment: Treatment) -> str:
    return json.dumps([measure.folder_key, motion_settings(treatment)], sort_keys=True)


def _canvas(recording: Recording) -> Canvas:
    return Probe.from_json(recording.probe or {}).canvas


def straight_key(measure: Measure, treatment: Treatment, model: Model) -> str:
    """The vault key of the motion of straightened marks."""
    told = [FIT, measure.folder_key, model, lens_settings(treatment)]
    digest = hashlib.sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()
    return f"straight/{digest[:2]}/{digest}.npz"


def track_key(measure: Measure, point: HeldPoint) -> str:
    """The vault key of a held point's track."""
    name = track_name(point, measure.first_frame, measure.last_frame)
    digest = hashlib.sha256(f"{measure.folder_key} {name}".encode()).hexdigest()
    return f"tracks/{digest[:2]}/{digest}.npz"


def solution_key(measure: Measure, treatment: Treatment) -> str:
    """The vault key of a solution: what it depends on, hashed."""
    kept = [SOLVER, measure.folder_key, treatment.model_dump(mode="json")]
    basis = json.dumps(kept, sort_keys=True)
    digest = hashlib.sha256(basis.encode()).hexdigest()
    return f"solutions/{digest[:2]}/{digest}.npz"


def solving_details(measure: Measure, treatment: Treatment) -> dict[str, object]:
    """What a worker needs to know to solve or to price a treatment."""
    return {"measure": measure.id, "treatment": treatment.model_dump(mode="json")}
