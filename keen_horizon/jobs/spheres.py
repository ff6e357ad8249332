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
from ..store.models import Measure, now
from .following import cut_out, pass_over
from .kind import Task


def measured_sphere(task: Task, first: int, last: int) -> tuple[Measure, Treatment]:
    """The pass over a sphere's pixels, kept with what every treatment stands on; and the treatment
    to begin with."""
    started = time.monotonic()
    spheres = task.solver.spheres
    passing = pass_over(task, task.scan, "sphere", first, last)
    seen = passing.edges
    assert seen is not None  # of a sphere
    with task.store.room_of(task.run.job_id, task.run.attempt) as room:
        folder = room / "measure"
        known = cut_out(task, "sphere", first, last, folder)
        if known is None:
            passing.made(task, room, folder)
        else:
            near = {at - first: own for at, own in known.edges}
            seen.found |= {at: near[at] for at in seen.wanted if at in near}
        key = task.store.adopt_folder("measures", folder)
    made = Measure(
        recording_id=task.recording.id, first_frame=first, last_frame=last, closer=False,
        kind="sphere", folder_key=key, seconds=0.0, created=now(),
    )  # fmt: skip
    spheres.motion(task.recording, made, Treatment().of(MOTION).nadir)
    spheres.keep_edges(made, find_edges(task.source, task.scan, first, seen))
    before = 0.0 if known is None else known.seconds
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
