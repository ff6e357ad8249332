"""What a clip's glass does to light and colours, found out by a worker: another look at some
frames."""

from __future__ import annotations

from typing import Any

from ..core import pipeline
from ..core.isolation import IsolatedProcess
from ..core.stations.glass.radial_fit import FallOffFit
from ..store.media_store import MediaStore
from ..store.models import Measure
from .kind import QUICK, JobKind, Task
from .results import keep_result, result_of
from .solving import measure_of

EDITION = 4  # of what is found out: what an earlier one kept is found again


def glass_details(
    measure: Measure, limit: float, even: dict[str, Any] | None = None
) -> dict[str, object]:
    """What a worker needs to know to find out about a measured clip's glass, where no more than
    ``limit`` stops are brought back: by an ``even`` surface in a ``frame``, or in a photograph
    (``key`` and ``name``), if there is one."""
    details = {
        "measure": measure.id, "folder": measure.folder_key, "edition": EDITION, "limit": limit,
    }  # fmt: skip
    return details if even is None else {**details, "even": even}


def found_glass(store: MediaStore, details: dict[str, Any]) -> dict[str, Any] | None:
    """What was found: ``settings``, if any, and ``words``. None if nobody has looked."""
    return result_of(store, "glass", details)


def find(task: Task) -> None:
    even = task.details.get("even")
    fit: pipeline.GlassFit | FallOffFit
    if even is None:
        estimates = task.solver.estimates(task.recording, measure_of(task))
        limit = float(task.details["limit"])
        fit = pipeline.find_glass(task.source, task.scan, estimates, task.progress, limit=limit)
    elif "frame" in even:
        fit = pipeline.fall_off_of_frame(task.source, task.scan, int(even["frame"]))
    else:
        with IsolatedProcess() as process:
            fit = process.call(
                pipeline.fall_off_of_photograph, task.store.path(even["key"]), even["name"],
                task.scan.probe.canvas, look_up=lambda: task.progress(0, 1),
            )  # fmt: skip
    told = {"settings": fit.settings, "words": fit.words}
    keep_result(task.store, "glass", task.details, told)


GLASS = JobKind(
    "glass", QUICK, "Looking at light and colours of", find, replaceable=True, passing=True
)
