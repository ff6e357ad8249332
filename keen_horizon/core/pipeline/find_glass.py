"""Finding out what a clip's glass does to light: another look at a few of its frames."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..geometry.similarity import Similarities
from ..media.decode import frames
from ..media.probe import Scan
from ..picture.working_space import space_of
from ..stations.glass.brightness import FallOffFit, Look, beside, fit_fall_off, gather, light_at
from ..tracking.tracks import places_of
from ..types import Real
from .estimate_motion import Estimates
from .measure_tracks import Progress, silent

LOOKS = 64  # frames that are looked at
RUNS, RUN = 4, 160  # of a longer clip: stretches, and frames in each


def find_fall_off(
    path: Path, scan: Scan, estimates: Estimates, progress: Progress = silent
) -> FallOffFit:
    """The fall-off that the marks of a measured range speak for."""
    tracks, canvas = estimates.tracks, estimates.canvas
    steps = estimates.recorded("similarity").steps
    assert isinstance(steps, Similarities)
    turned = np.cumprod(steps.a)
    space = space_of(scan.probe)
    seen: list[tuple[Look, Real]] = []
    runs = _runs(len(tracks))
    total, done = sum(stop - start for start, stop in runs), 0
    every = max(1, total // LOOKS)
    for start, stop in runs:
        first = tracks.first
        for picture in frames(path, scan, first + start, first + stop - 1, luma_only=True):
            at = picture.index - first
            if (at - start) % every == 0:
                records = tracks.frame(at)
                look = beside(records["id"], places_of(records), turned[at], canvas.height)
                seen.append((look, light_at(picture.planes[0], look[1], space)))
            done += 1
            progress(done, total)
    return fit_fall_off(gather(seen), canvas)


def _runs(count: int) -> list[tuple[int, int]]:
    """Stretches of the range that are looked at, each from a frame to before another."""
    if count <= RUNS * RUN:
        return [(0, count)]
    starts = np.linspace(0, count - RUN, RUNS).astype(int)
    return [(int(start), int(start) + RUN) for start in starts]
