"""Solving a treatment, and pricing one: what takes too long for the web process."""

from __future__ import annotations

from typing import Any

from ..core import pipeline
from ..core.pipeline import Solution
from ..core.pipeline.sphere_solution import SphereSolution
from ..core.treatment import Treatment, parse
from ..store.models import Measure
from .costs import CostCurves
from .kind import QUICK, JobKind, Task
from .spheres import solved_sphere


def solving_details(measure: Measure, treatment: Treatment) -> dict[str, object]:
    """What a worker needs to know to solve or to price a treatment."""
    return {"measure": measure.id, "treatment": treatment.as_data()}


def measure_of(task: Task) -> Measure:
    """The measure that the details name."""
    with task.database.session() as session:
        return session.get_one(Measure, int(task.details["measure"]))


def wanted(task: Task) -> tuple[Measure, Treatment]:
    """What :func:`solving_details` wrote down."""
    return measure_of(task), parse(task.details["treatment"])


def solve(task: Task) -> None:
    solution_of(task, *wanted(task))


def solution_of(task: Task, measure: Measure, treatment: Treatment) -> Solution | SphereSolution:
    """The solution of a clip of either kind, whatever it takes."""
    if measure.kind == "sphere":
        return solved_sphere(task, measure, treatment)
    return solved(task, measure, treatment)


def solved(task: Task, measure: Measure, treatment: Treatment) -> Solution:
    """A flat clip's solution, whatever it takes: points to be held are followed first."""
    _follow(task, measure, treatment)
    return task.solver.solve(task.recording, measure, treatment)


def _follow(task: Task, measure: Measure, treatment: Treatment) -> None:
    points = task.solver.to_follow(measure, treatment)
    if not points:
        return
    canvas = task.scan.probe.canvas
    motion = task.solver.estimates(task.recording, measure).recorded("similarity")
    for k, point in enumerate(points):

        def progress(done: int, total: int, k: int = k) -> None:
            task.progress(k * total + done, len(points) * total)

        track = pipeline.follow(task.source, task.scan, canvas, motion, point, progress)
        task.solver.keep_track(measure, point, track)


def price(task: Task) -> None:
    """The whole cost curve of a long clip."""
    measure, treatment = wanted(task)
    _follow(task, measure, treatment)
    curves = CostCurves(task.store, task.solver)
    curves.work_out(task.recording, measure, treatment, task.progress)


def shelf_figures(report: dict[str, Any]) -> dict[str, Any]:
    """The few numbers a shelf card shows: of a flat clip, or of a sphere."""
    names = ("shake_before", "shake_after", "shake_unit", "shake_sure")
    of_flat = ("shake_after_sure", "shake_accuracy", "picture_kept")
    return {name: report[name] for name in (*names, *of_flat) if name in report}


SOLVE = JobKind("solve", QUICK, "Solving", solve, replaceable=True, passing=True)
PRICE = JobKind("cost", QUICK, "Pricing", price, replaceable=True, passing=True, counts="points")
