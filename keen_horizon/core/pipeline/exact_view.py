"""One frame as an export draws it, at full size, beside the recorded one: for judging what a proxy
cannot show."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..media.probe import Scan
from ..picture.working_space import space_of
from ..stations.glass.colour_edges import colours_of, strongest_fringe
from .render_clip import Drawing, Render

Bgr = NDArray[np.uint8]  # (height, width, 3)


@dataclass(frozen=True)
class ExactView:
    """A frame as it was ``recorded`` and as it is ``treated``. ``fringe`` is where its colours part
    most, px of the recorded picture and of the treated one; None where no edge is sharp enough, or
    it is not seen."""

    recorded: Bgr
    treated: Bgr
    fringe: tuple[tuple[float, float], tuple[float, float]] | None


def exact_view(path: Path, scan: Scan, drawing: Drawing, first: int, frame: int) -> ExactView:
    """Draw ``frame`` of the file, the chain's frames starting at ``first``.

    Raises DamagedMedia where it cannot be decoded.
    """
    space = space_of(scan.probe)
    picture, planes = Render(path, scan, drawing, first).one(frame)
    place = strongest_fringe(colours_of(picture, space))
    fringe = None
    if place is not None:
        seen = _seen_at(drawing, frame - first, place)
        fringe = None if seen is None else (place, seen)
    recorded = space.to_bgr(picture.planes, picture.chroma, picture.site)
    treated = space.to_bgr(planes, picture.chroma, picture.natural_site)
    return ExactView(recorded, treated, fringe)


def _seen_at(drawing: Drawing, at: int, place: tuple[float, float]) -> tuple[float, float] | None:
    """Where in the output a pixel of the source is seen."""
    chain = drawing.chain[at : at + 1]
    view = chain.view
    output: Canvas = view.output
    plane = chain.to_output(chain.source.to_scene(np.array([[place]], float)).reshape(1, 1))
    spot = (plane - view.offsets(1)[:, None]) * view.zooms(1)[:, None] * view.scale
    x, y = output.to_pixels(spot).ravel().tolist()
    inside = 0 <= x < output.width and 0 <= y < output.height
    return (x, y) if inside else None
