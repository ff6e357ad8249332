"""How much zoom a correction needs for no edge to be bare, and corrections held below a zoom."""

from __future__ import annotations

import numpy as np

from ..geometry.canvas import Canvas, along_sides
from ..geometry.chain import WarpChain
from ..geometry.stage import Smoothness
from ..types import Complex, Flags, Real

A_SIDE = 12  # points of the rim on each side, where straight sides do not stay straight
SMOOTH_ROUNDS = 4  # of finding a zoom where the chain strays a little from its matrix
MOST_ZOOM = 16.0  # that is looked for through a curved chain
HALVINGS = 16  # of what is not known of its logarithm: to 0.005 percent
EASE_ROUNDS, CURVED_EASE_ROUNDS = 40, 16  # halvings of how much of a correction fits


def outline(output: Canvas, scale: float, chain: WarpChain) -> Complex:
    """``(m,)`` the rim of an output canvas in the steadied plane at zoom 1: its corners, and points
    between them where the chain bends straight sides."""
    corners = output.corners / scale
    bends = chain.smoothness > Smoothness.PROJECTIVE
    return along_sides(corners, A_SIDE) if bends else corners


def zoom_needed(
    chain: WarpChain, rim: Complex, offset: Complex | complex = 0j, least: float = 1.0
) -> Real:
    """``(n,)`` the least zoom of at least ``least`` at which no frame has a bare edge.

    ``rim`` ``(m,)`` as from :func:`outline`; ``offset`` where the output's centre lies in the
    steadied plane, scene units, one or ``(n,)``. The view of ``chain`` is not looked at. Infinite
    where no zoom helps (the output's centre has left the source).

    >>> from keen_horizon.core.geometry.similarity import Similarities
    >>> from keen_horizon.core.geometry.view import View
    >>> canvas = Canvas(1281, 721)
    >>> moved = Similarities(np.ones(2, complex), np.array([0, 64 + 0j]))  # a twentieth
    >>> chain = WarpChain(canvas, View(canvas), (moved,), 2)
    >>> zoom_needed(chain, outline(canvas, 1.0, chain)).round(3).tolist()
    [1.0, 1.111]
    """
    need = np.full(len(chain), least)
    for part, piece in chain.batches():
        centre = np.broadcast_to(np.asarray(offset, complex), len(chain))[part]
        curved = piece.smoothness == Smoothness.CURVED
        need[part] = (_zoom_by_halving if curved else _zoom_by_rays)(piece, rim, centre, least)
    # Rounding must not turn "nothing to do" into a zoom.
    return np.where(need < least * (1 + 1e-9), least, need)


def _zoom_by_rays(chain: WarpChain, rim: Complex, centre: Complex, least: float) -> Real:
    """The zoom at which each rim point reaches the source's edge, in closed form.

    A point ``p / zoom + centre`` maps to ``(R / zoom + M)`` in homogeneous coordinates, so that
    "inside" is linear in ``1 / zoom``.
    """
    reach, middle = _homogeneous(chain.plane_matrices(), rim, centre)
    need = np.full(len(chain), least)
    strays = np.zeros((1, 1), complex)
    affine_or_projective = chain.smoothness <= Smoothness.PROJECTIVE
    for _ in range(1 if affine_or_projective else SMOOTH_ROUNDS):
        if not affine_or_projective:
            # What the chain strays by hardly changes along a ray: it is taken where the rim was.
            zoom = np.where(np.isfinite(need), need, 4.0)[:, None]
            u, v, w = (r / zoom + m for r, m in zip(reach, middle, strict=True))
            plane = rim[None, :] / zoom + centre[:, None]
            strays = chain.to_source(plane) - (u + 1j * v) / w
        need = np.full(len(chain), least)
        area = chain.area
        for normal, far in zip(area.normals, area.reaches, strict=True):
            room = far - (normal.real * strays.real + normal.imag * strays.imag)
            left = room * middle[2] - (normal.real * middle[0] + normal.imag * middle[1])
            over = normal.real * reach[0] + normal.imag * reach[1] - room * reach[2]
            with np.errstate(divide="ignore", invalid="ignore"):
                need = np.maximum(need, np.where(left > 0, over / left, np.inf).max(axis=1))
    return need


