"""The largest rectangle that every frame covers: what *Trim* leaves."""

from __future__ import annotations

import clarabel
import numpy as np
import scipy

from ..geometry.canvas import Canvas, along_sides
from ..geometry.chain import WarpChain
from ..geometry.displacement import grid_nodes
from ..geometry.live_area import LiveArea
from ..geometry.similarity import Similarities, nearest_similarity
from ..geometry.stage import Smoothness
from ..geometry.view import View
from ..types import Real
from .zoom import A_SIDE, zoom_needed

ROWS_A_ROUND = 64  # bounds that join the programme at a time
ROUNDS = 50


def trimmed_view(chain: WarpChain, shape: float | None) -> View:
    """The view of the largest rectangle that all frames cover, none larger than the picture.

    ``shape`` is its width over its height in square units, or None for whichever has the largest
    area.
    """
    canvas = chain.source
    steady, strays = _nearest(chain)
    width, height, centre = largest_rectangle(steady, chain.area, shape, strays)
    if chain.smoothness == Smoothness.CURVED and min(width, height) > 0:
        sides = Canvas(3, 3).corners  # -1 and 1 across and down
        rim = along_sides(width * sides.real + 1j * height * sides.imag, A_SIDE)
        over = float(zoom_needed(chain, rim, centre).max())
        width, height = width / over, height / over
    aspect = canvas.pixel_aspect
    columns = max(16, int(2 * width / aspect + 1 + 1e-6) // 2 * 2)
    rows = max(16, int(2 * height + 1 + 1e-6) // 2 * 2)
    output = Canvas(columns, rows, aspect)
    if columns >= canvas.width - 1 and rows >= canvas.height - 1:
        (cx, cy), (ox, oy) = canvas.centre, output.centre
        centre = complex((ox - cx) * aspect, oy - cy)
    return View(output, offset=centre)


def _nearest(chain: WarpChain) -> tuple[Similarities, float]:
    """The similarities nearest to what the chain does, lens and reshaping apart, and the most that
    it strays from them anywhere, scene units."""
    smooth = chain.only(lambda stage: stage.smoothness < Smoothness.CURVED)
    places = grid_nodes(chain.source).ravel()
    a, b = np.empty(len(chain), complex), np.empty(len(chain), complex)
    strays = 0.0
    for part, piece in smooth.batches():
        moved = piece.to_source(np.broadcast_to(places, (len(piece), len(places))))
        near = nearest_similarity(places, moved)
        a[part], b[part] = near.a, near.b
        strays = max(strays, float(np.abs(near.apply(places) - moved).max()))
    return Similarities(a, b), strays


def largest_rectangle(
    steady: Similarities, area: LiveArea, shape: float | None, margin: float = 0.0
) -> tuple[float, float, complex]:
    """The largest rectangle that every frame covers, none larger than the picture.

    ``shape`` is its width over its height in square units, or None for whichever has the largest
    area. ``margin`` scene units are kept clear of the source's edge. Returns its half width and
    half height (0 if there is none) and its centre in the steadied plane, scene units. A linear
    programme in three unknowns; of free shape, one with a cone (``size^2 <= width height``).

    >>> moved = Similarities(np.ones(2, complex), np.array([-20 + 0j, 20 + 0j]))
    >>> wide, high, centre = largest_rectangle(moved, LiveArea.whole(Canvas(1281, 721)), None)
    >>> round(wide), round(high), abs(centre) < 0.01
    (620, 360, True)
    """
    hu, hv = area.canvas.half
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
        parts = [*corner, steady.a, 1j * steady.a]  # what each unknown moves it by
        for normal, reach in zip(area.normals, area.reaches, strict=True):
            outwards = [normal.real * part.real + normal.imag * part.imag for part in parts]
            rows.append(np.stack(outwards, -1))
            shift = normal.real * steady.b.real + normal.imag * steady.b.imag
            rooms.append(reach - margin - shift)
    inside, room = np.concatenate(rows), np.concatenate(rooms)
    x = np.array([*most, 0.0, 0.0])
    active = np.arange(2 * k)
    for _ in range(ROUNDS):  # of the many rows only those that bind are needed
        excess = inside @ x - room
        worst = np.argsort(-excess)[:ROWS_A_ROUND]
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


def _largest(inside: Real, room: Real, unit: float, sizes: int) -> Real | None:
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
        scipy.sparse.csc_array((1 + count, 1 + count)),
        goal,
        scipy.sparse.csc_array(matrix),
        bounds,
        cones,
        settings,
    ).solve()
    if str(found.status) not in ("Solved", "AlmostSolved"):
        return None
    return unit * np.asarray(found.x)[1:]
