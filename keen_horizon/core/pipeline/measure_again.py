"""The finished picture measured again, from its own pixels: what is left of the shake without any
word from the solve that made it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import scipy

from ..geometry.canvas import Canvas
from ..media.probe import scan
from ..motion.background_flow import background_flow
from ..motion.pairwise import pairwise_motion
from ..path.background_shake import background_shake
from ..progress import Progress, silent
from ..quality.scores import in_pixels
from ..stored import stored
from ..tracking.tracks import Tracks, places_of
from ..types import Flags
from .measure_tracks import measure
from .solve_clip import Solution

NEIGHBOURS = 3  # tracks of the source, that tell what a track of the output lies on


@stored
@dataclass(frozen=True)
class MeasuredAgain:
    """Rms ``px`` of shake in a finished file, ``sure`` as :class:`.BackgroundShake`; source px
    times the zoom, as reports have it."""

    px: float
    sure: float

    @property
    def words(self) -> str:
        """``0.31 ± 0.06 px``."""
        return in_pixels(self.px, self.sure)

    @property
    def sentence(self) -> str:
        return f"Measured in the finished picture: {self.words} of shake left."


def measured_again(
    path: Path, solution: Solution, source: Tracks, room: Path, progress: Progress = silent
) -> MeasuredAgain:
    """Measure the file at ``path``, which shows ``solution``; ``room`` is a folder for the tracks.

    What counts as background is what did in the ``source``'s tracks, which may have been a small
    part of the picture; how it moves is told by the finished file alone.
    """
    found = scan(path)
    tracks = measure(path, found, 0, found.probe.frame_count - 1, room, progress)
    canvas = found.probe.canvas
    excluded = no_background(tracks, canvas, solution, source)
    motion = pairwise_motion(tracks, canvas, "similarity", excluded if excluded.any() else None)
    shake = background_shake(background_flow(tracks, canvas, motion), motion.timeline)
    # Output pixels to source pixels, before the zoom.
    view = solution.chain.view
    scale = view.scale * canvas.height / view.output.height
    return MeasuredAgain(shake.px / scale, shake.sure / scale)


def no_background(tracks: Tracks, canvas: Canvas, solution: Solution, source: Tracks) -> Flags:
    """``(records,)`` sightings of the output that lie on what was no background of the source, or
    on none of its picture at all: bare edges stand still."""
    chain, apart = solution.chain, solution.motion.evidence.left_out
    output = chain.view.output
    shrink = np.array([output.width / canvas.width, output.height / canvas.height])
    out = np.zeros(len(tracks.records), bool)
    for t in range(min(len(tracks), len(chain))):
        rows = slice(int(tracks.offsets[t]), int(tracks.offsets[t + 1]))
        seen = places_of(tracks.records[rows])
        at = chain[t : t + 1].sampled((seen + 0.5) * shrink - 0.5)[0]
        out[rows] = ~chain.covers(at)
        there = slice(int(source.offsets[t]), int(source.offsets[t + 1]))
        if not len(apart) or not len(seen) or there.stop - there.start < NEIGHBOURS:
            continue
        near = scipy.spatial.cKDTree(places_of(source.records[there])).query(
            np.nan_to_num(at), NEIGHBOURS
        )[1]
        out[rows] |= apart[there][near].mean(axis=1) > 0.5
    return out
