"""Measuring a take as any footage is measured, and holding the result against its truth."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.polynomial import chebyshev

from ..core.geometry.canvas import Canvas
from ..core.geometry.chain import WarpChain
from ..core.geometry.similarity import Similarities
from ..core.motion.camera_motion import CameraMotion
from ..core.motion.pairwise import pairwise_motion
from ..core.quality import scores
from ..core.tracking.features import FeatureTracker
from ..core.tracking.tracks import Tracks, TracksWriter
from .camera import Array
from .take import Take

LONG_ENOUGH = 40  # frames that a point is seen in one go, to tell how it moves
ENDS = 6  # frames of such a run that are not looked at


@dataclass(frozen=True)
class Measured:
    """A take with its measure, the motion fitted to it, and its true steps."""

    take: Take
    canvas: Canvas
    folder: Path
    tracks: Tracks
    motion: CameraMotion
    truth: Similarities


def measure_take(take: Take, folder: Path) -> Measured:
    """Follow marks through the take's pictures, without a file between."""
    camera = take.truth.camera
    canvas = Canvas(camera.width, camera.height)
    follower = FeatureTracker(camera.width, camera.height)
    with TracksWriter(folder) as writer:
        for frame in take.frames():
            writer.add(follower.step(np.asarray(cv2.cvtColor(frame, cv2.COLOR_BGR2GRAY))))
        writer.close(take.truth.times, 0)
    tracks = Tracks.read(folder)
    motion = pairwise_motion(tracks, canvas, "similarity")
    return Measured(take, canvas, folder, tracks, motion, true_steps(take))


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


def motion_left(take: Take, chain: WarpChain) -> float:
    """How far background points still move faster than :data:`.scores.SHAKE_ABOVE` in the treated
    picture, rms px of the output: each point on its way through the picture, freed of a smooth
    course. What the camera meant to do has some of that, too."""
    truth, points = take.truth, take.background()
    n, canvas, view = len(truth), chain.source, chain.view
    zooms, offsets = view.zooms(n) * view.scale, view.offsets(n)
    size = np.array([canvas.width - 1, canvas.height - 1])
    out = np.full((n, len(points)), np.nan + 0j)
    for t in range(n):
        pixels = truth.project(points, t)
        seen = np.isfinite(pixels).all(1) & (pixels > 0).all(1) & (pixels < size).all(1)
        plane = chain[t : t + 1].to_output(canvas.to_scene(pixels[seen])[None])[0]
        out[t, seen] = (plane - offsets[t]) * zooms[t]
    hu, hv = view.output.half
    shown = (np.abs(out.real) < hu) & (np.abs(out.imag) < hv)
    total, count = 0.0, 0
    for k in range(len(points)):
        edges = np.diff(np.concatenate([[0], shown[:, k].astype(int), [0]]))
        runs = zip(np.nonzero(edges == 1)[0], np.nonzero(edges == -1)[0], strict=True)
        for start, stop in runs:
            if stop - start < LONG_ENOUGH:
                continue
            way, u = out[start:stop, k], np.linspace(-1, 1, stop - start)
            smooth = chebyshev.chebfit(u, np.stack([way.real, way.imag], -1), 5)
            x, y = chebyshev.chebval(u, smooth)
            rest = (way - x - 1j * y)[:, None]
            fast = scores.fast_part(rest, truth.times[start:stop])[ENDS:-ENDS, 0]
            total, count = total + float((np.abs(fast) ** 2).sum()), count + len(fast)
    return float(np.sqrt(total / max(count, 1)))


def pictured_edge(take: Take, edge: Array, frame: int, inside: float = 4.0) -> Array:
    """``(m, 2)`` px of a straight edge ``(points, 3)`` of the world, as far as it is in the
    picture, ``inside`` px from its rim."""
    camera = take.truth.camera
    pixels = take.truth.project(edge, frame)
    size = np.array([camera.width - 1, camera.height - 1])
    seen = np.isfinite(pixels).all(1) & (pixels > inside).all(1) & (pixels < size - inside).all(1)
    return np.asarray(pixels[seen])


def away_from(points: Array, line: Array) -> Array:
    """``(m,)`` px from points ``(m, 2)`` to the nearest place of a polyline ``(k, 2)``."""
    start, along = line[:-1], np.diff(line, axis=0)
    share = ((points[:, None] - start) * along).sum(-1) / np.maximum((along**2).sum(-1), 1e-12)
    nearest = start + np.clip(share, 0, 1)[..., None] * along
    return np.asarray(np.linalg.norm(points[:, None] - nearest, axis=-1).min(axis=1))


def step_errors(measured: Measured) -> tuple[float, float]:
    """RMS error a frame pair: shift in px over the band of the façades, roll in degrees."""
    places = np.array([-400 - 100j, -100j, 400 - 100j, 0, 60j, -400 + 60j, 400 + 60j])
    steps = measured.motion.steps
    assert isinstance(steps, Similarities)
    off = (steps.apply(places) - measured.truth.apply(places))[1:]
    roll = np.degrees(np.angle(steps.a / measured.truth.a))[1:]
    return float(np.sqrt((np.abs(off) ** 2).mean())), float(np.sqrt((roll**2).mean()))
