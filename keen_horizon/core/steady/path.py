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

from ..geometry.canvas import Canvas, Complex
from ..geometry.similarity import Similarities
from ..motion.camera import CameraMotion

WINDOW = 900  # frames solved together; a longer stretch is solved in overlapping windows
OVERLAP = 180
SCALE_SHARE = 0.25  # of the room that evening out the scale may take
HALF_DIAGONAL = 734.0  # of the picture the weights below were chosen for; others count alike
REFERENCE_RATE = 30.0  # frames a second at which the weights below count differences
LEVER = 0.7 * HALF_DIAGONAL  # turns and scales count as what they do at that distance
LARGEST = 30.0  # brings the problem's numbers near 1; chosen for speed, the answer is the same
USUAL_ROOM = 48.0  # likewise
KEPT_BELOW = 2000  # frames up to which problems are kept to be solved again
_CORNERS = ((-1, -1), (1, -1), (1, 1), (-1, 1))
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

    See :meth:`PathSolver.steady`.
    """
    return PathSolver(motion, canvas, weights).steady(crop)


class PathSolver:
    """Steadied paths of one motion, for one crop after another.

    What does not depend on the crop is worked out once, so that a slider costs the solve alone.
    Not to be used by two threads at a time.
    """

    def __init__(self, motion: CameraMotion, canvas: Canvas, weights: Weights) -> None:
        self._n = len(motion)
        self._canvas, self._weights = canvas, weights
        self._back = motion.trusted.inverse()
        self._rate = 1.0 / max(float(np.median(np.diff(motion.times))), 1e-4)
        self._turns = motion.model != "shift"
        self._jobs = [
            (segment, window) for segment in motion.segments for window in _windows(*segment)
        ]
        # A long clip's problems would take too much memory if they were all kept.
        self._kept: dict[tuple[int, int], _Problem] | None = {} if self._n <= KEPT_BELOW else None

    def steady(self, crop: float) -> Similarities:
        """Corrections ``(n,)`` such that a centred crop of ``crop`` times the size stays covered.

        ``crop`` in 0..1 is the hard bound: every corner of the picture scaled by ``crop`` maps
        inside the source. With ``crop`` 1 there is no room and the result is the identity.
        Raises ArithmeticError if the solver fails.
        """
        a, b = np.ones(self._n, complex), np.zeros(self._n, complex)
        if crop >= 1.0 - 1e-9:
            return Similarities(a, b)
        with ThreadPoolExecutor(THREADS) as pool:  # the solver runs outside the interpreter's lock
            solved = list(pool.map(lambda job: self._solve(job[1], crop), self._jobs))
        for ((first, _), (start, stop)), part in zip(self._jobs, solved, strict=True):
            # The set of covered corrections is convex, so a cross-fade of two stays covered.
            share = np.ones(stop - start)
            if start > first:
                ramp = np.linspace(0, 1, OVERLAP + 2)[1:-1]
                share[:OVERLAP] = ramp * ramp * (3 - 2 * ramp)
            a[start:stop] += share * (part.a - a[start:stop])
            b[start:stop] += share * (part.b - b[start:stop])
        return Similarities(a, b)

    def _solve(self, window: tuple[int, int], crop: float) -> Similarities:
        start, stop = window
        if stop - start < 2:
            return Similarities.identity(stop - start)
        problem = self._kept.get(window) if self._kept is not None else None
        if problem is None:
            problem = _Problem(
                self._back[start:stop], self._canvas, self._weights, self._rate, self._turns
            )
            if self._kept is not None:
                self._kept[window] = problem
        return problem.solve(crop)


def _windows(first: int, end: int) -> list[tuple[int, int]]:
    """Overlapping windows that cover ``[first, end)``."""
    if end - first <= WINDOW + OVERLAP:
        return [(first, end)]
    count = int(np.ceil((end - first - OVERLAP) / (WINDOW - OVERLAP)))
    starts = np.linspace(first, end - WINDOW, count).astype(int)
    stops = np.append(starts[1:] + OVERLAP, end)
    return [(int(s), int(e)) for s, e in zip(starts, stops, strict=True)]


class _Problem:
    """One window's convex problem, in the form Clarabel takes it.

    Unknowns: ``dof`` numbers a frame, then one slack for each length that is summed up. Rows: a
    cone for each of those lengths, then the coverage of each frame.
    """

    def __init__(
        self, back: Similarities, canvas: Canvas, weights: Weights, rate: float, turns: bool
    ) -> None:
        n = len(back)
        self._n, self._dof, self._turns = n, 4 if turns else 2, turns
        self._unit = canvas.radius / HALF_DIAGONAL
        self._half = canvas.half[0] / self._unit, canvas.half[1] / self._unit
        back = Similarities(back.a, back.b / self._unit)
        step, offset = _residuals(back, LEVER, turns)
        terms, shifts = [], []
        tau = REFERENCE_RATE / rate
        for order, weight in enumerate((weights.still, weights.even, weights.smooth)):
            if n - 1 - order < 1:
                break
            difference = sp.kron(_difference(n - 1, order), sp.eye_array(self._dof), format="csr")
            share = weight * tau ** (-order) / LARGEST
            terms.append(share * (difference @ step))
            shifts.append(share * (difference @ offset))
        self._shift = np.concatenate(shifts)
        self._tether = weights.tether * tau**2
        self._pairs = len(self._shift) // 2
        self._unknowns = self._dof * n
        norms, self._bounds = _norm_cones(sp.vstack(terms, format="csr"), self._shift)

        def constraints(size: float) -> sp.csc_array:
            inside = _coverage(n, self._half, size, turns)
            slack = sp.csr_array((inside.shape[0], self._pairs))
            return sp.csc_array(sp.vstack([norms, sp.hstack([inside, slack])], format="csc"))

        # Coverage is linear in the size of the crop, entry by entry.
        one, two = constraints(1.0), constraints(2.0)
        self._grows = two.data - one.data
        self._fixed = one.data - self._grows
        self._matrix = one
        self._solver: clarabel.DefaultSolver | None = None

    def solve(self, crop: float) -> Similarities:
        """Corrections ``(n,)``; see :meth:`PathSolver.steady`."""
        # Scale may breathe a little either way; the crop is wider by as much, so that zoom and
        # scale together never take more than asked for.
        breath = SCALE_SHARE * (1.0 - crop) if self._turns else 0.0
        size = crop / (1.0 - breath)
        room = np.tile(_room(self._half, size, breath, self._turns), self._n)
        # Lengths are counted in a unit in which the room is always the same. Without that, the
        # solver needs three times as many iterations where there is little room.
        unit = self._half[0] * (1.0 - crop) / USUAL_ROOM
        bounds = np.concatenate([self._bounds, room]) / unit
        curve = np.concatenate(
            [np.full(self._unknowns, self._tether * unit), np.zeros(self._pairs)]
        )
        price = np.concatenate([np.zeros(self._unknowns), np.full(self._pairs, LARGEST)])
        self._matrix.data = self._fixed + size * self._grows
        squares = sp.diags_array(curve, format="csc")
        if self._solver is None:
            cones = [clarabel.SecondOrderConeT(3)] * self._pairs
            cones.append(clarabel.NonnegativeConeT(len(room)))
            self._solver = clarabel.DefaultSolver(
                squares, price, self._matrix, bounds, cones, _settings()
            )
        else:
            self._solver.update(P=squares, A=self._matrix, b=bounds)
        found = self._solver.solve()
        # Near a cost of zero (a shot that can be held quite still) the solver may stop short of
        # its relative gap; what it has is then as good, as long as it keeps to the constraints.
        if str(found.status) not in _GOOD and not found.r_prim < 1e-4:
            raise ArithmeticError(f"the path solver stopped: {found.status}")
        x = unit * np.asarray(found.x[: self._unknowns]).reshape(self._n, self._dof)
        # Of each frame: its turn if it has one, and its shift.
        pairs: Complex = (x[:, 0::2] + 1j * x[:, 1::2]).astype(np.complex128)
        turn = pairs[:, 0] / LEVER if self._turns else np.zeros(self._n, complex)
        return Similarities(np.exp(turn), self._unit * pairs[:, -1])


def _settings() -> clarabel.DefaultSettings:
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
    # So that numbers can be changed and the problem solved again.
    settings.presolve_enable = False
    settings.chordal_decomposition_enable = False
    settings.input_sparse_dropzeros = False
    return settings


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


def _coverage(n: int, half: tuple[float, float], size: float, turns: bool) -> sp.csr_array:
    """Rows ``inside`` of ``inside x <= room``: each corner of a crop of ``size`` stays on its side
    of the source, in all frames; with ``turns``, scale is bounded too.

    ``a`` is taken as ``1 + log a``; what that leaves out is of second order (0.3 px for a roll of
    2 degrees) and is made good by :func:`.coverage.held_below`.
    """
    rows = [np.array([side, 0.0, 0.0, 0.0]) for side in (1.0, -1.0)] if turns else []
    for across, down in _CORNERS:
        x, y = size * across * half[0] / LEVER, size * down * half[1] / LEVER
        # Corner: Re = size half + (x A - y B) + X, Im likewise.
        rows.append(across * np.array([x, -y, 1.0, 0.0]))
        rows.append(down * np.array([y, x, 0.0, 1.0]))
    block = np.array(rows) if turns else np.array(rows)[:, 2:]
    return sp.csr_array(sp.kron(sp.eye_array(n), block, format="csr"))


def _room(
    half: tuple[float, float], size: float, breath: float, turns: bool
) -> NDArray[np.float64]:
    """Right-hand sides of one frame's rows of :func:`_coverage`."""
    scale = [breath * LEVER] * 2 if turns else []
    return np.array(scale + [(1.0 - size) * half[0], (1.0 - size) * half[1]] * len(_CORNERS))
