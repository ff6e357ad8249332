"""Cost curves of clips: grown a little at a time while somebody looks, or whole by a worker."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Iterator
from dataclasses import astuple

from ..core.pipeline import Progress
from ..core.pipeline.cost_curve import (
    COARSE,
    GOALS,
    CostPoint,
    Curve,
    curve_digest,
    growing,
    next_calm,
)
from ..core.treatment import Treatment
from ..store.media_store import MediaStore
from ..store.models import Measure, Recording
from ..store.scans import probe_of
from .cache import BoundedCache
from .solutions import Solver
from .vault import EDITION, MEGABYTE

POINTS = len(COARSE) + len(GOALS)  # of a curve, about


class CostCurves:
    """Finds cost curves; remembers the last ones. Thread-safe."""

    def __init__(self, store: MediaStore, solver: Solver) -> None:
        self._store, self._solver = store, solver
        self._curves: BoundedCache[Curve] = BoundedCache(MEGABYTE)

    def grow(
        self, recording: Recording, measure: Measure, treatment: Treatment, seconds: float
    ) -> tuple[Curve, bool]:
        """The curve after about ``seconds`` more of solving, and whether it is complete.

        That of a long clip does not grow here: :meth:`work_out` is for a worker.
        """
        end = time.monotonic() + seconds
        key = curve_key(measure, treatment)
        curve = self._known(key)
        if self._solver.is_quick(measure, treatment):
            for longer in self._growing(recording, measure, treatment, curve):
                curve = longer
                if time.monotonic() > end:
                    break
        if curve:
            self._curves.put(key, curve)
        return curve, next_calm(curve) is None

    def work_out(
        self, recording: Recording, measure: Measure, treatment: Treatment, progress: Progress
    ) -> None:
        """The whole curve, kept in the vault for :meth:`grow` to find."""
        key = curve_key(measure, treatment)
        curve = self._known(key)
        for longer in self._growing(recording, measure, treatment, curve):
            curve = longer
            progress(min(len(curve), POINTS), POINTS)
        with self._store.keeping(key) as part:
            part.write_text(json.dumps([astuple(point) for point in curve]), "utf-8")

    def _growing(
        self, recording: Recording, measure: Measure, treatment: Treatment, curve: Curve
    ) -> Iterator[Curve]:
        canvas = probe_of(recording).canvas
        motion = self._solver.motion(recording, measure, treatment)
        return growing(motion, canvas, treatment, curve)

    def _known(self, key: str) -> Curve:
        curve = self._curves.get(key)
        if curve is None:
            path = self._store.path(key)
            kept = json.loads(path.read_text("utf-8")) if path.exists() else []
            curve = [CostPoint(*values) for values in kept]
        return curve


def curve_key(measure: Measure, treatment: Treatment) -> str:
    """The vault key of a curve: see :func:`.curve_digest`."""
    told = f"{EDITION} {measure.folder_key} {curve_digest(treatment)}"
    name = hashlib.sha256(told.encode()).hexdigest()
    return f"costs/{name[:2]}/{name}.json"
