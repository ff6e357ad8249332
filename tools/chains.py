"""What benchmarks look at in motions and chains."""

from __future__ import annotations

import numpy as np

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.motion import Motion
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.core.motion.camera_motion import CameraMotion, Evidence, Timeline
from keen_horizon.core.pipeline import Estimates, motion_for
from keen_horizon.core.tracking.tracks import Tracks
from keen_horizon.core.treatment import Treatment


def fitted(tracks: Tracks, canvas: Canvas, treatment: Treatment) -> CameraMotion:
    """The motion that a treatment stands on."""
    return motion_for(Estimates(tracks, canvas), treatment)


def made_up(steps: Similarities, times: np.ndarray) -> CameraMotion:
    """A motion that every frame is sure of."""
    n = len(times)
    timeline = Timeline(times, np.zeros(0, np.intp), 0, np.zeros(n, bool))
    evidence = Evidence(np.full(n, 200), np.ones(n), np.zeros(n))
    return CameraMotion("similarity", steps, timeline, evidence)


def chain_of(*stages, view: View | None = None, canvas: Canvas) -> WarpChain:  # type: ignore[no-untyped-def]
    """A chain of stages, all of as many frames as the first."""
    return WarpChain(canvas, view or View(canvas), stages, len(stages[0]))


def steady_of(chain: WarpChain) -> Similarities:
    """The correction of the whole picture, output to source, where it is a similarity."""
    steady = [stage for stage in chain.stages if isinstance(stage, Motion)]
    total = steady[-1]
    for outer in reversed(steady[:-1]):
        total = total.after(outer)
    assert isinstance(total, Similarities)
    return total
