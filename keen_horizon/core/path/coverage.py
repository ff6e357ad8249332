"""What a correction leaves covered: zoom that fills, rectangle that trims, room left."""

from __future__ import annotations

from dataclasses import replace

import clarabel
import cv2
import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray

from ..geometry.bend import DisplacementGrid
from ..geometry.canvas import Canvas, Complex, along_sides
from ..geometry.chain import WarpChain, covered
from ..geometry.similarity import Similarities

A_SIDE = 12  # points of the rim on each side, where the chain bends
BENT_ROUNDS = 4
MOST_ZOOM = 16.0  # that is looked for through a lens
CELLS = (64, 36)  # of the output, at whose middles bare edges are looked for
HALVINGS = 16  # of what is not known of its logarithm: to 0.005 percent


def outline(output: Canvas, scale: float, *, bent: bool) -> Complex:
    """``(m,)`` the rim of an output canvas in the steadied plane at zoom 1: its corners, and points
    between them where the chain bends."""
    corners = output.corners / scale
    return along_sides(corners, A_SIDE) if bent else corners


def zoom_needed(
    chain: WarpChain, rim: Complex, offset: Complex | complex = 0j, least: float = 1.0
) -> NDArray[np.float64]:
    """``(n,)`` the least zoom of at least ``least`` at which no frame has a bare edge.

    ``rim`` as from :func:`outline`; ``offset`` where the output's centre lies, one or ``(n,)``. The
    view of ``chain`` is not looked at. Infinite where no zoom helps (the output's centre has left
    the source).
    """
    need = np.full(len(chain), least)
    for part, piece in chain.batches():
        centre = np.broadcast_to(np.asarray(offset, complex), len(chain))[part]
        found = _zoom_by_halving if piece.is_curved else _zoom_by_rays
        need[part] = found(piece, rim, centre, least)
    # Rounding must not turn "nothing to do" into a zoom.
    return np.where(need < least * (1 + 1e-9), least, need)


def _zoom_by_rays(
    chain: WarpChain, rim: Complex, centre: Complex, least: float
) -> NDArray[np.float64]:
    """The corner ``c / zoom`` maps to ``a c / zoom + b`` and must lie within the half extents."""
    hu, hv = chain.source.half
    steady = chain.steady
    turned = steady.a[:, None] * rim[None, :]
    middle = (steady.a * centre + steady.b)[:, None]
    need = np.full(len(chain), least)
    bent = np.zeros_like(turned)
    for _ in range(1 if chain.is_affine else BENT_ROUNDS):
        if not chain.is_affine:
            # What the bend adds hardly changes along a ray: it is worked out where the rim was.
            zoom = np.where(np.isfinite(need), need, 4.0)[:, None]
            plane = rim[None, :] / zoom + centre[:, None]
            straight = steady.a[:, None] * plane + steady.b[:, None]
            bent = chain.from_plane(plane) - straight
        need = np.full(len(chain), least)
        for reach, shift, half in (
            (turned.real, (middle + bent).real, hu), (turned.imag, (middle + bent).imag, hv),
        ):  # fmt: skip
            for side in (1.0, -1.0):
                left = half - side * shift
                with np.errstate(divide="ignore", invalid="ignore"):
                    z = np.where(left > 0, side * reach / left, np.inf)
                need = np.maximum(need, z.max(axis=1))
    return need


def _zoom_by_halving(
    chain: WarpChain, rim: Complex, centre: Complex, least: float
) -> NDArray[np.float64]:
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
    chain: WarpChain, rim: Complex, zoom: float | NDArray[np.float64],
    offset: Complex | complex = 0j,
) -> NDArray[np.bool_]:  # fmt: skip
    """``(n,)`` whether the source covers the rim at ``zoom``, one or ``(n,)``."""
    slack = 1e-6 * chain.source.radius
    return np.asarray(room_left(chain, rim, zoom, offset) >= -slack)


def eased(chain: WarpChain, share: NDArray[np.float64]) -> WarpChain:
    """The chain with each frame's correction pulled towards none, to ``share`` ``(n,)`` of it."""
    steady = Similarities(1 + share * (chain.steady.a - 1), share * chain.steady.b)
    bend, rows = chain.bend, chain.rows
    if bend is not None:
        bend = DisplacementGrid(
            bend.canvas, (share[:, None, None] * bend.nodes).astype(np.complex64)
        )
    if rows is not None:
        rows = rows.eased(share)
    return replace(chain, steady=steady, bend=bend, rows=rows)


