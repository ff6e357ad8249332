"""Finding out where a clip's glass puts red and blue: a look at the edges of a few frames."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..media.decode import frames, key_frames
from ..media.probe import Scan
from ..picture.working_space import space_of
from ..stations.glass.colour_edges import Colours, LateralFit, colours_of, fit_lateral
from .measure_tracks import Progress, check_range, silent

LOOKS = 8  # frames that are looked at


def find_lateral(
    path: Path, scan: Scan, first: int, last: int, progress: Progress = silent
) -> LateralFit:
    """The lateral colour that the edges of frames ``first`` to ``last`` speak for."""
    check_range(scan, first, last)
    space = space_of(scan.probe)
    # Of frames that are coded by what changes, codecs leave out the faint colours of fringes first.
    among = key_frames(path, scan, first, last) or list(range(first, last + 1))
    spread = np.linspace(0, len(among) - 1, min(LOOKS, len(among))).round().astype(int)
    looks = [among[k] for k in spread.tolist()]
    seen: list[Colours] = []
    for index in looks:
        picture = next(iter(frames(path, scan, index, index)))
        seen.append(colours_of(picture, space))
        progress(len(seen), len(looks))
    return fit_lateral(seen, scan.probe.canvas)
