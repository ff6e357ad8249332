"""What a correction leaves covered: zoom that fills, rectangle that trims, room left."""

from __future__ import annotations

import clarabel
import cv2
import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.similarity import Similarities


def zoom_needed(steady: Similarities, canvas: Canvas) -> NDArray[np.float64]:
    """``(n,)`` the least zoom at which each frame has no bare edge, at least 1.

    The corner ``c / zoom`` maps to ``a c / zoom + b`` and must lie within the half extents.
    Infinite where no zoom helps (the picture's centre has left the source).
    """
    hu, hv = canvas.half
    turned = steady.a[:, None] * canvas.corners[None, :]
    b = steady.b[:, None]
    need = np.ones(len(steady))
    for reach, shift, half in ((turned.real, b.real, hu), (turned.imag, b.imag, hv)):
        for side in (1.0, -1.0):
            left = half - side * shift
            with np.errstate(divide="ignore", invalid="ignore"):
                z = np.where(left > 0, side * reach / left, np.inf)
            need = np.maximum(need, z.max(axis=1))
    # Rounding must not turn "nothing to do" into a zoom.
    return np.where(need < 1.0 + 1e-9, 1.0, need)


def held_below(steady: Similarities, canvas: Canvas, ceiling: float) -> Similarities:
    """The corrections, each pulled towards none as far as ``ceiling`` demands.

    The solver respects the ceiling up to its tolerance; this makes the bound hard.
    """
    need = zoom_needed(steady, canvas)
    over = need > ceiling
    if not over.any():
        return steady
    a, b = steady.a.copy(), steady.b.copy()
    low, high = np.zeros(over.sum()), np.ones(over.sum())
    for _ in range(40):  # bisection: coverage at a fixed zoom is convex, so it is monotone
        middle = (low + high) / 2
        trial = Similarities(1 + middle * (a[over] - 1), middle * b[over])
        fits = zoom_needed(trial, canvas) <= ceiling
        low, high = np.where(fits, middle, low), np.where(fits, high, middle)
    a[over], b[over] = 1 + low * (a[over] - 1), low * b[over]
    return Similarities(a, b)


def largest_rectangle(steady: Similarities, canvas: Canvas) -> tuple[float, complex]:
    """The largest rectangle of the picture's shape that every frame covers.

    Returns its size as a share of the picture's (0..1; 0 if there is none) and its centre in the
    steadied plane. A linear programme in three unknowns.
    """
    hu, hv = canvas.half
    rows, rooms = [np.array([[1.0, 0.0, 0.0], [-1.0, 0.0, 0.0]])], [np.array([1.0, 0.0])]
    for c in canvas.corners:
        turned = steady.a * c
        # Position of the corner: a (s c + o) + b with o the centre sought, in units of the height.
        for side in (1.0, -1.0):
            rows.append(np.stack([turned.real, hv * steady.a.real, -hv * steady.a.imag], -1) * side)
            rooms.append(hu - side * steady.b.real)
            rows.append(np.stack([turned.imag, hv * steady.a.imag, hv * steady.a.real], -1) * side)
            rooms.append(hv - side * steady.b.imag)
    inside, room = np.concatenate(rows), np.concatenate(rooms)
    x = np.array([1.0, 0.0, 0.0])
    active = np.array([0, 1])
    for _ in range(50):  # of the many rows only those that bind are needed
        excess = inside @ x - room
        worst = np.argsort(-excess)[:64]
        worst = worst[excess[worst] > 1e-6]
        if not len(worst):
            break
        active = np.union1d(active, worst)
        found = _largest(inside[active], room[active])
        if found is None:
            return 0.0, 0j
        x = found
    return min(1.0, max(0.0, float(x[0]))), hv * complex(x[1], x[2])


def _largest(
    inside: NDArray[np.float64], room: NDArray[np.float64]
) -> NDArray[np.float64] | None:
    """The ``x`` with the largest first entry of those with ``inside x <= room``, if any."""
    settings = clarabel.DefaultSettings()
    settings.verbose = False
    found = clarabel.DefaultSolver(
        sp.csc_array((3, 3)), np.array([-1.0, 0.0, 0.0]), sp.csc_array(inside), room,
        [clarabel.NonnegativeConeT(len(room))], settings,
    ).solve()  # fmt: skip
    return np.asarray(found.x) if str(found.status) in ("Solved", "AlmostSolved") else None


def room_left(steady: Similarities, canvas: Canvas, zoom: float) -> NDArray[np.float64]:
    """``(n,)`` scene units between the crop and the nearest source edge; negative where bare."""
    hu, hv = canvas.half
    corners = steady.apply(canvas.corners / zoom)
    across = hu - np.abs(corners.real).max(axis=1)
    down = hv - np.abs(corners.imag).max(axis=1)
    return np.asarray(np.minimum(across, down))


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