def clip_to_zoom(chain: WarpChain, ceiling: float | NDArray[np.float64], rim: Complex) -> WarpChain:
    """The corrections, each pulled towards none as far as ``ceiling`` demands.

    The solver respects the ceiling up to its tolerance; this makes the bound hard.
    """
    if chain.is_curved:

        def fits(tried: WarpChain) -> NDArray[np.bool_]:
            return covers(tried, rim, ceiling)
    else:

        def fits(tried: WarpChain) -> NDArray[np.bool_]:
            return np.asarray(zoom_needed(tried, rim) <= ceiling)

    over = ~fits(chain)
    if not over.any():
        return chain
    low, high = np.zeros(len(chain)), np.ones(len(chain))
    low[~over] = 1.0
    for _ in range(40 if chain.is_affine else 16):
        # Bisection: coverage at a fixed zoom is convex, so it is monotone.
        middle = (low + high) / 2
        does = fits(eased(chain, middle))
        low, high = np.where(does & over, middle, low), np.where(does | ~over, high, middle)
    return eased(chain, low)


def largest_rectangle(
    steady: Similarities, canvas: Canvas, shape: float | None, margin: float = 0.0
) -> tuple[float, float, complex]:
    """The largest rectangle that every frame covers, none larger than the picture.

    ``shape`` is its width over its height in square units, or None for whichever has the largest
    area. ``margin`` scene units are kept clear of the source's edge. Returns its half width and
    half height (0 if there is none) and its centre in the steadied plane, scene units. A linear
    programme in three unknowns; of free shape, one with a cone (``size^2 <= width height``).
    """
    hu, hv = canvas.half
    if shape is None:
        # What a unit of each unknown adds to a corner.
        columns: tuple[complex, ...] = (1.0 + 0j, 1j)
        most = [hu, hv]
    else:
        columns = (shape + 1j,)
        most = [min(hv, hu / shape)]
    k = len(columns)
    rows = [np.hstack([np.eye(k), np.zeros((k, 2))]), np.hstack([-np.eye(k), np.zeros((k, 2))])]
    rooms = [np.array(most), np.zeros(k)]
    for across, down in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        corner = [steady.a * (across * c.real + 1j * down * c.imag) for c in columns]
        for part, centre, shift, half in (
            ([c.real for c in corner], (steady.a.real, -steady.a.imag), steady.b.real, hu),
            ([c.imag for c in corner], (steady.a.imag, steady.a.real), steady.b.imag, hv),
        ):
            for side in (1.0, -1.0):
                rows.append(np.stack([*part, *centre], -1) * side)
                rooms.append(half - margin - side * shift)
    inside, room = np.concatenate(rows), np.concatenate(rooms)
    x = np.array([*most, 0.0, 0.0])
    active = np.arange(2 * k)
    for _ in range(50):  # of the many rows only those that bind are needed
        excess = inside @ x - room
        worst = np.argsort(-excess)[:64]
        worst = worst[excess[worst] > 1e-6 * hv]
        if not len(worst):
            break
        active = np.union1d(active, worst)
        found = _largest(inside[active], room[active], hv, k)
        if found is None:
            return 0.0, 0.0, 0j
        x = found
    size = np.maximum(x[:k], 0.0)
    width, height = (size[0], size[1]) if shape is None else (shape * size[0], size[0])
    return float(width), float(height), complex(x[k], x[k + 1])


def _largest(
    inside: NDArray[np.float64], room: NDArray[np.float64], unit: float, sizes: int
) -> NDArray[np.float64] | None:
    """The ``x`` with ``inside x <= room`` whose first entry, or product of two, is largest."""
    count = inside.shape[1]
    settings = clarabel.DefaultSettings()
    settings.verbose = False
    # Unknowns: the size sought, then x; all in units in which they are about 1.
    matrix = np.hstack([np.zeros((len(inside), 1)), inside])
    bounds = room / unit
    cones = [clarabel.NonnegativeConeT(len(bounds))]
    if sizes == 2:
        cone = np.zeros((3, 1 + count))  # (w + h) / 2 >= |(size, (w - h) / 2)|
        cone[0, 1:3], cone[1, 0], cone[2, 1:3] = -0.5, -1.0, (-0.5, 0.5)
        matrix, bounds = np.vstack([matrix, cone]), np.concatenate([bounds, np.zeros(3)])
        cones.append(clarabel.SecondOrderConeT(3))
    else:
        tie = np.zeros((1, 1 + count))
        tie[0, :2] = 1.0, -1.0
        matrix, bounds = np.vstack([tie, matrix]), np.concatenate([[0.0], bounds])
        cones.insert(0, clarabel.ZeroConeT(1))
    goal = np.zeros(1 + count)
    goal[0] = -1.0
    found = clarabel.DefaultSolver(
        sp.csc_array((1 + count, 1 + count)), goal, sp.csc_array(matrix), bounds, cones, settings
    ).solve()
    if str(found.status) not in ("Solved", "AlmostSolved"):
        return None
    return unit * np.asarray(found.x)[1:]


