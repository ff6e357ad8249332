"""What hides every bare edge at the least zoom, and the output that loses nothing seen."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from ..geometry.canvas import along_sides
from ..geometry.chain import WarpChain
from ..geometry.lens import RIM, Lens
from ..geometry.motion import Motion
from ..geometry.stage import RayStage
from ..types import Real
from .zoom import outline, zoom_needed

LARGEST = 8192  # px of an output's side
WIDEST = 0.2  # of zoom: what a cover may show more than the source's own size
HOPELESS = 16.0  # zoom that nothing is covered by
SUSPECTS = 16  # frames that are looked at while a position is sought
ROUNDS = 4


@dataclass(frozen=True)
class Cover:
    """``zoom`` and position, in percent of the picture's size as a treatment has it, that hide all
    bare edges; ``frame`` is the one that decides, counted from the chain's start."""

    zoom: float
    offset_x: float
    offset_y: float
    frame: int
    possible: bool = True


def least_cover(chain: WarpChain) -> Cover:
    """The least zoom, one for all frames, at the one position for which it is least.

    Zoom is a factor; the position says by how much the picture is moved right and down, percent
    of its size. The view's own zoom and offset are not looked at. A search without derivatives
    (Nelder, Mead, *A simplex method for function minimization*, Computer Journal 1965) over the
    frames that bind; any other that binds at the position found joins them.

    >>> from keen_horizon.core.geometry.canvas import Canvas
    >>> from keen_horizon.core.geometry.similarity import Similarities
    >>> from keen_horizon.core.geometry.view import View
    >>> canvas = Canvas(1281, 721)
    >>> moved = Similarities(np.ones(2, complex), np.array([0, 64 + 0j]))
    >>> found = least_cover(WarpChain(canvas, View(canvas), (moved,), 2))
    >>> round(found.zoom, 3), round(found.offset_x, 1)
    (1.053, 2.5)
    """
    canvas, view = chain.source, chain.view
    rim = outline(view.output, view.scale, chain)
    hu, hv = canvas.half

    def needed(part: WarpChain, at: Real) -> Real:
        offset = complex(at[0] * hu, at[1] * hv)
        return np.minimum(zoom_needed(part, rim, offset, WIDEST), 64.0)

    whole = needed(chain, np.zeros(2))
    binding = set(np.argsort(-whole)[:SUSPECTS].tolist())
    at = np.zeros(2)
    for _ in range(ROUNDS):
        part = chain[np.array(sorted(binding))]

        def cost(x: Real, part: WarpChain = part) -> float:
            return float(np.log(needed(part, x).max()))

        size = 0.04
        simplex = at + size * np.array([[0, 0], [1, 0.3], [-0.3, 1.0]])
        found = scipy.optimize.minimize(
            cost, at, method="Nelder-Mead",
            options={"initial_simplex": simplex, "xatol": 2e-5, "fatol": 1e-5, "maxiter": 90},
        )  # fmt: skip
        at = found.x if found.fun < cost(at) else at
        whole = needed(chain, at)
        worst = np.argsort(-whole)[: SUSPECTS // 2]
        if set(worst[:1].tolist()) <= binding:
            break
        binding |= set(worst.tolist())
    zoom = float(whole.max())
    return Cover(
        zoom,
        -100 * float(at[0]) * hu / (canvas.width * canvas.pixel_aspect),
        -100 * float(at[1]) * hv / canvas.height,
        int(whole.argmax()),
        zoom < HOPELESS,
    )


@dataclass(frozen=True)
class WidestView:
    """Output size in px; ``zoom`` at which all is in it, and position in percent; ``shrunk`` output
    pixels a source pixel gets in the middle; ``frame_bytes`` of an eight-bit picture with half the
    chroma."""

    width: int
    height: int
    zoom: float
    offset_x: float
    offset_y: float
    shrunk: float

    @property
    def frame_bytes(self) -> int:
        return self.width * self.height * 3 // 2


def widest_view(chain: WarpChain, ceiling: int = LARGEST) -> WidestView:
    """The output in which every source pixel of every frame is seen, in the middle no smaller
    than it was, as far as ``ceiling`` px a side allow. What is reshaped, and the few px that rows
    and a mesh move, are not looked at."""
    canvas = chain.source
    rim = along_sides(canvas.corners, RIM)
    low, high = np.full(2, np.inf), np.full(2, -np.inf)
    lens = chain.find(Lens)
    scale = 1.0 if lens is None else float(np.mean(lens.scale))
    rigid = chain.only(lambda stage: isinstance(stage, Motion | RayStage))
    for _, piece in rigid.batches():
        seen = piece.to_output(np.broadcast_to(rim, (len(piece), len(rim))))
        known = seen[np.isfinite(seen)]
        if len(known):
            low = np.minimum(low, [known.real.min(), known.imag.min()])
            high = np.maximum(high, [known.real.max(), known.imag.max()])
    if not np.isfinite(low).all():
        low, high = -np.array(canvas.half), np.array(canvas.half)
    size, middle = high - low, (high + low) / 2
    # A source pixel of the middle is `scale` units wide in the straight plane.
    wanted = size / scale
    shrunk = min(1.0, ceiling / float(wanted.max()))
    width, height = (max(16, int(np.ceil(v * shrunk / 2)) * 2) for v in wanted)
    width, height = min(width, ceiling // 2 * 2), min(height, ceiling // 2 * 2)
    fits = min(width / (canvas.width * canvas.pixel_aspect), height / canvas.height)
    zoom = min(width / size[0], height / size[1]) / fits
    return WidestView(
        width,
        height,
        float(zoom),
        -100 * float(middle[0]) / (canvas.width * canvas.pixel_aspect),
        -100 * float(middle[1]) / canvas.height,
        shrunk,
    )
