"""Measuring a take as any footage is measured, and holding the result against its truth."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np

from ..core.geometry.canvas import Canvas
from ..core.geometry.similarity import Similarities
from ..core.motion.camera import camera_motion
from ..core.motion.found import CameraMotion
from ..core.motion.marks import MarkFollower
from ..core.motion.measure import Measure, MeasureWriter
from .brindle_quay import Take


@dataclass(frozen=True)
class Measured:
    """A take with its measure, the motion fitted to it, and its true steps."""

    take: Take
    canvas: Canvas
    folder: Path
    measure: Measure
    motion: CameraMotion
    truth: Similarities


def measure_take(take: Take, folder: Path) -> Measured:
    """Follow marks through the take's pictures, without a file between."""
    camera = take.truth.camera
    canvas = Canvas(camera.width, camera.height)
    follower = MarkFollower(camera.width, camera.height)
    with MeasureWriter(folder, follower) as writer:
        for frame in take.frames():
            writer.add(follower.step(np.asarray(cv2.cvtColor(frame, cv2.COLOR_BGR2GRAY))))
        writer.close(take.truth.times, 0)
    measure = Measure.read(folder)
    motion = camera_motion(measure, canvas, "similarity")
    return Measured(take, canvas, folder, measure, motion, true_steps(take))


def true_steps(take: Take) -> Similarities:
    """The similarity that best explains how background points in view move, a frame pair each."""
    truth, points = take.truth, take.background()
    canvas = Canvas(truth.camera.width, truth.camera.height)
    a, b = np.ones(len(truth), complex), np.zeros(len(truth), complex)
    size = np.array([canvas.width, canvas.height])
    for t in range(1, len(truth)):
        p, q = truth.project(points, t - 1), truth.project(points, t)
        seen = np.isfinite(p).all(1) & (p > 0).all(1) & (p < size).all(1)
        before, after = canvas.to_scene(p[seen]), canvas.to_scene(q[seen])
        mp, mq = before.mean(), after.mean()
        a[t] = (np.conj(before - mp) * (after - mq)).sum() / (np.abs(before - mp) ** 2).sum()
        b[t] = mq - a[t] * mp
    return Similarities(a, b)


def step_errors(measured: Measured) -> tuple[float, float]:
    """RMS error a frame pair: shift in px over the band of the façades, roll in degrees."""
    places = np.array([-400 - 100j, -100j, 400 - 100j, 0, 60j, -400 + 60j, 400 + 60j])
    off = (measured.motion.steps.apply(places) - measured.truth.apply(places))[1:]
    roll = np.degrees(np.angle(measured.motion.steps.a / measured.truth.a))[1:]
    return float(np.sqrt((np.abs(off) ** 2).mean())), float(np.sqrt((roll**2).mean()))