def _homogeneous(h: Real, rim: Complex, centre: Complex) -> tuple[list[Real], list[Real]]:
    """Three rows ``(n, m)`` of what matrices ``(n, 3, 3)`` make of rim points, shifts apart, and
    ``(n, 1)`` of the output's centre."""
    x, y = rim.real, rim.imag
    cx, cy = centre.real, centre.imag
    reach = [h[:, i, 0, None] * x + h[:, i, 1, None] * y for i in range(3)]
    middle = [(h[:, i, 0] * cx + h[:, i, 1] * cy + h[:, i, 2])[:, None] for i in range(3)]
    return reach, middle


def _zoom_by_halving(chain: WarpChain, rim: Complex, centre: Complex, least: float) -> Real:
    """Through a lens the source has curved sides; along a ray it is covered up to where it ends."""
    low, high = np.full(len(chain), np.log(least)), np.full(len(chain), np.log(MOST_ZOOM))
    fits = covers(chain, rim, np.exp(low), centre)
    high = np.where(fits, low, high)
    hopeless = ~covers(chain, rim, np.exp(high), centre)
    for _ in range(HALVINGS):
        if fits.all():
            break
        middle = (low + high) / 2
        does = covers(chain, rim, np.exp(middle), centre)
        low, high = np.where(does, low, middle), np.where(does, middle, high)
    return np.asarray(np.where(hopeless, np.inf, np.exp(high)))


def covers(
    chain: WarpChain, rim: Complex, zoom: float | Real, offset: Complex | complex = 0j
) -> Flags:
    """``(n,)`` whether the source covers the rim at ``zoom``, one or ``(n,)``."""
    slack = 1e-6 * chain.source.radius
    return np.asarray(room_left(chain, rim, zoom, offset) >= -slack)


def room_left(
    chain: WarpChain, rim: Complex, zoom: float | Real, offset: Complex | complex = 0j
) -> Real:
    """``(n,)`` scene units between the crop and the nearest edge of what the source has to show;
    negative where bare."""
    left = np.empty(len(chain))
    zooms = np.broadcast_to(np.asarray(zoom, float), len(chain))
    for part, piece in chain.batches():
        centre = np.broadcast_to(np.asarray(offset, complex), len(chain))[part]
        seen = piece.to_source(rim[None, :] / zooms[part, None] + centre[:, None])
        left[part] = chain.area.room(seen).min(axis=1)
    return left


def clip_to_zoom(chain: WarpChain, ceiling: float | Real, rim: Complex) -> WarpChain:
    """The corrections, each pulled towards none as far as ``ceiling`` demands.

    ``ceiling`` one zoom or ``(n,)``; ``rim`` as from :func:`outline`. The solver respects the
    ceiling up to its tolerance; this makes the bound hard.

    >>> from keen_horizon.core.geometry.similarity import Similarities
    >>> from keen_horizon.core.geometry.view import View
    >>> canvas = Canvas(1281, 721)
    >>> moved = Similarities(np.ones(2, complex), np.array([0, 64 + 0j]))
    >>> chain = WarpChain(canvas, View(canvas), (moved,), 2)
    >>> rim = outline(canvas, 1.0, chain)
    >>> bool(zoom_needed(clip_to_zoom(chain, 1.05, rim), rim).max() <= 1.05 + 1e-6)
    True
    """
    curved = chain.smoothness == Smoothness.CURVED

    def fits(tried: WarpChain) -> Flags:
        if curved:
            return covers(tried, rim, ceiling)
        return np.asarray(zoom_needed(tried, rim) <= ceiling)

    over = ~fits(chain)
    if not over.any():
        return chain
    low, high = np.zeros(len(chain)), np.ones(len(chain))
    low[~over] = 1.0
    affine = chain.smoothness == Smoothness.AFFINE
    for _ in range(EASE_ROUNDS if affine else CURVED_EASE_ROUNDS):
        # Bisection: coverage at a fixed zoom is convex, so it is monotone.
        middle = (low + high) / 2
        does = fits(chain.toward_identity(middle))
        low, high = np.where(does & over, middle, low), np.where(does | ~over, high, middle)
    return chain.toward_identity(low)
