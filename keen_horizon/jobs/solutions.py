"""Solutions of clips: from memory, from the vault, or solved now."""

from __future__ import annotations

import hashlib
import json
from collections import OrderedDict
from threading import Lock

from ..core.media.probe import Probe
from ..core.motion.camera import CameraMotion, Model
from ..core.motion.kept import read_motion
from ..core.steady.kept import read_solution, write_solution
from ..core.steady.solution import Solution, solve
from ..core.treatment import Treatment
from ..store.models import Measure, Recording
from ..store.vault import Vault

SOLVED_AT_ONCE = 1000  # frames; a longer clip takes over 200 ms and is solved by a worker
SOLVER = 3  # to be raised when treatments come out differently: what is kept is then solved anew
_KEPT = 24


class Solver:
    """Finds solutions; remembers the last few and the motion they stand on. Thread-safe."""

    def __init__(self, vault: Vault) -> None:
        self._vault = vault
        self._solutions: OrderedDict[str, Solution] = OrderedDict()
        self._motions: OrderedDict[str, CameraMotion] = OrderedDict()
        self._lock = Lock()

    def motion(self, measure: Measure, model: Model) -> CameraMotion:
        name = f"{measure.folder_key} {model}"
        with self._lock:
            if name in self._motions:
                self._motions.move_to_end(name)
                return self._motions[name]
        found = read_motion(self._vault.path(measure.folder_key), model)
        with self._lock:
            self._motions[name] = found
            while len(self._motions) > 4:
                self._motions.popitem(last=False)
        return found

    def find(
        self, recording: Recording, measure: Measure, treatment: Treatment, *, patient: bool
    ) -> Solution | None:
        """The solution; None if it would take long and the caller is not ``patient``.

        What a patient caller solves of a long clip is kept in the vault for the others.
        """
        key = solution_key(measure, treatment)
        with self._lock:
            if key in self._solutions:
                self._solutions.move_to_end(key)
                return self._solutions[key]
        canvas = Probe.from_json(recording.probe or {}).canvas
        path = self._vault.path(key)
        long = measure.last_frame - measure.first_frame + 1 > SOLVED_AT_ONCE
        if path.exists():
            solution = read_solution(path, canvas)
        elif long and not patient:
            return None
        else:
            solution = solve(self.motion(measure, treatment.motion.model), canvas, treatment)
            if long:
                with self._vault.workspace() as room:
                    write_solution(solution, room / "solution.npz")
                    path.parent.mkdir(parents=True, exist_ok=True)
                    (room / "solution.npz").replace(path)
        with self._lock:
            self._solutions[key] = solution
            while len(self._solutions) > _KEPT:
                self._solutions.popitem(last=False)
        return solution


def solution_key(measure: Measure, treatment: Treatment) -> str:
    """The vault key of a solution: what it depends on, hashed."""
    kept = [SOLVER, measure.folder_key, treatment.model_dump(mode="json")]
    basis = json.dumps(kept, sort_keys=True)
    digest = hashlib.sha256(basis.encode()).hexdigest()
    return f"solutions/{digest[:2]}/{digest}.npz"
