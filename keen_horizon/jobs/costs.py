"""Cost curves of clips: grown a little at a time while somebody looks, or whole by a worker."""

from __future__ import annotations

import json
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import astuple
from pathlib import Path
from threading import Lock

from ..core.media.probe import Probe
from ..core.steady.cost import (
    COARSE,
    GOALS,
    CostPoint,
    Curve,
    at_calm,
    cost_of,
    next_calm,
    with_point,
)
from ..core.steady.solution import solve
from ..core.treatment import Treatment
from ..store.models import Measure, Recording
from ..store.vault import Vault
from .solutions import SOLVED_AT_ONCE, Solver, solution_key

_KEPT = 48
POINTS = len(COARSE) + len(GOALS)  # of a curve, about


class CostCurves:
    """Finds cost curves; remembers the last few. Thread-safe."""

    def __init__(self, vault: Vault, solver: Solver) -> None:
        self._vault, self._solver = vault, solver
        self._curves: OrderedDict[str, Curve] = OrderedDict()
        self._lock = Lock()

    def grow(
        self, recording: Recording, measure: Measure, treatment: Treatment, seconds: float
    ) -> tuple[Curve, bool]:
        """The curve after about ``seconds`` more of solving, and whether it is complete.

        That of a long clip does not grow here: :meth:`work_out` is for a worker.
        """
        key = cost_key(measure, treatment)
        curve = self._known(key)
        long = measure.last_frame - measure.first_frame + 1 > SOLVED_AT_ONCE
        end = time.monotonic() + seconds
        while (calm := next_calm(curve)) is not None and not long and time.monotonic() < end:
            curve = with_point(curve, self._solved(recording, measure, treatment, calm))
        if curve:
            self._remember(key, curve)
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
        while (calm := next_calm(curve)) is not None:
            curve = with_point(curve, self._solved(recording, measure, treatment, calm))
            progress(min(len(curve), POINTS), POINTS)
        path = self._vault.path(key)
        with self._vault.workspace() as room:
            part = room / "curve.json"
            part.write_text(json.dumps([astuple(point) for point in curve]), "utf-8")
            path.parent.mkdir(parents=True, exist_ok=True)
            part.replace(path)

    def _solved(
        self, recording: Recording, measure: Measure, treatment: Treatment, calm: int
    ) -> CostPoint:
        canvas = Probe.from_json(recording.probe or {}).canvas
        motion = self._solver.motion(measure, treatment.motion.model)
        return cost_of(solve(motion, canvas, at_calm(treatment, calm)), calm)

    def _known(self, key: str) -> Curve:
        with self._lock:
            if key in self._curves:
                return self._curves[key]
        path = self._vault.path(key)
        return _read(path) if path.exists() else []

    def _remember(self, key: str, curve: Curve) -> None:
        with self._lock:
            self._curves[key] = curve
            self._curves.move_to_end(key)
            while len(self._curves) > _KEPT:
                self._curves.popitem(last=False)


def _read(path: Path) -> Curve:
    return [CostPoint(*values) for values in json.loads(path.read_text("utf-8"))]


def cost_key(measure: Measure, treatment: Treatment) -> str:
    """The vault key of a curve: it depends on everything in the treatment but the calm."""
    solution = solution_key(measure, at_calm(treatment, 0))
    return solution.replace("solutions/", "costs/", 1).removesuffix(".npz") + ".json"
