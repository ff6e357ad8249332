"""What is left of the shake: how the background moves in the finished picture, by the tracks.

The corrections are carried out on what the tracks show (:mod:`..motion.background_flow`), so that
what a model does not know, what its fit got wrong and what a bend does are all in the figure.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from ..geometry.canvas import Canvas
from ..geometry.chain import BATCH, WarpChain
from ..geometry.similarity import Similarities, nearest_similarity
from ..motion.camera_motion import BackgroundFlow, Timeline
from ..once import once
from ..quality.scores import fast_paths, places_over, rms, without_similarity
from ..tracking.features import accuracy
from ..types import Complex, Real

STRETCH = 1.0  # seconds
SURE = 2.0  # standard errors within which the truth lies in 19 cases of 20


@dataclass(frozen=True)
class BackgroundShake:
    """How the background still moves. ``px`` rms above 1 Hz, source px times the zoom; ``wobble``
    ``(n,)`` of each frame what of it is no shift, roll or scale of the whole; ``steps`` ``(n,)``
    what the whole does from frame to frame. ``sure`` is how much more there may be: two standard
    errors, from how the two halves of the tracks differ, and what no track is exact to."""

    px: float
    sure: float
    wobble: Real
    steps: Similarities


def background_shake(
    flow: BackgroundFlow, timeline: Timeline, chain: WarpChain | None = None,
    half: int | None = None,
) -> BackgroundShake:  # fmt: skip
    """The shake of a background that moves by ``flow``: as it was recorded, or seen through a
    ``chain``; by one half of the tracks alone, if asked.

    What the halves agree on is shake; what they do not is noise of the measure.
    """
    halves = range(flow.halves.shape[1]) if half is None else (half,)
    moved = [background_steps(flow, chain, h) for h in halves]
    paths = [fast_paths(steps, timeline.times, timeline.segments) for steps in moved]
    fast = np.mean(paths, axis=0)
    px = rms(fast)
    noise = rms(paths[0] - paths[-1]) / 2
    sure = float(np.hypot(np.hypot(px, SURE * noise), accuracy(flow.canvas))) - px
    places = _places(flow, chain)
    wobble = np.sqrt((np.abs(without_similarity(fast, places)) ** 2).mean(axis=1))
    return BackgroundShake(
        px, sure, wobble, nearest_similarity(places, places + np.mean(moved, axis=0))
    )  # fmt: skip


def _places(flow: BackgroundFlow, chain: WarpChain | None) -> Complex:
    """``(25,)`` where it is looked at, in the unit of its steps."""
    if chain is None:
        return places_over(flow.canvas)
    return np.asarray(places_over(chain.view.output) / chain.view.scale)


def no_shakier(flow: BackgroundFlow, timeline: Timeline, chain: WarpChain) -> Real:
    """``(n,)`` shares, 0..1, of a chain's corrections by which the background shakes no more than
    it did in the recording: 1 wherever they do any good.

    Stretches of a second are held against each other; what no track is exact to does not count.
    """
    window = max(3, round(STRETCH * timeline.rate))
    was, now = (
        scipy.ndimage.uniform_filter1d(
            (np.abs(fast_paths(steps, timeline.times, timeline.segments)) ** 2).mean(axis=1),
            window, mode="nearest",
        )
        for steps in (background_steps(flow), background_steps(flow, chain))
    )  # fmt: skip
    worse = now > was + accuracy(flow.canvas) ** 2
    share = np.where(worse, was / np.maximum(now, 1e-12), 1.0)
    if not worse.any():
        return np.ones(len(flow))
    return np.asarray(
        scipy.ndimage.uniform_filter1d(
            scipy.ndimage.minimum_filter1d(share, window, mode="nearest"), window, mode="nearest"
        )
    )


def background_steps(
    flow: BackgroundFlow, chain: WarpChain | None = None, half: int | None = None,
    places: Complex | None = None,
) -> Complex:  # fmt: skip
    """``(n, 25)`` how far the background at each place moves from the frame before; or at other
    ``places`` ``(m,)`` of the output's plane."""
    if chain is None and places is None:
        return once(flow, ("steps", half), lambda: _recorded_steps(flow, half))
    canvas = flow.canvas if chain is None else chain.view.output
    return _steps_at(places_over(canvas) if places is None else places, flow, chain, half)


def _recorded_steps(flow: BackgroundFlow, half: int | None) -> Complex:
    steps = _steps_at(places_over(flow.canvas), flow, None, half)
    steps.setflags(write=False)
    return steps


def _steps_at(
    places: Complex, flow: BackgroundFlow, chain: WarpChain | None, half: int | None
) -> Complex:
    n = len(flow)
    moved = np.zeros((n, len(places)), complex)
    for start in range(1, n, BATCH):
        frames = slice(start, min(start + BATCH, n))
        before = slice(frames.start - 1, frames.stop - 1)
        own = np.broadcast_to(places, (frames.stop - start, len(places)))
        if chain is None:
            moved[frames] = flow.moved(frames, own, half) - own
            continue
        there = _seen(chain[frames], _flowed(flow, chain, frames, before, own, half))
        moved[frames] = np.nan_to_num(there - own)
    return np.asarray(moved if chain is None else moved / chain.view.scale, complex)


def _flowed(
    flow: BackgroundFlow, chain: WarpChain, frames: slice, before: slice, places: Complex,
    half: int | None,
) -> Complex:  # fmt: skip
    """Where what the output shows at ``places`` of the frames before is recorded in ``frames``."""
    earlier = chain[before]
    plane = earlier.to_source(earlier.view.similarities(len(earlier)).apply(places))
    recorded = _other(plane, chain.source, flow.canvas)
    return _other(flow.moved(frames, recorded, half), flow.canvas, chain.source)


def _seen(chain: WarpChain, recorded: Complex) -> Complex:
    """Where the output shows it."""
    return np.asarray(chain.view.similarities(len(chain)).to_output(chain.to_output(recorded)))


def _other(plane: Complex, one: Canvas, other: Canvas) -> Complex:
    """A point of one canvas's plane on that of another, whose pixels are wider."""
    return plane if one == other else other.to_scene(one.to_pixels(plane))
