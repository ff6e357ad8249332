"""The steadied camera path: as still, even and evenly accelerating as the picture allows.

After Grundmann, Kwatra, Essa, *Auto-directed video stabilization with robust L1 optimal camera
paths*, CVPR 2011: the sum of absolute first, second and third differences of the path is least,
subject to every corner of the crop staying inside the source. Where the paper takes the absolute
value of each component, here it is the length of a pair, shift (x, y) and (log scale, turn): the
same stretches of rest and even motion, whichever way they run across the picture, with half the
slack variables. Solved as a sparse convex problem by an interior-point method (Clarabel).

The unknown is the correction ``B_t`` of each frame, a backward map from the steadied plane to the
source plane. With ``F_t`` the camera's step from frame ``t - 1`` to ``t``, the steadied camera's
own step compares ``inverse(F_{t+1}) B_{t+1}`` with ``B_t``: local, so nothing drifts however long
the clip is; and linear, with turn and scale counted in the logarithm.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import clarabel
import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.similarity import Similarities
from ..motion.camera import CameraMotion

WINDOW = 900  # frames solved together; a longer stretch is solved in overlapping windows
OVERLAP = 180
SCALE_SHARE = 0.25  # of the room that evening out the scale may take
HALF_DIAGONAL = 734.0  # of the picture the weights below were chosen for; others count alike
REFERENCE_RATE = 30.0  # frames a second at which the weights below count differences
LARGEST = 30.0  # brings the problem's numbers near 1; chosen for speed, the answer is the same
THREADS = 2
_GOOD = {"Solved", "AlmostSolved"}


@dataclass(frozen=True)
class Weights:
    """How much stillness, evenness and even acceleration of the path are worth.

    ``tether`` is the price of being off centre (quadratic). It settles what the rest leaves open,
    such as where a camera that stands still looks, and keeps the solver from spending picture on
    calm that nobody would notice.
    """

    still: float
    even: float
    smooth: float
    tether: float


FOLLOW = Weights(still=1.0, even=10.0, smooth=100.0, tether=1e-3)
LOCK_OFF = Weights(still=30.0, even=3.0, smooth=10.0, tether=2e-4)


def steady_path(
    motion: CameraMotion, canvas: Canvas, weights: Weights, crop: float
) -> Similarities:
    """Corrections ``(n,)`` such that a centred crop of ``crop`` times the size stays covered.

    ``crop`` in 0..1 is the hard bound: every corner of the picture scaled by ``crop`` maps inside
    the source. With ``crop`` 1 there is no room and the result is the identity.
    Raises ArithmeticError if the solver fails.
    """
    n = len(motion)
    a, b = np.ones(n, complex), np.zeros(n, complex)
    if crop >= 1.0 - 1e-9:
        return Similarities(a, b)
    back = motion.trusted.inverse()
    rate = 1.0 / max(float(np.median(np.diff(motion.times))), 1e-4) if n > 1 else REFERENCE_RATE
    turns = motion.model != "shift"
    jobs = [
        (segment, window)
        for segment in motion.segments
        for window in _windows(*segment)
    ]

    def work(job: tuple[tuple[int, int], tuple[int, int]]) -> Similarities:
        start, stop = job[1]
        return _solve(back[start:stop], canvas, weights, crop, rate, turns)

    with ThreadPoolExecutor(THREADS) as pool:  # the solver runs outside the interpreter's lock
        solved = list(pool.map(work, jobs))
    for ((first, _), (start, stop)), part in zip(jobs, solved, strict=True):
        # The set of covered corrections is convex, so a cross-fade of two stays covered.
        share = np.ones(stop - start)
        if start > first:
            ramp = np.linspace(0, 1, OVERLAP + 2)[1:-1]
            share[:OVERLAP] = ramp * ramp * (3 - 2 * ramp)
        a[start:stop] += share * (part.a - a[start:stop])
        b[start:stop] += share * (part.b - b[start:stop])
    return Similarities(a, b)


def _windows(first: int, end: int) -> list[tuple[int, int]]:
    """Overlapping windows that cover ``[first, end)``."""
    if end - first <= WINDOW + OVERLAP:
        return [(first, end)]
    count = int(np.ceil((end - first - OVERLAP) / (WINDOW - OVERLAP)))
    starts = np.linspace(first, end - WINDOW, count).astype(int)
    stops = np.append(starts[1:] + OVERLAP, end)
    return [(int(s), int(e)) for s, e in zip(starts, stops, strict=True)]


def _solve(
    back: Similarities, canvas: Canvas, weights: Weights, crop: float, rate: float, turns: bool
) -> Similarities:
    n = len(back)
    if n < 2:
        return Similarities.identity(n)
    unit = canvas.radius / HALF_DIAGONAL
    back = Similarities(back.a, back.b / unit)
    lever = 0.7 * HALF_DIAGONAL  # turns and scales count as what they do at that distance
    step, offset = _residuals(back, lever, turns)
    dof = 4 if turns else 2
    terms, shifts = [], []
    tau = REFERENCE_RATE / rate
    for order, weight in enumerate((weights.still, weights.even, weights.smooth)):
        rows = n - 1 - order
        if rows < 1:
            break
        difference = sp.kron(_difference(n - 1, order), sp.eye_array(dof), format="csr")
        share = weight * tau ** (-order) / LARGEST
        terms.append(share * (difference @ step))
        shifts.append(share * (difference @ offset))
    residual = sp.vstack(terms, format="csr")
    shift = np.concatenate(shifts)
    inside, room = _coverage(n, canvas, unit, lever, crop, turns)
    unknowns = residual.shape[1]
    pairs = len(shift) // 2
    norms, bounds = _norm_cones(residual, shift)
    inside_rows = sp.hstack([inside, sp.csr_array((len(room), pairs))])
    constraints = sp.vstack([norms, inside_rows], format="csc")
    price = np.concatenate([np.zeros(unknowns), np.full(pairs, LARGEST)])
    curve = np.concatenate([np.full(unknowns, weights.tether * tau**2), np.zeros(pairs)])
    cones = [clarabel.SecondOrderConeT(3)] * pairs + [clarabel.NonnegativeConeT(len(room))]
    settings = clarabel.DefaultSettings()
    settings.verbose = False
    settings.tol_gap_rel = 1e-2
    settings.tol_gap_abs = 1e-1
    settings.tol_feas = 1e-5
    # The problem is scaled already, and steps need no more accuracy than the answer: half the time.
    settings.equilibrate_enable = False
    settings.iterative_refinement_reltol = 1e-5
    settings.iterative_refinement_abstol = 1e-5
    settings.max_threads = 1
    found = clarabel.DefaultSolver(
        sp.diags_array(curve, format="csc"),
        price,
        sp.csc_array(constraints),
        np.concatenate([bounds, room]),
        cones,
        settings,
    ).solve()
    # Near a cost of zero (a shot that can be held quite still) the solver may stop short of its
    # relative gap; what it has is then as good, as long as it keeps to the constraints.
    if str(found.status) not in _GOOD and not found.r_prim < 1e-4:
        raise ArithmeticError(f"the path solver stopped: {found.status}")
    x = np.asarray(found.x[:unknowns]).reshape(n, dof)
    shift_part = unit * (x[:, -2] + 1j * x[:, -1])
    turn_part = (x[:, 0] + 1j * x[:, 1]) / lever if turns else np.zeros(n)
    return Similarities(np.exp(turn_part), shift_part)


def _norm_cones(
    residual: sp.csr_array, shift: NDArray[np.float64]
) -> tuple[sp.csr_array, NDArray[np.float64]]:
    """Rows and bounds that hold each pair of ``residual x + shift`` under a slack of its own.

    The rows are those of Clarabel's form ``bounds - rows (x, slack)``, three to a cone:
    the slack, then the two entries whose length it bounds.
    """
    m = residual.shape[0]
    pairs = m // 2
    # Row 2k and 2k + 1 of the residual move to rows 3k + 1 and 3k + 2.
    source = np.arange(m)
    place = 3 * (source // 2) + 1 + source % 2
    spread = sp.csr_array((-np.ones(m), (place, source)), shape=(3 * pairs, m))
    slot = np.arange(pairs)
    slack = sp.csr_array((-np.ones(pairs), (3 * slot, slot)), shape=(3 * pairs, pairs))
    bounds = np.zeros(3 * pairs)
    bounds[place] = shift
    return sp.hstack([spread @ residual, slack], format="csr"), bounds


def _difference(n: int, order: int) -> sp.csr_array:
    """``(n - order, n)`` matrix of the ``order``-th difference."""
    d = sp.eye_array(n, format="csr")
    for _ in range(order):
        d = d[1:] - d[:-1]
    return d


def _residuals(
    back: Similarities, lever: float, turns: bool
) -> tuple[sp.csr_array, NDArray[np.float64]]:
    """``R = step x + offset``, shapes ``(dof (n-1), dof n)`` and ``(dof (n-1),)``.

    ``x`` holds per frame ``(lever log|a|, lever arg a, Re b, Im b)``, or the last two alone. In the
    logarithm a constant zoom costs nothing and gains nothing; in ``a`` itself, shrinking it would
    shrink every residual, and the solver would buy calm with a zoom that nobody asked for.
    """
    a, b = back.a[1:], back.b[1:]
    n = len(back)
    dof = 4 if turns else 2
    row0 = dof * np.arange(n - 1)
    ones = np.ones(n - 1)
    entries = [(row0 + i, row0 + i, -ones) for i in range(dof)]
    if turns:
        entries += [(row0 + i, row0 + i + dof, ones) for i in range(2)]
    x, y = row0 + dof - 2, row0 + dof - 1
    # Multiplication of the shift by the complex step is a 2 x 2 real block.
    entries += [
        (x, x + dof, a.real), (x, y + dof, -a.imag), (y, x + dof, a.imag), (y, y + dof, a.real),
    ]  # fmt: skip
    rows, columns, values = (np.concatenate(part) for part in zip(*entries, strict=True))
    step = sp.csr_array((values, (rows, columns)), shape=(dof * (n - 1), dof * n))
    offset = np.zeros((n - 1, dof))
    offset[:, -2], offset[:, -1] = b.real, b.imag
    if turns:
        offset[:, 0], offset[:, 1] = lever * np.log(np.abs(a)), lever * np.angle(a)
    return step, offset.ravel()


def _coverage(
    n: int, canvas: Canvas, unit: float, lever: float, crop: float, turns: bool
) -> tuple[sp.csr_array, NDArray[np.float64]]:
    """``inside x <= room``: each crop corner stays on its side of the source, all frames.

    ``a`` is taken as ``1 + log a``; what that leaves out is of second order (0.3 px for a roll of
    2 degrees) and is made good by :func:`.coverage.held_below`.
    """
    hu, hv = canvas.half[0] / unit, canvas.half[1] / unit
    rows, room = [], []
    # Scale may breathe a little either way; the crop is wider by as much, so that zoom and scale
    # together never take more than asked for.
    breath = SCALE_SHARE * (1.0 - crop) if turns else 0.0
    if turns:
        rows += [np.array([side, 0.0, 0.0, 0.0]) for side in (1.0, -1.0)]
        room += [breath * lever] * 2
    for c in crop / (1.0 - breath) / unit * canvas.corners:
        across, down = np.sign(c.real), np.sign(c.imag)
        # Corner: Re = c.real + (c.real A - c.imag B) / lever + X, Im likewise.
        rows.append(across * np.array([c.real / lever, -c.imag / lever, 1.0, 0.0]))
        room.append(hu - abs(c.real))
        rows.append(down * np.array([c.imag / lever, c.real / lever, 0.0, 1.0]))
        room.append(hv - abs(c.imag))
    block = np.array(rows) if turns else np.array(rows)[:, 2:]
    return sp.kron(sp.eye_array(n), block, format="csr"), np.tile(room, n)
