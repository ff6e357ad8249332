"""Fringes of one picture: how far its colours lie apart, drawn alone, and where most."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...geometry.canvas import Canvas
from ...picture.radial import RadialField
from ...types import Flags, Real
from .colour_edges import (
    FEW,
    PATCH,
    Colours,
    compare,
    edge_patches,
    pixels_of,
    solve_lateral,
)
from .lateral import Lateral

QUIET, LOUD = 64, 2600.0  # code values of a map where nothing is off, and of what all of white is
CHANCE = 3.0  # times what chance explains, of which half is shown


def edges_apart(frames: list[Colours], canvas: Canvas) -> tuple[float, float] | None:
    """How far red and blue lie off green together, rms px over pictures of size ``canvas``, and the
    standard deviation of that; None where too few edges tell."""
    chosen = [edge_patches(colours) for colours in frames]
    if sum(len(patches) for patches in chosen) < FEW:
        return None
    solved = solve_lateral(frames, chosen, canvas)
    return float(np.hypot(*solved.lateral.rms())), float(np.hypot(*solved.doubt))


@dataclass(frozen=True)
class Fringes:
    """What is off between colours at the edges of a picture. ``drawn`` ``(height, width, 3)`` blue,
    green and red of nothing but that, at chroma's size: grey where nothing is. ``apart`` how far
    red and blue lie off green, rms px over the picture, and ``doubt`` the standard deviation of
    each; None where too few edges tell."""

    drawn: NDArray[np.uint8]
    apart: tuple[float, float] | None
    doubt: tuple[float, float] | None


def fringes_of(colours: Colours, canvas: Canvas) -> Fringes:
    """The fringes of a picture of size ``canvas``: by how much each colour would change at an edge
    if it were moved to where green is."""
    patches = edge_patches(colours)
    drawn = np.full((*colours.green.shape, 3), float(QUIET))
    nothing = Lateral(RadialField(canvas), (0.0, 0.0), (0.0, 0.0))
    for k, channel in ((0, 2), (1, 0)):
        if len(patches):
            change, told = _changes(colours, patches, nothing, k)
            rows, columns = pixels_of(patches[told])
            drawn[rows, columns, channel] += LOUD * change[told].reshape(-1, PATCH, PATCH)
    shown = np.clip(np.rint(drawn), 0, 255).astype(np.uint8)
    if len(patches) < FEW:
        return Fringes(shown, None, None)
    solved = solve_lateral([colours], [patches], canvas)
    return Fringes(shown, solved.lateral.rms(), solved.doubt)


def strongest_fringe(colours: Colours) -> tuple[float, float] | None:
    """The px of the picture about which red or blue differs most from green; None where there is no
    edge to compare at."""
    patches = edge_patches(colours)
    if not len(patches):
        return None
    off = np.maximum(*(np.abs(colour - colours.green) for colour in (colours.red, colours.blue)))
    # What all of a patch differs by is its colour; a fringe is what stands out of it.
    flat = off[pixels_of(patches)].reshape(len(patches), -1)
    strength = flat.max(axis=1) - np.median(flat, axis=1)
    row, column = patches[int(strength.argmax())] * PATCH + (PATCH - 1) / 2
    x, y, _ = colours.to_luma @ np.array([column, row, 1.0])
    return float(x), float(y)


def _changes(
    colours: Colours, patches: NDArray[np.intp], known: Lateral, colour: int
) -> tuple[Real, Flags]:
    """``(m, pixels)`` by how much red or blue is changed by lying off green, as far as that is more
    than chance; and ``(m,)`` which patches can tell."""
    seen = compare(colours, patches, known, colour)
    change = -(seen.slopes @ seen.moved[..., None])[..., 0]
    explained = (change**2).mean(axis=1)
    chance = (
        2 * (seen.left**2).mean(axis=1) / PATCH
    )  # by two numbers; a patch's pixels err together
    sure = explained / np.maximum(explained + CHANCE * chance, 1e-12)
    return change * sure[:, None], seen.told