def room_left(
    chain: WarpChain, rim: Complex, zoom: float | NDArray[np.float64],
    offset: Complex | complex = 0j,
) -> NDArray[np.float64]:  # fmt: skip
    """``(n,)`` scene units between the crop and the nearest source edge; negative where bare."""
    hu, hv = chain.source.half
    left = np.empty(len(chain))
    zooms = np.broadcast_to(np.asarray(zoom, float), len(chain))
    for part, piece in chain.batches():
        centre = np.broadcast_to(np.asarray(offset, complex), len(chain))[part]
        seen = piece.from_plane(rim[None, :] / zooms[part, None] + centre[:, None])
        left[part] = np.minimum(
            hu - np.abs(seen.real).max(axis=1), hv - np.abs(seen.imag).max(axis=1)
        )
    return left


def shares_shown(chain: WarpChain) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Two shares a frame, both ``(n,)``: of the source's area, how much the output shows; of the
    output's area, how much no source pixel covers."""
    output = chain.view.output
    if not chain.is_curved:
        quads = chain.source.to_scene(chain.sampled(output.to_pixels(output.corners)))
        return seen_shares(quads, chain.source)
    hu, hv = chain.source.half
    rim = output.to_pixels(along_sides(output.corners, A_SIDE))
    seen = chain.source.to_scene(chain.sampled(rim))
    reaches = (np.abs(seen.real) > hu + 1e-3) | (np.abs(seen.imag) > hv + 1e-3)
    # What a curve pulled in to the source's edge encloses is what it has in common with it.
    pulled_in = np.clip(seen.real, -hu, hu) + 1j * np.clip(seen.imag, -hv, hv)
    following = np.roll(pulled_in, -1, axis=1)
    kept = 0.5 * np.abs((pulled_in.conj() * following).imag.sum(axis=1)) / (4 * hu * hv)
    bare = np.zeros(len(chain))
    frames = np.nonzero(reaches.any(axis=1))[0]
    if len(frames):
        x = (np.arange(CELLS[0]) + 0.5) / CELLS[0] * output.width - 0.5
        y = (np.arange(CELLS[1]) + 0.5) / CELLS[1] * output.height - 0.5
        points = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
        start, stop = int(frames[0]), int(frames[-1]) + 1
        for part, piece in chain[start:stop].batches():
            there = piece.sampled(points)
            bare[start + part.start : start + part.stop] = 1 - covered(there, chain.source).mean(1)
    return kept, bare


def seen_shares(
    quads: NDArray[np.complex128], canvas: Canvas
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Two shares a frame for output outlines ``(n, 4)`` in the source plane.

    First, of the source's area, how much the output shows; second, of the output's area, how much
    no source pixel covers. Both ``(n,)``.
    """
    hu, hv = canvas.half
    following = np.roll(quads, -1, axis=1)
    area = 0.5 * np.abs((np.conj(quads) * following).imag.sum(axis=1))
    inside = area.copy()
    reach = np.maximum(np.abs(quads.real).max(axis=1) - hu, np.abs(quads.imag).max(axis=1) - hv)
    frame = np.array([[-hu, -hv], [hu, -hv], [hu, hv], [-hu, hv]], np.float32)
    for t in np.nonzero(reach > 1e-6)[0]:
        quad = np.stack([quads[t].real, quads[t].imag], axis=-1).astype(np.float32)
        inside[t] = min(area[t], cv2.intersectConvexConvex(quad, frame)[0])
    return inside / (4 * hu * hv), 1.0 - inside / np.maximum(area, 1e-9)
