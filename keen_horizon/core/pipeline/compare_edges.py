"""Edges of a finished file against those of the recording: colours that part, and sharpness."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..media.decode import frame_at
from ..media.probe import Scan, scan
from ..picture.working_space import space_of
from ..quality.edges import sharpness
from ..stations.glass.colour_edges import Colours, colours_of
from ..stations.glass.fringe_map import edges_apart

LOOKS = 4  # frames of each that are looked at


@dataclass(frozen=True)
class Edges:
    """How far red and blue lie off green, rms px over the picture, with the standard deviation of
    that; and sharpness, cycles a px: see :func:`.sharpness`. None where too few edges tell."""

    apart: tuple[float, float] | None
    sharpness: float | None


def edges_of(path: Path, found: Scan, first: int, last: int) -> Edges:
    """What the edges of frames ``first`` to ``last`` of a file tell."""
    space = space_of(found.probe)
    among = found.keys_within(first, last) or [first, last]
    chosen = np.unique(np.linspace(0, len(among) - 1, LOOKS).round().astype(int))
    colours: list[Colours] = []
    sharp: list[float] = []
    for k in chosen.tolist():
        picture = frame_at(path, found, among[k])
        colours.append(colours_of(picture, space))
        told = sharpness(np.asarray(space.grey_value(picture.planes[0].astype(float)), np.float32))
        if told is not None:
            sharp.append(told)
    return Edges(
        edges_apart(colours, found.probe.canvas), float(np.median(sharp)) if sharp else None
    )


def edges_report(
    path: Path, found: Scan, first: int, last: int, finished: Path
) -> dict[str, float | None]:
    """Fringes and sharpness, of a recording's range and of the file that was made of it."""
    out = scan(finished)
    before = edges_of(path, found, first, last)
    after = edges_of(finished, out, 0, out.probe.frame_count - 1)
    told: dict[str, float | None] = {}
    for when, edges in (("before", before), ("after", after)):
        told[f"fringe_{when}"], told[f"fringe_{when}_sure"] = edges.apart or (None, None)
        told[f"sharpness_{when}"] = edges.sharpness
    return told
