"""What the output shows of a corrected clip: edge rule, zoom over time, position."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...geometry.canvas import Canvas
from ...geometry.chain import WarpChain
from ...geometry.view import View
from ...path.edge_fill_plan import Lenders, zoom_with_lenders
from ...path.framing import Framing, affordable, drifting, other_size, own_size
from ...path.rectangle import trimmed_view
from ...path.zoom import outline, zoom_needed
from ...types import Complex, Real
from ..station import Scene
from .settings import FrameSettings


@dataclass(frozen=True)
class Shown:
    """A view, the least zoom of each frame ``(n,)``, and what had to give way, in words."""

    view: View
    needed: Real
    notes: list[str]


def framing(settings: FrameSettings, canvas: Canvas) -> Framing:
    """The canvas delivered for a source of size ``canvas``, before any zoom.

    A canvas of the source's size keeps its pixels. Any other has square pixels; the source covers
    it at zoom 1, or lies whole within it where bare edges stay.
    """
    width, height = settings.width, settings.height
    if settings.rule == "trim" or (width is None and height is None):
        return own_size(canvas)
    return other_size(canvas, width, height, whole=settings.rule == "leave")


def ceiling(scene: Scene) -> Real:
    """``(n,)`` the most zoom that may be spent."""
    return scene.values("frame.zoom_ceiling")


def show(settings: FrameSettings, scene: Scene, chain: WarpChain) -> Shown:
    """The view of a corrected clip. The chain's own view is not looked at."""
    base = framing(settings, scene.canvas)
    rim = outline(base.output, base.scale, chain)
    if settings.rule == "trim":
        return Shown(_trimmed(chain, settings.trim_shape), zoom_needed(chain, rim), [])
    offset = _offsets(scene)
    if settings.rule == "leave":
        zoom, notes = scene.values("frame.extra_zoom"), list[str]()
        needed = zoom_needed(chain, rim)
    else:
        offset, notes = _allowed(chain, rim, offset, ceiling(scene))
        if settings.rule == "borrow":
            lenders = Lenders(scene.motion, settings.borrow_reach)
            width = settings.borrow_width / 100
            needed = zoom_with_lenders(chain, lenders, width, rim, offset)
        else:
            needed = zoom_needed(chain, rim, offset)
        zoom = _zoom_over_time(scene, needed)
        zoom = zoom * np.maximum(scene.values("frame.extra_zoom"), 1.0)
    offset = offset + base.offset / zoom
    return Shown(View(base.output, _one(zoom), base.scale, _one(offset)), needed, notes)


def _allowed(
    chain: WarpChain, rim: Complex, offset: Complex, highest: Real
) -> tuple[Complex, list[str]]:
    """As much of a position offset as fits under the ceiling."""
    if not offset.any() or (zoom_needed(chain, rim, offset) <= highest).all():
        return offset, []
    share = affordable(chain, rim, offset, highest)
    note = f"Only {100 * share:.0f} % of the position offset fits under the zoom ceiling."
    return share * offset, [note]


def _zoom_over_time(scene: Scene, needed: Real) -> Real:
    """``(n,)`` one zoom for the whole clip, or one that drifts."""
    speed = scene.values("frame.zoom_speed") / 100
    if not (speed > 0).any():
        return np.full(len(scene), needed.max())
    zoom = np.ones(len(scene))
    for start, stop in scene.motion.segments:
        part = slice(start, stop)
        zoom[part] = drifting(needed[part], scene.motion.timeline.times[part], speed[part])
    return zoom


def _trimmed(chain: WarpChain, wanted: str) -> View:
    if wanted == "free":
        return trimmed_view(chain, None)
    if wanted == "source":
        hu, hv = chain.source.half
        return trimmed_view(chain, hu / hv)
    across, down = (float(v) for v in wanted.split(":"))
    return trimmed_view(chain, across / down)


def _offsets(scene: Scene) -> Complex:
    """``(n,)`` where the output's centre lies for the picture to be where it is wanted."""
    canvas = scene.canvas
    across = scene.values("frame.offset_x") / 100 * canvas.width * canvas.pixel_aspect
    down = scene.values("frame.offset_y") / 100 * canvas.height
    return np.asarray(-(across + 1j * down))


def _one(values: NDArray[np.generic]):  # type: ignore[no-untyped-def]
    """One number where all are the same."""
    same = bool((values == values[0]).all())
    return values[0].item() if same else values
