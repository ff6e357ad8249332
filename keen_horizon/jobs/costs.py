"""Cost curves of clips: grown a little at a time while somebody looks, or whole by a worker."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator
from dataclasses import astuple

from ..core.media.probe import Probe
from ..core.path.cost_curve import COARSE, GOALS, CostPoint, Curve, at_calm, growing, next_calm
from ..core.treatment import Treatment
from ..store.media_store import MediaStore
from ..store.models import Measure, Recording
from .lru_cache import Recent
from .solutions import SOLVED_AT_ONCE, Solver, solution_key

POINTS = len(COARSE) + len(GOALS)  # of a curve, about


class CostCurves:
    """Finds cost curves; remembers the last few. Thread-safe."""

    def __init__(self, vault: MediaStore, solver: Solver) -> None:
        self._vault, self._solver = vault, solver
        self._curves: Recent[Curve] = Recent(48)

    def grow(
        self, recording: Recording, measure: Measure, treatment: Treatment, seconds: float
    ) -> tuple[Curve, bool]:
        """The curve after about ``seconds`` more of solving, and whether it is complete.

        That of a long clip does not grow here: :meth:`work_out` is for a worker.
        """
        end = time.monotonic() + seconds
        key = cost_key(measure, treatment)
        curve = self._known(key)
        if measure.last_frame - measure.first_frame + 1 <= SOLVED_AT_ONCE and not (
            self._solver.to_follow(measure, treatment)
            or not self._solver.is_straightened(measure, treatment)
        ):
            for longer in self._growing(recording, measure, treatment, curve):
                curve = longer
                if time.monotonic() > end:
                    break
        if curve:
            self._curves.put(key, curve)
        return curve, next_calm(curve) is None

    def work_out(
        self,
        recording: Recording,
        measure: Measure,
        treatment: Treatment,
        progress: Callable[[int, int], None],
    ) -> None:
        """The whole curve, kept in the vault for :meth:`grow` to find."""
        key = cost_key(measure, treatment)
        curve = self._known(key)
        for longer in self._growing(recording, measure, treatment, curve):
            curve = longer
            progress(min(len(curve), POINTS), POINTS)
        with self._vault.keeping(key) as part:
            part.write_text(json.dumps([astuple(point) for point in curve]), "utf-8")

    def _growing(
        self, recording: Recording, measure: Measure, treatment: Treatment, curve: Curve
    ) -> Iterator[Curve]:
        canvas = Probe.from_json(recording.probe or {}).canvas
        motion = self._solver.motion(recording, measure, treatment)
        return growing(motion, canvas, treatment, curve)

    def _known(self, key: str) -> Curve:
        curve = self._curves.get(key)
        if curve is None:
            path = self._vault.path(key)
            kept = json.loads(path.read_text("utf-8")) if path.exists() else []
            curve = [CostPoint(*values) for values in kept]
        return curve


def cost_key(measure: Measure, treatment: Treatment) -> str:
    """The vault key of a curve: it depends on everything in the treatment but the calm."""
    solution = solution_key(measure, at_calm(treatment, 0))
    return solution.replace("solutions/", "costs/", 1).removesuffix(".npz") + ".json"
