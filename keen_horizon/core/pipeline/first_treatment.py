"""What a new clip is given before an editor has said anything: read off the clip itself."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..geometry.canvas import Canvas
from ..motion.camera_motion import CameraMotion
from ..path.crop_bound import calm_for, crop_bound
from ..path.tripod import tripod_cost
from ..quality import scores
from ..stations.frame import FRAME
from ..stations.motion import MOTION
from ..stations.shutter import SHUTTER
from ..stations.view import VIEW
from ..stations.view.station import detailed_size
from ..treatment import Treatment
from .cost_curve import KNEE_KEPT, cost_curve, knee
from .decide_model import motion_for
from .estimate_motion import Estimates
from .sphere_solution import SphereSolution

LEAST = 20.0  # calm of a lock-off
SPARE = 1.03  # times the tube that locking off needs, so that it does not just fail
SPHERE_CALMS = (20.0, 30.0, 40.0, 50.0, 60.0, 70.0, 80.0)
HARDLY = 0.05  # of a sphere's shake
LOOKED_AT = 1800  # frames, from the middle of a long clip


def first_treatment(estimates: Estimates) -> Treatment:
    """A start: rows put right where their readout is found; locked off if the camera meant to stand
    still, else following it; as calm as the clip's own cost curve makes worth while."""
    treatment = Treatment()
    readout = estimates.readout()
    if readout.found:
        treatment = treatment.changed(SHUTTER, readout=round(readout.ms, 1))
    motion, canvas = motion_for(estimates, treatment), estimates.canvas
    if len(motion) > LOOKED_AT:
        start = (len(motion) - LOOKED_AT) // 2
        motion = motion.window(start, start + LOOKED_AT)
    if stands_still(motion, canvas):
        treatment = treatment.changed(MOTION, aim="lock_off")
        needed = tripod_cost(motion, canvas, None)
        if needed.kept >= KNEE_KEPT:
            calm = calm_for(1.0 - SPARE * (1.0 - 1.0 / needed.zoom))
            return treatment.changed(MOTION, calm=float(np.ceil(max(calm, LEAST))))
    return treatment.changed(MOTION, calm=knee(cost_curve(motion, canvas, treatment)).calm)


def first_sphere_treatment(solve: Callable[[Treatment], SphereSolution]) -> Treatment:
    """A start for a sphere: level, if enough uprights tell; following the camera by the least calm
    that leaves hardly more shake than the most does. Nothing is cropped, so that calm costs only
    how late turns are followed."""
    solutions = {calm: solve(Treatment().changed(MOTION, calm=calm)) for calm in SPHERE_CALMS}
    left = {calm: found.report["shake_after"] for calm, found in solutions.items()}
    least = solutions[SPHERE_CALMS[-1]].report
    enough = max(HARDLY * least["shake_before"], least["shake_sure"]) + min(left.values())
    calm = next(calm for calm in SPHERE_CALMS if left[calm] <= enough)
    level = solutions[calm].vertical
    known = level is not None and level.down is not None
    treatment = Treatment().changed(MOTION, calm=calm, level="uprights" if known else "off")
    return treatment.changed(VIEW, **detailed_size(treatment.of(VIEW), solutions[calm].canvas))


def stands_still(motion: CameraMotion, canvas: Canvas) -> bool:
    """Whether the camera meant to stand still: its path, without the shake, stays within what the
    usual calm could hold in place."""
    usual = Treatment()
    extent = 0.0
    moved = scores.place_steps(motion.steps, canvas)
    for start, stop in motion.segments:
        own = moved[start:stop].copy()
        own[:1] = 0
        paths = np.cumsum(own, axis=0)
        slow = paths - scores.fast_part(paths, motion.timeline.times[start:stop])
        extent = max(extent, float(np.ptp(slow.real, axis=0).max() / canvas.half[0] / 2))
        extent = max(extent, float(np.ptp(slow.imag, axis=0).max() / canvas.half[1] / 2))
    calm, most = usual.of(MOTION).calm, usual.of(FRAME).zoom_ceiling
    return extent < 1.0 - float(crop_bound(calm, most))
