"""What a clip's glass does to light, found out by a worker: another look at some frames."""

from __future__ import annotations

from typing import Any

from ..core import pipeline
from ..core.stations.glass.fall_off import settings_of
from ..store.media_store import MediaStore
from ..store.models import Measure
from .kind import QUICK, JobKind, Task
from .results import keep_result, result_of


def glass_details(measure: Measure) -> dict[str, object]:
    """What a worker needs to know to find a measured clip's fall-off."""
    return {"measure": measure.id, "folder": measure.folder_key}


def found_glass(store: MediaStore, details: dict[str, Any]) -> dict[str, Any] | None:
    """What was found: ``settings``, if any, and ``words``. None if nobody has looked."""
    return result_of(store, "glass", details)


def find(task: Task) -> None:
    with task.database.session() as session:
        measure = session.get_one(Measure, int(task.details["measure"]))
    estimates = task.solver.estimates(task.recording, measure)
    fit = pipeline.find_fall_off(task.source, task.scan, estimates, task.progress)
    settings = None if fit.fall_off is None else settings_of(fit.fall_off, "clip", fit.doubt)
    keep_result(task.store, "glass", task.details, {"settings": settings, "words": fit.words})


GLASS = JobKind("glass", QUICK, "Finding fall-off,", find, replaceable=True, passing=True)
