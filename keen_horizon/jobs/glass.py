"""What a clip's glass does to light and colours, found out by a worker: another look at some
frames."""

from __future__ import annotations

from typing import Any

from ..core import pipeline
from ..store.media_store import MediaStore
from ..store.models import Measure
from .kind import QUICK, JobKind, Task
from .results import keep_result, result_of
from .solving import measure_of

EDITION = 2  # of what is found out: what an earlier one kept is found again


def glass_details(measure: Measure) -> dict[str, object]:
    """What a worker needs to know to find out about a measured clip's glass."""
    return {"measure": measure.id, "folder": measure.folder_key, "edition": EDITION}


def found_glass(store: MediaStore, details: dict[str, Any]) -> dict[str, Any] | None:
    """What was found: ``settings``, if any, and ``words``. None if nobody has looked."""
    return result_of(store, "glass", details)


def find(task: Task) -> None:
    estimates = task.solver.estimates(task.recording, measure_of(task))
    fit = pipeline.find_glass(task.source, task.scan, estimates, task.progress)
    told = {"settings": fit.settings, "words": fit.words}
    keep_result(task.store, "glass", task.details, told)


GLASS = JobKind(
    "glass", QUICK, "Looking at light and colours,", find, replaceable=True, passing=True
)
