"""What a new clip is given before an editor has said anything: read off the clip itself."""

from __future__ import annotations

import numpy as np

from ..geometry.canvas import Canvas
from ..motion.camera_motion import CameraMotion
from ..path.crop_bound import calm_for, crop_bound
from ..path.tripod import tripod_cost
from ..quality import scores
from ..stations.frame import FRAME
from ..stations.motion import MOTION
from ..stations.shutter import SHUTTER
from ..treatment import Treatment
from .cost_curve import KNEE_KEPT, cost_curve, knee
from .decide_model import motion_for
from .estimate_motion import Estimates

LEAST = 20.0  # calm of a lock-off
SPARE = 1.03  # times the tube that locking off needs, so that it does not just fail
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
