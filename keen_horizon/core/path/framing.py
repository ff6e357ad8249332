"""What of the steadied plane is shown: output canvas, edge rule, zoom over time, position."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d, minimum_filter1d, uniform_filter1d

from ..geometry.canvas import Canvas, Complex, along_sides
from ..geometry.chain import View, WarpChain
from ..motion.camera_motion import CameraMotion
from ..treatment import FrameSettings, Treatment
from .coverage import A_SIDE, largest_rectangle, outline, zoom_needed
from .edge_fill_plan import zoom_with_lenders

Real = NDArray[np.float64]
DRIFT_EASE = 0.5  # seconds over which a drifting zoom takes up and ends its drift


@dataclass(frozen=True)
class Framing:
    """The output's canvas and scale, before any zoom: see :func:`framing`."""

    output: Canvas
    scale: float
    offset: complex  # keeps pixels on pixels where a row or column is left out


@dataclass(frozen=True)
class Shown:
    """A view, the least zoom of each frame ``(n,)``, and what had to give way, in words."""

    view: View
    needed: Real
    notes: list[str]


def framing(frame: FrameSettings, edge: str, canvas: Canvas) -> Framing:
    """The canvas delivered for a source of size ``canvas``; sizes even, as H.264 wants them.

    A canvas of the source's size keeps its pixels. Any other has square pixels; the source covers
    it at zoom 1, or lies whole within it where bare edges stay.
    """
    width, height = frame.width, frame.height
    if edge == "trim" or (width is None and height is None):
        output = Canvas(canvas.width // 2 * 2, canvas.height // 2 * 2, canvas.pixel_aspect)
        (cx, cy), (ox, oy) = canvas.centre, output.centre
        return Framing(output, 1.0, complex((ox - cx) * canvas.pixel_aspect, oy - cy))
    shape = canvas.width * canvas.pixel_aspect / canvas.height
    width = width if width is not None else round((height or 0) * shape)
    height = height if height is not None else round(width / shape)
    output = Canvas(max(16, width // 2 * 2), max(16, height // 2 * 2))
    fits = output.width / (canvas.width * canvas.pixel_aspect), output.height / canvas.height
    return Framing(output, min(fits) if edge == "leave" else max(fits), 0j)


def show(chain: WarpChain, treatment: Treatment, motion: CameraMotion) -> Shown:
    """The view of a corrected clip. The chain's own view is not looked at."""
    first, times, segments = motion.first, motion.times, motion.segments
    frame, edge, canvas = treatment.frame, treatment.edge, chain.source
    frames = first + np.arange(len(chain))
    base = framing(frame, edge, canvas)
    rim = outline(base.output, base.scale, bent=not chain.is_affine)
    if edge == "trim":
        needed = zoom_needed(chain, rim)
        return Shown(_trimmed(chain, frame.trim_shape), needed, [])
    shape = chain.view.shape
    extra = treatment.values("frame.extra_zoom", frames)
    offset = _offsets(treatment, frames, canvas)
    notes: list[str] = []
    if edge == "leave":
        needed = zoom_needed(chain, rim)
        zoom = extra
    else:
        extra = np.maximum(extra, 1.0)
        needed = zoom_needed(chain, rim, offset)
        ceiling = treatment.values("frame.zoom_ceiling", frames)
        if offset.any() and (needed > ceiling).any():
            share = _affordable(chain, rim, offset, ceiling)
            offset = share * offset
            needed = zoom_needed(chain, rim, offset)
            notes.append(
                f"Only {100 * share:.0f} % of the position offset fits under the zoom ceiling."
            )
        if edge == "borrow":
            needed = zoom_with_lenders(chain, motion, frame, rim, offset)
        speed = treatment.values("frame.zoom_speed", frames) / 100
        if (speed > 0).any():
            zoom = np.ones(len(chain))
            for start, stop in segments:
                part = slice(start, stop)
                zoom[part] = drifting(needed[part], times[part], speed[part])
        else:
            zoom = np.full(len(chain), needed.max())
        zoom = zoom * extra
    offset = offset + base.offset / zoom
    view = View(base.output, _one(zoom), base.scale, _one(offset), shape)
    return Shown(view, needed, notes)


def drifting(needed: Real, times: Real, speed: float | Real) -> Real:
    """The least zoom ``(n,)`` of a stretch that changes by at most ``speed`` a second.

    ``speed`` is a share, one or ``(n,)``: 0.05 for five percent a second. In the logarithm: the
    least function with that slope over ``needed``, taken over a window and then averaged over it,
    which rounds its corners, keeps its slope and stays above.
    """
    n = len(needed)
    if n < 2:
        return needed
    gap = np.diff(times)
    window = 2 * max(1, round(DRIFT_EASE / 2 / max(float(np.median(gap)), 1e-4))) + 1
    log = maximum_filter1d(np.log(needed), window, mode="nearest")
    # The slowest of those over which the average below is taken.
    least = minimum_filter1d(np.broadcast_to(speed, n).astype(float), window, mode="nearest")
    slope = np.log1p(np.minimum(least[1:], least[:-1])) * gap
    # The average over a window is only as slow as the limit if frames are evenly apart.
    if gap.max() > 1.5 * gap.min():
        slope *= float(np.median(gap)) / max(float(gap.max()), 1e-9)
    rise = np.concatenate([[0.0], np.cumsum(slope)])
    ahead = np.maximum.accumulate(log + rise) - rise
    behind = (np.maximum.accumulate((log - rise)[::-1]))[::-1] + rise
    return np.asarray(np.exp(uniform_filter1d(np.maximum(ahead, behind), window, mode="nearest")))


def _trimmed(chain: WarpChain, wanted: str) -> View:
    canvas = chain.source
    hu, hv = canvas.half
    if wanted == "free":
        shape = None
    elif wanted == "source":
        shape = hu / hv
    else:
        across, down = (float(v) for v in wanted.split(":"))
        shape = across / down
    width, height, centre = largest_rectangle(chain.steady, canvas, shape, _bent_by(chain))
    if chain.is_curved and min(width, height) > 0:
        sides = Canvas(3, 3).corners  # -1 and 1 across and down
        corners = width * sides.real + 1j * height * sides.imag
        rim = along_sides(corners, A_SIDE)
        over = float(zoom_needed(chain, rim, centre).max())
        width, height = width / over, height / over
    aspect = canvas.pixel_aspect
    columns = max(16, int(2 * width / aspect + 1 + 1e-6) // 2 * 2)
    rows = max(16, int(2 * height + 1 + 1e-6) // 2 * 2)
    output = Canvas(columns, rows, aspect)
    if columns >= canvas.width - 1 and rows >= canvas.height - 1:
        (cx, cy), (ox, oy) = canvas.centre, output.centre
        centre = complex((ox - cx) * aspect, oy - cy)
    return View(output, offset=centre, shape=chain.view.shape)


def _bent_by(chain: WarpChain) -> float:
    """The most that bends and rows move a point anywhere, scene units."""
    most = 0.0
    if chain.bend is not None:
        most += float(np.abs(chain.bend.nodes).max())
    if chain.rows is not None:
        reach = chain.rows.a - 1
        most += float((np.abs(chain.rows.b) + np.abs(reach) * chain.source.radius).max())
    return most


def _offsets(treatment: Treatment, frames: NDArray[np.intp], canvas: Canvas) -> Complex:
    """``(n,)`` where the output's centre lies for the picture to be where it is wanted."""
    across = treatment.values("frame.offset_x", frames) / 100 * canvas.width * canvas.pixel_aspect
    down = treatment.values("frame.offset_y", frames) / 100 * canvas.height
    return np.asarray(-(across + 1j * down))


def _affordable(chain: WarpChain, rim: Complex, offset: Complex, ceiling: Real) -> float:
    """How much of ``offset`` can be had under the ceiling, 0..1."""
    low, high = 0.0, 1.0
    for _ in range(12):
        middle = (low + high) / 2
        if (zoom_needed(chain, rim, middle * offset) <= ceiling).all():
            low = middle
        else:
            high = middle
    return low


def _one(values: NDArray[np.generic]):  # type: ignore[no-untyped-def]
    """One number where all are the same."""
    same = bool((values == values[0]).all())
    return values[0].item() if same else values
