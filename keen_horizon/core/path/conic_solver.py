"""Least sum of lengths under linear bounds: an interior-point method made for paths.

Minimises ``tether / 2 |q|^2 + sum |D q + offset|`` subject to ``rows q[t] <= room`` for every frame
``t``, where ``D`` reaches over a few neighbouring frames only. Primal-dual, with the scaling of
Nesterov and Todd (*Self-scaled barriers and interior-point methods for convex programming*,
Mathematics of Operations Research 1997) and the predictor and corrector of Mehrotra (*On the
implementation of a primal-dual interior point method*, SIAM J. Optimization 1992), as laid out for
cones by Vandenberghe (*The CVXOPT linear and quadratic cone program solvers*, 2010).

Each length is bounded by a slack of its own, ``|r| <= s``: a second-order cone of dimension three.
Slacks and multipliers are eliminated by hand, so that what is left to factorise is one banded
matrix; all else is arithmetic on whole arrays. About a dozen steps, each linear in the number of
frames. A point of a cone is a pair ``(a0, a1)``: its real axis, and the plane as a complex number.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import LinAlgError, cho_solve_banded, cholesky_banded

from ..geometry.canvas import Complex
from .differences import Differences

Real = NDArray[np.float64]
Cone = tuple[Real | float, Complex]

MOST_STEPS = 60
RELATIVE_GAP = 1e-2  # of the objective; it is then itself sure to about a thousandth
GAP_A_LENGTH = 0.02  # so that a violent stretch does not excuse jitter in a calm one
DUAL_RESIDUAL = 3e-2
NEAR_BOUNDARY = 0.98  # of the way to it that a step may go


def least_lengths(
    differences: Differences, tether: float | Real, rows: Real, room: Real
) -> Complex:
    """The minimiser ``q`` ``(n, k)``.

    ``rows`` ``(j, 2 k)`` act on a frame's real and imaginary parts in turn; ``room`` ``(j,)`` or
    ``(n, j)`` positive: ``q = 0`` must satisfy all bounds. ``tether`` positive, one or ``(n,)``.
    Raises ArithmeticError if the method gets stuck.
    """
    n, k = len(differences.turn) + 1, differences.turn.shape[1]
    products = (rows[:, :, None] * rows[:, None, :]).reshape(len(rows), -1)
    tether = np.broadcast_to(np.asarray(tether, float), n)[:, None]
    q = np.zeros((n, k), complex)
    r = differences(q)
    lengths = np.abs(r)
    # A slack and a bound; their multipliers, of which the slack's is 1 throughout.
    slack = lengths + lengths.mean() + 1e-9
    free = np.array(np.broadcast_to(room, (n, len(rows))))
    u = np.zeros_like(r)
    pressure = 0.1 * slack.mean() / free
    one = np.ones_like(slack)
    for _ in range(MOST_STEPS):
        dual = tether * q - differences.adjoint(u) + _pairs(pressure @ rows, k)
        gap = float((slack + _dot(r, u)).sum() + (pressure * free).sum())
        objective = float(0.5 * (tether * np.abs(q) ** 2).sum() + np.abs(r).sum())
        if (
            gap < RELATIVE_GAP * max(objective, 10.0)
            and gap < GAP_A_LENGTH * r.size
            and np.abs(dual).max() < DUAL_RESIDUAL
        ):
            return q
        slack_norm, u_norm = _norm((slack, r)), _norm((one, u))
        scaling = _Scaling.between((slack, r), slack_norm, (one, u), u_norm)
        here = _Here(slack, r, slack_norm, u, u_norm, free, pressure)
        try:
            newton = _Newton(differences, tether, rows, products, scaling, pressure / free, dual)
        except LinAlgError as error:
            raise ArithmeticError("the path solver lost its footing") from error
        # Predictor: as if the gap could be closed at once.
        trial = newton.step((-one, -u), -pressure)
        reach = min(1.0, here.reach(trial))
        aim = (1.0 - reach) ** 3 * gap / (slack.size + free.size)
        # Corrector: what the predictor's curvature would spoil.
        lengths_aim = scaling.towards(aim, (one, u), (trial.slack, trial.r), trial.u)
        pressure_aim = (aim - trial.free * trial.pressure) / free - pressure
        step = newton.step(lengths_aim, pressure_aim)
        reach = min(1.0, NEAR_BOUNDARY * here.reach(step))
        q = q + reach * step.q
        r, slack, free = r + reach * step.r, slack + reach * step.slack, free + reach * step.free
        u, pressure = u + reach * step.u, pressure + reach * step.pressure
    raise ArithmeticError("the path solver found no end")


class _Step(NamedTuple):
    """A direction in all unknowns; the slack's multiplier stays as it is."""

    q: Complex
    r: Complex
    slack: Real
    u: Complex
    free: Real
    pressure: Real


