"""How long the rows of a picture took to be read, found from how its tracks bend.

A mark on row ``y`` is seen at the frame's time plus ``s y`` (``y`` from -1/2 to 1/2, ``s`` the
readout time), so what a mark seems to move from frame to frame depends on its row wherever the
picture speeds up or slows down. That is linear in ``s``, and is what the estimate stands on.

How fast the picture moves is asked place by place (:mod:`.background_flow`), not of a motion of the
whole: when a camera turns, a picture moves faster to the side than in its middle. What a turn does
besides, a keystone, is taken out on both sides, with the shift, roll and scale that the skew may
look like (Frisch, Waugh, *Partial time regressions*, Econometrica 1933).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..geometry.displacement import DisplacementGrid, grid_nodes
from ..stored import stored
from ..tracking.correspondences import correspondences
from ..tracking.tracks import Tracks
from ..types import Complex, Indices, Real
from .camera_motion import BackgroundFlow, CameraMotion
from .pairwise import BATCH
from .robust_fit import FADE_END, fade
from .rolling_shutter import filtered

ASKED = 900  # frames that an estimate looks at, at most
BLOCK = 15  # frames whose errors may hang together
LIKELY = 2.0  # standard errors that tell a skew from none
LEAST = 1.0  # ms: less is no skew
UNSURE = 6.0  # ms of uncertainty beyond which nothing is said
MOST = 1.2  # frames
WIDTHS = (16.0, 8.0, 5.0, 5.0)  # of the fade, in those that a fit ends with
EXACT = 0.01  # of the estimate, that rows may be curved by: what is linear is not exact
LEVEL = 1e-6  # added to the normal equations


@stored
@dataclass(frozen=True)
class Readout:
    """An estimate: ``ms`` from the first row to the last, known to ``sure`` ms (two standard
    errors); ``words`` say what it means."""

    ms: float
    sure: float
    words: str

    @property
    def found(self) -> bool:
        """Whether there is a skew to correct."""
        return self.ms > 0


def estimate_readout(tracks: Tracks, motion: CameraMotion, flow: BackgroundFlow) -> Readout:
    """The readout time, ms from the first row to the last, from ``tracks`` whose background moves
    by ``flow``; ``motion`` says who takes part.

    Only motion slow against the frame rate counts: faster vibration is not seen rightly from frame
    to frame. Where nothing is found the estimate is 0 and its words say why.

    >>> from keen_horizon.core.geometry.canvas import Canvas
    >>> from keen_horizon.core.motion.background_flow import background_flow
    >>> from keen_horizon.core.motion.pairwise import pairwise_motion
    >>> at = np.tile(np.array([[100.0, 90], [500, 80], [120, 400], [520, 390]]), (40, 1, 1))
    >>> tracks, canvas = Tracks.from_places(at, np.arange(40) / 30), Canvas(640, 480)
    >>> motion = pairwise_motion(tracks, canvas, "similarity")
    >>> estimate_readout(tracks, motion, background_flow(tracks, canvas, motion)).found
    False
    """
    start = max(0, (len(motion) - ASKED) // 2)
    frames = np.arange(max(1, start), min(len(motion), start + ASKED))
    gap = float(np.median(np.diff(motion.timeline.times))) if len(motion) > 1 else 0.0
    nothing = "The camera hardly speeds up or slows down here; a livelier clip would tell."
    if len(frames) < 3 * BLOCK or gap <= 0:
        return Readout(0.0, np.inf, nothing)
    speeds = _speeds(motion, flow)
    share = 0.0
    for rounds in range(len(WIDTHS)):
        over, under = _evidence(tracks, motion, speeds, frames, share, WIDTHS[: rounds + 1])
        if under.sum() <= 0:
            return Readout(0.0, np.inf, nothing)
        share = float(np.clip(over.sum() / under.sum(), 0.0, MOST))
    rest = np.bincount(np.arange(len(frames)) // BLOCK, over - share * under)
    error = LIKELY * float(np.sqrt((rest**2).sum()) / under.sum())
    ms, sure = 1000 * gap * share, 1000 * gap * float(np.hypot(error, EXACT * share))
    if sure > UNSURE:
        return Readout(0.0, sure, nothing)
    if ms < max(LEAST, sure):
        return Readout(0.0, sure, f"No skew: the rows are read within {max(LEAST, sure):.1f} ms.")
    return Readout(ms, sure, f"{ms:.1f} ms, give or take {sure:.1f}.")


def _speeds(motion: CameraMotion, flow: BackgroundFlow) -> DisplacementGrid:
    """How fast the picture moves at the nodes of a grid, px a frame: the derivative of each node's
    path, by its exact response as far as motion is slow against the frame rate."""
    n, (rows, columns) = len(flow), flow.halves.shape[2:]
    nodes = grid_nodes(flow.canvas, rows, columns).ravel()
    moved = flow.moved(slice(0, n), np.broadcast_to(nodes, (n, nodes.size))) - nodes
    speeds = np.zeros((n, nodes.size), np.complex64)
    for start, stop in motion.segments:
        paths = moved[start:stop].copy()
        paths[0] = 0
        speeds[start:stop] = filtered(np.cumsum(paths, axis=0), _derivative, 1.0)
    return DisplacementGrid(flow.canvas, speeds.reshape(n, rows, columns))


def _derivative(frequency: Real) -> Complex:
    return np.asarray(2j * np.pi * frequency)


def _evidence(
    tracks: Tracks, motion: CameraMotion, speeds: DisplacementGrid, frames: Indices, share: float,
    widths: tuple[float, ...],
) -> tuple[Real, Real]:  # fmt: skip
    """Per pair, the two sums whose ratio is the readout time in frames; tracks are weighed by how
    well they fit with a ``share``."""
    canvas = speeds.canvas
    over, under = np.zeros(len(frames)), np.zeros(len(frames))
    height = 2 * canvas.half[1]
    for first in range(0, len(frames), BATCH):
        part = frames[first : first + BATCH]
        pairs = correspondences(tracks, canvas, part, motion.evidence.left_out)
        p, q = pairs.before, pairs.after
        skew = q.imag / height * (speeds[part].to_source(q) - q)
        skew -= p.imag / height * (speeds[part - 1].to_source(p) - p)
        design = _turn_like(p, canvas.radius)
        weight = pairs.valid.astype(float)
        for width in np.array(widths) * FADE_END * canvas.radius:
            rest = np.abs(_without(design, q - p - share * skew, weight))
            weight = pairs.valid * fade(rest, width)
        left, would = _without(design, q - p, weight), _without(design, skew, weight)
        over[first : first + len(part)] = (weight * (would.conj() * left).real).sum(axis=1)
        under[first : first + len(part)] = (weight * np.abs(would) ** 2).sum(axis=1)
    return over, under


def _turn_like(z: Complex, unit: float) -> Real:
    """``(p, 2 m, 6)`` what shift, roll, scale and the keystones of a turn move points by, across,
    then down."""
    z = z / unit
    one = np.ones_like(z)
    moved = np.stack([one, 1j * one, z, 1j * z, z * z.real, z * z.imag], axis=-1)
    return np.concatenate([moved.real, moved.imag], axis=1)


def _without(design: Real, d: Complex, weight: Real) -> Complex:
    """Displacements ``(p, m)`` less what fits each row best of what ``design`` says."""
    m = d.shape[1]
    doubled = np.concatenate([weight, weight], axis=1)[..., None]
    both = np.concatenate([d.real, d.imag], axis=1)[..., None]
    weighed = (design * doubled).swapaxes(1, 2)
    gram = weighed @ design + LEVEL * np.eye(design.shape[-1])
    fitted = (design @ np.linalg.solve(gram, weighed @ both))[..., 0]
    return d - (fitted[:, :m] + 1j * fitted[:, m:])
