"""One frame as an export draws it, at full size, beside the recorded one: for judging what a proxy
cannot show."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..media.decode import Plane
from ..media.probe import Scan
from ..picture.noise import PART, noise_by_level, roughness
from ..picture.working_space import WorkingSpace, space_of
from ..stations.finish.grain import Grain
from ..stations.glass.colour_edges import colours_of
from ..stations.glass.fall_off import FallOffGain
from ..stations.glass.fringe_map import Fringes, fringes_of, strongest_fringe
from .render_clip import Drawing, flat_film

EVERY = 4  # px, of which one tells what is blown
WORTH = 0.05  # a change of which is worth a word
PLAIN = 25  # percent of the parts of a corner that are plain enough
SEEN = 1.0  # code values of noise that are seen
BLOWN = 0.98  # code values from which nothing is told apart

Bgr = NDArray[np.uint8]  # (height, width, 3)


@dataclass(frozen=True)
class ExactView:
    """A frame as it was ``recorded`` and as it is ``treated``. ``fringe`` is where its colours part
    most, px of the recorded picture and of the treated one; None where no edge is sharp enough, or
    it is not seen. ``words`` say what has become of grain and of what is nearly white. ``maps``, if
    asked for, are of nothing but fringes, recorded and treated; ``fringe_words`` say how much of
    them is gone."""

    recorded: Bgr
    treated: Bgr
    fringe: tuple[tuple[float, float], tuple[float, float]] | None
    words: list[str]
    maps: tuple[Bgr, Bgr] | None = None
    fringe_words: str = ""


def exact_view(
    path: Path, scan: Scan, drawing: Drawing, first: int, frame: int, *, fringes: bool = False
) -> ExactView:
    """Draw ``frame`` of the file, the chain's frames starting at ``first``; with ``fringes``, maps
    of them too.

    Raises DamagedMedia where it cannot be decoded.
    """
    space = space_of(scan.probe)
    picture, planes = flat_film(path, scan, drawing, first).one(frame)
    colours = colours_of(picture, space)
    place = strongest_fringe(colours)
    fringe = None
    if place is not None:
        seen = _seen_at(drawing, frame - first, place)
        fringe = None if seen is None else (place, seen)
    recorded = space.to_bgr(picture.planes, picture.chroma, picture.site)
    treated = space.to_bgr(planes, picture.chroma, picture.natural_site)
    words = _light_words(picture.planes[0], planes[0], space)
    for stage in drawing.pixels:
        if isinstance(stage, FallOffGain):
            words += _amount_words(stage, frame - first, picture.planes[0], space)
        if isinstance(stage, Grain):
            grain = (noise_by_level(luma, space)[1] for luma in (picture.planes[0], planes[0]))
            words.append("Grain: {:.1f} → {:.1f} codes rms in middling parts.".format(*grain))
    if not fringes:
        return ExactView(recorded, treated, fringe, words)
    luma, *chroma = planes
    drawn = replace(picture, planes=(luma, chroma[0], chroma[1]), site=picture.natural_site)
    canvas, output = drawing.chain.source, drawing.chain.view.output
    before = fringes_of(colours, canvas)
    after = fringes_of(colours_of(drawn, space), output)
    maps = before.drawn, after.drawn
    return ExactView(recorded, treated, fringe, words, maps, _fringe_words(before, after))


def _fringe_words(before: Fringes, after: Fringes) -> str:
    """How far red and blue lie off green, before and after, and how much of it is gone."""
    if before.apart is None or before.doubt is None:
        return "Too few edges of this frame are sharp enough to tell how far colours lie apart."
    was, unsure = float(np.hypot(*before.apart)), float(np.hypot(*before.doubt))
    said = f"Red and blue lie {was:.2f} ± {2 * unsure:.2f} px off green, over the picture"
    if after.apart is None or after.doubt is None:
        return f"{said}; the treated frame has too few sharp edges to tell."
    left, still = float(np.hypot(*after.apart)), float(np.hypot(*after.doubt))
    said += f"; treated, {left:.2f} ± {2 * still:.2f} px"
    if was < 2 * unsure:
        return f"{said}: no fringes that could be told."
    gone = [100 * (1 - (px / was) ** 2) for px in (left, left + 2 * still)]
    if gone[0] <= 0:
        return f"{said}: none of it is gone."
    return f"{said}: {gone[0]:.0f} % of it is gone, {max(gone[1], 0):.0f} % at the least."


def _light_words(before: Plane, after: Plane, space: WorkingSpace) -> list[str]:
    """Noise in the corners, and what has become white."""
    said = []
    noise = [_corner_noise(plane) * 255 / (2**space.depth - 1) for plane in (before, after)]
    if max(noise) > SEEN and noise[1] > (1 + WORTH) * noise[0]:
        said.append(f"Grain in the corners: {noise[0]:.1f} → {noise[1]:.1f} code values rms.")
    white = [float((space.grey_value(p.astype(float)) >= BLOWN).mean()) for p in (before, after)]
    if white[1] - white[0] > WORTH / 100:
        said.append(f"Blown: {100 * white[0]:.1f} → {100 * white[1]:.1f} % of the picture.")
    return said


def _amount_words(gain: FallOffGain, at: int, luma: Plane, space: WorkingSpace) -> list[str]:
    """The amount of light that blows nothing, where more is brought back."""
    size = luma.shape[1] // EVERY, luma.shape[0] // EVERY
    small = cv2.resize(luma, size, interpolation=cv2.INTER_NEAREST)
    light = space.light(np.clip(space.grey_value(small.astype(float)), 0, 1))
    white = float(space.light(np.array(BLOWN)))
    most = gain.unblown(light, white, WORTH / 100)
    if most >= float(gain.amount[at]):
        return []
    return [f"At an amount of {np.floor(100 * most):.0f} % nothing more would be blown."]


def _corner_noise(luma: Plane) -> float:
    """Noise, in codes, of the plainer parts of the four corners."""
    height, width = (n // 8 // PART * PART for n in luma.shape)
    parts = [roughness(luma[y, x]).ravel() for y in _ends(height) for x in _ends(width)]
    return float(np.percentile(np.concatenate(parts), PLAIN))


def _ends(size: int) -> tuple[slice, slice]:
    return slice(0, size), slice(-size, None)


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