class _Scaling(NamedTuple):
    """Nesterov and Todd's ``W`` of each cone: takes multipliers to where slacks come to.

    ``W = root(square) (2 v v' - J)^(1/2)`` with ``v = (v0, v1)`` on the unit hyperboloid.
    """

    square: Real
    v0: Real
    v1: Complex

    @classmethod
    def between(cls, s: Cone, s_norm: Real, z: Cone, z_norm: Real) -> _Scaling:
        s0, s1, z0, z1 = s[0] / s_norm, s[1] / s_norm, z[0] / z_norm, z[1] / z_norm
        length = np.sqrt(2.0 * (1.0 + s0 * z0 + _dot(s1, z1)))
        return cls(s_norm / z_norm, (s0 + z0) / length, (s1 - z1) / length)

    def apply(self, a: Cone) -> Cone:
        root, along = np.sqrt(self.square), _dot(self.v1, a[1])
        lifted = a[0] + along / (1.0 + self.v0)
        return root * (self.v0 * a[0] + along), root * (a[1] + lifted * self.v1)

    def undo(self, a: Cone) -> Cone:
        root, along = np.sqrt(self.square), _dot(self.v1, a[1])
        lifted = along / (1.0 + self.v0) - a[0]
        return (self.v0 * a[0] - along) / root, (a[1] + lifted * self.v1) / root

    def towards(self, aim: float, z: Cone, ds: Cone, du: Complex) -> Cone:
        """What the multipliers should change by, were the slacks left alone, so that all products
        of the two come to ``aim``; second-order terms of the step ``(ds, du)`` included."""
        l0, l1 = self.apply(z)
        e0, e1 = self.undo(ds)
        f0, f1 = self.apply((0.0, du))
        want0 = aim - (l0 * l0 + _dot(l1, l1)) - (e0 * f0 + _dot(e1, f1))
        want1 = -2.0 * l0 * l1 - (e0 * f1 + f0 * e1)
        x0 = (l0 * want0 - _dot(l1, want1)) / (l0 * l0 - _dot(l1, l1))
        return self.undo((x0, (want1 - x0 * l1) / l0))


class _Newton:
    """One step's linear system, factorised; solved for several right-hand sides."""

    def __init__(
        self, differences: Differences, tether: Real, rows: Real, products: Real,
        scaling: _Scaling, stiffness: Real, dual: Complex,
    ) -> None:  # fmt: skip
        self._differences, self._rows, self._dual = differences, rows, dual
        self._stiffness = stiffness
        v0, v1, square = scaling.v0, scaling.v1, scaling.square
        # W^-2, split into the slack's part and the length's; the slack's is eliminated.
        own = 2.0 * v0 * v0 - 1.0
        self._own = own / square
        self._mixed = -2.0 * v0 * v1 / square
        self._alpha = (1.0 - (np.abs(v1) ** 2) / own) / square
        self._beta = -(v1 * v1) / own / square
        n, size = dual.shape[0], 2 * dual.shape[1]
        bands = differences.gram(self._alpha, self._beta)
        bands[0] += tether
        bounds = (stiffness @ products).reshape(n, size, size)
        for row in range(size):
            for column in range(row + 1):
                bands[row - column, :, column] += bounds[:, row, column]
        self._factor = cholesky_banded(
            bands.reshape(len(bands), -1), lower=True, overwrite_ab=True, check_finite=False
        )

    def step(self, lengths_aim: Cone, pressure_aim: Real) -> _Step:
        """The step for given changes of the multipliers were nothing else to move."""
        kept = lengths_aim[1] - self._mixed * (lengths_aim[0] / self._own)
        right = self._differences.adjoint(kept) - self._dual
        right -= _pairs(pressure_aim @ self._rows, right.shape[1])
        solved = cho_solve_banded(
            (self._factor, True), right.view(np.float64).ravel(), check_finite=False
        )
        dq = _pairs(solved, right.shape[1])
        dr = self._differences.linear(dq)
        moved = dq.view(np.float64) @ self._rows.T
        return _Step(
            q=dq,
            r=dr,
            slack=(lengths_aim[0] - _dot(self._mixed, dr)) / self._own,
            u=kept - (self._alpha * dr + self._beta * np.conj(dr)),
            free=-moved,
            pressure=pressure_aim + self._stiffness * moved,
        )


class _Here(NamedTuple):
    """Where the method stands; the norms are those of slacks and their multipliers."""

    slack: Real
    r: Complex
    slack_norm: Real
    u: Complex
    u_norm: Real
    free: Real
    pressure: Real

    def reach(self, step: _Step) -> float:
        """How many times ``step`` can be taken before something leaves its cone."""
        slacks = _least_root(
            step.slack * step.slack - _dot(step.r, step.r),
            self.slack * step.slack - _dot(self.r, step.r),
            self.slack_norm * self.slack_norm,
        )
        multipliers = _least_root(
            -_dot(step.u, step.u), -_dot(self.u, step.u), self.u_norm * self.u_norm
        )
        fastest = min(
            float((step.free / self.free).min()), float((step.pressure / self.pressure).min())
        )
        return min(slacks, multipliers, -1.0 / fastest if fastest < 0 else np.inf)


def _least_root(square: Real, half: Real, now: Real) -> float:
    """The least positive ``x`` with ``square x^2 + 2 half x + now = 0`` in any entry."""
    inside = half * half - square * now
    below = np.sqrt(np.maximum(inside, 0.0)) - half
    with np.errstate(divide="ignore"):
        roots = np.where((inside >= 0) & (below > 0), now / below, np.inf)
    return float(roots.min())


def _norm(a: Cone) -> Real:
    """``sqrt(a0^2 - |a1|^2)``: how far inside its cone a point is."""
    return np.sqrt(np.maximum(a[0] * a[0] - _dot(a[1], a[1]), 1e-300))


def _dot(a: Complex, b: Complex) -> Real:
    """Inner products of numbers seen as vectors of the plane."""
    return np.asarray((np.conj(a) * b).real)  # several times as fast as by real and imaginary parts


def _pairs(values: Real, k: int) -> Complex:
    """Real and imaginary parts in turn to complex ``(n, k)``."""
    return np.ascontiguousarray(values).view(np.complex128).reshape(-1, k)
