"""Motions made up for the tests, and the parts of a chain that they look at."""

from __future__ import annotations

import numpy as np

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.displacement import DisplacementGrid
from keen_horizon.core.geometry.motion import Motion
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.core.motion.camera_motion import CameraMotion, Evidence, Timeline
from keen_horizon.core.pipeline import Estimates, motion_for
from keen_horizon.core.quality import scores
from keen_horizon.core.tracking.tracks import Tracks
from keen_horizon.core.treatment import Treatment

CANVAS = Canvas(1280, 720)


def motion_of(
    shift: np.ndarray,
    roll: np.ndarray | None = None,
    rate: float = 30.0,
    *,
    confidence: np.ndarray | None = None,
    cuts: np.ndarray | None = None,
    first: int = 0,
    **rest,
) -> CameraMotion:
    """Motion whose picture drifts by ``shift`` (complex px) and turns by ``roll`` (radians)."""
    n = len(shift)
    b = np.diff(shift, prepend=shift[0])
    a = np.exp(1j * np.diff(roll, prepend=roll[0])) if roll is not None else np.ones(n, complex)
    steps = rest.pop("steps", Similarities(a, b))
    model = rest.pop("model", "similarity")
    timeline = Timeline(
        np.arange(n) / rate, np.zeros(0, np.intp) if cuts is None else cuts, first,
        rest.pop("blurred", np.zeros(n, bool)),
    )  # fmt: skip
    sure = np.ones(n) if confidence is None else confidence
    evidence = Evidence(np.full(n, 200), sure, np.zeros(n))
    return CameraMotion(model, steps, timeline, evidence, **rest)


def shaky(n: int = 150, seed: int = 0, pan: float = 2.0) -> CameraMotion:
    """A pan with footfall, some noise and roll."""
    rng = np.random.default_rng(seed)
    t = np.arange(n) / 30
    x = pan * np.arange(n) + 9 * np.sin(2 * np.pi * 2 * t) + 2 * rng.standard_normal(n)
    y = 7 * np.sin(2 * np.pi * 1.9 * t + 1) + 2 * rng.standard_normal(n)
    roll = np.radians(0.5) * np.sin(2 * np.pi * 1.3 * t)
    return motion_of(x + 1j * y, roll)


def chain_of(*stages, view: View | None = None, canvas: Canvas = CANVAS) -> WarpChain:
    """A chain of stages, all of as many frames as the first."""
    return WarpChain(canvas, view or View(canvas), stages, len(stages[0]))


def steady_of(chain: WarpChain) -> Similarities:
    """The correction of the whole picture, as similarities."""
    steady = [stage for stage in chain.stages if isinstance(stage, Motion)]
    total = steady[-1]
    for outer in reversed(steady[:-1]):
        total = total.after(outer)
    assert isinstance(total, Similarities)
    return total


def mesh_of(chain: WarpChain) -> DisplacementGrid | None:
    """What bends the picture."""
    return chain.find(DisplacementGrid)


def output_steps(steps: Similarities, steady: Similarities) -> Similarities:
    """Motion of the steadied picture from frame to frame, as similarities."""
    moved = scores.place_steps(steps, CANVAS, [steady])
    return scores.step_similarities(moved, CANVAS)


def shake_of(steps: Similarities, motion: CameraMotion, canvas: Canvas = CANVAS) -> float:
    """The shake of steps on a motion's timeline."""
    moved = scores.place_steps(steps, canvas)
    return scores.shake(moved, motion.timeline.times, motion.segments)


def fitted(tracks: Tracks, canvas: Canvas, treatment: Treatment) -> CameraMotion:
    """The motion that a treatment stands on."""
    return motion_for(Estimates(tracks, canvas), treatment.in_force())


def spots(pose: Motion, z: np.ndarray) -> np.ndarray:
    """``(n, m)`` where motions put points."""
    return pose.apply(np.asarray(z, complex))
