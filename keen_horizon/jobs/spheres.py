"""Measuring, solving and exporting clips that look everywhere."""

from __future__ import annotations

import time
from functools import partial

from ..core.pipeline.first_treatment import first_sphere_treatment
from ..core.pipeline.sphere_solution import SphereSolution
from ..core.pipeline.sphere_tracks import (
    EdgesOnTheWay,
    find_edges,
    follow_on_sphere,
)
from ..core.stations.motion import MOTION
from ..core.treatment import Treatment
from ..store.models import Measure
from .following import follow_range
from .kind import Task


def measured_sphere(task: Task, first: int, last: int) -> tuple[Measure, Treatment]:
    """The pass over a sphere's pixels, kept with what every treatment stands on; and the treatment
    to begin with."""
    started = time.monotonic()
    spheres = task.solver.spheres
    made, before, seen = follow_range(task, "sphere", first, last)
    assert seen is not None  # of a sphere
    spheres.motion(task.recording, made, Treatment().of(MOTION).nadir)
    spheres.keep_edges(made, find_edges(task.source, task.scan, first, seen))
    made.seconds = before + time.monotonic() - started
    return made, first_sphere_treatment(partial(spheres.solve, task.recording, made))


def solved_sphere(task: Task, measure: Measure, treatment: Treatment) -> SphereSolution:
    """A solution, whatever it takes: a point to be held is followed first."""
    spheres = task.solver.spheres
    if spheres.wants_edges(measure, treatment):
        seen = EdgesOnTheWay(task.scan, measure.last_frame - measure.first_frame + 1)
        edges = find_edges(task.source, task.scan, measure.first_frame, seen, task.progress)
        spheres.keep_edges(measure, edges)
    for point in spheres.to_follow(measure, treatment):
        motion = spheres.motion(task.recording, measure, treatment.of(MOTION).nadir)
        rays, _ = follow_on_sphere(task.source, task.scan, motion, point, task.progress)
        spheres.keep_held(measure, point, rays)
    return spheres.solve(task.recording, measure, treatment)
