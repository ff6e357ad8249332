"""Least sum of lengths under linear bounds: an interior-point method made for paths.

Minimises ``tether / 2 |q|^2 + sum |D q + offset|`` subject to ``rows q[:, t] <= room`` for every
frame ``t``, where ``D`` reaches over a few neighbouring frames only and ``|.|`` is the length of
each block. Primal-dual, with the scaling of Nesterov and Todd (*Self-scaled barriers and
interior-point methods for convex programming*, Mathematics of Operations Research 1997) and the
predictor and corrector of Mehrotra (*On the implementation of a primal-dual interior point method*,
SIAM J. Optimization 1992), as laid out for cones by Vandenberghe (*The CVXOPT linear and quadratic
cone program solvers*, 2010).

Each length is bounded by a slack of its own, ``|r| <= s``: a second-order cone, one dimension
larger than its block. Slacks and multipliers are eliminated by hand, so that what is left to
factorise is one banded matrix; all else is arithmetic on whole arrays. About a dozen steps, each
linear in the number of frames. Points of the cones are pairs ``(a0, a1)``: the cones' axes
``(blocks, m)``, and the rest ``(d, m)``.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import scipy

from ..types import Indices, Real
from .differences import Differences

Cone = tuple[Real, Real]

MOST_STEPS = 60
RELATIVE_GAP = 1e-2  # of the objective; it is then itself sure to about a thousandth
GAP_A_LENGTH = 0.02  # so that a violent stretch does not excuse jitter in a calm one
DUAL_RESIDUAL = 3e-2
NEAR_BOUNDARY = 0.98  # of the way to it that a step may go


def least_lengths(differences: Differences, tether: float | Real, rows: Real, room: Real) -> Real:
    """The minimiser ``q`` ``(d, n)``.

    ``rows`` ``(j, d)`` act on a frame's unknowns; ``room`` ``(j,)`` or ``(j, n)`` positive:
    ``q = 0`` must satisfy all bounds. ``tether`` positive, one or ``(n,)``. Raises ArithmeticError
    if the method gets stuck.

    >>> line = np.ones((1, 1, 2)), np.array([[1.0, -1.0]])
    >>> jolt = Differences(*line, weights=(1.0,), blocks=(slice(0, 1),))
    >>> up, down = np.array([[1.0], [-1.0]]), np.full(2, 5.0)
    >>> least_lengths(jolt, 1e-3, up, down).round(1)
    array([[ 0.3, -0.7,  0.3]])
    """
    n, d = differences.frames, differences.dimensions
    cones = _Cones.of(differences)
    tether = np.broadcast_to(np.asarray(tether, float), n)
    q = np.zeros((d, n))
    r = differences(q)
    lengths = np.sqrt(cones.dot(r, r))
    # A slack and a bound; their multipliers, of which the slack's is 1 throughout.
    slack = lengths + lengths.mean() + 1e-9
    room = np.asarray(room, float)
    free = np.array(np.broadcast_to(room[:, None] if room.ndim == 1 else room, (len(rows), n)))
    u = np.zeros_like(r)
    pressure = 0.1 * slack.mean() / free
    one = np.ones_like(slack)
    for _ in range(MOST_STEPS):
        dual = tether * q - differences.adjoint(u) + rows.T @ pressure
        gap = float((slack + cones.dot(r, u)).sum() + (pressure * free).sum())
        objective = float(0.5 * (tether * q * q).sum() + np.sqrt(cones.dot(r, r)).sum())
        if (
            gap < RELATIVE_GAP * max(objective, 10.0)
            and gap < GAP_A_LENGTH * slack.size
            and np.abs(dual).max() < DUAL_RESIDUAL
        ):
            return q
        slack_norm, u_norm = cones.norm((slack, r)), cones.norm((one, u))
        scaling = _Scaling.between(cones, (slack, r), slack_norm, (one, u), u_norm)
        here = _Here(cones, slack, r, slack_norm, u, u_norm, free, pressure)
        try:
            newton = _Newton(differences, tether, rows, scaling, pressure / free, dual)
        except scipy.linalg.LinAlgError as error:
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


@dataclass(frozen=True)
class _Cones:
    """Which coordinate ``(d,)`` belongs to which cone, ``(blocks, d)``, and arithmetic by cone."""

    block_of: Indices
    members: Real

    @classmethod
    def of(cls, differences: Differences) -> _Cones:
        sizes = [block.stop - block.start for block in differences.blocks]
        block_of = np.repeat(np.arange(len(sizes)), sizes)
        return cls(block_of, (np.arange(len(sizes))[:, None] == block_of).astype(float))

    def dot(self, a: Real, b: Real) -> Real:
        """Inner products ``(blocks, m)`` of the rests of two points."""
        return self.members @ (a * b)

    def spread(self, axis: Real) -> Real:
        """Values of each cone ``(blocks, m)`` for each coordinate ``(d, m)``."""
        return axis[self.block_of]

    def norm(self, a: Cone) -> Real:
        """``sqrt(a0^2 - |a1|^2)``: how far inside its cone a point is."""
        return np.sqrt(np.maximum(a[0] * a[0] - self.dot(a[1], a[1]), 1e-300))


class _Step(NamedTuple):
    """A direction in all unknowns; the slack's multiplier stays as it is."""

    q: Real
    r: Real
    slack: Real
    u: Real
    free: Real
    pressure: Real


class _Scaling(NamedTuple):
    """Nesterov and Todd's ``W`` of each cone: takes multipliers to where slacks come to.

    ``W = root(square) (2 v v' - J)^(1/2)`` with ``v = (v0, v1)`` on the unit hyperboloid.
    """

    cones: _Cones
    square: Real
    v0: Real
    v1: Real

    @classmethod
    def between(cls, cones: _Cones, s: Cone, s_norm: Real, z: Cone, z_norm: Real) -> _Scaling:
        s0, s1 = s[0] / s_norm, s[1] / cones.spread(s_norm)
        z0, z1 = z[0] / z_norm, z[1] / cones.spread(z_norm)
        length = np.sqrt(2.0 * (1.0 + s0 * z0 + cones.dot(s1, z1)))
        return cls(cones, s_norm / z_norm, (s0 + z0) / length, (s1 - z1) / cones.spread(length))

    def apply(self, a: Cone) -> Cone:
        root, along = np.sqrt(self.square), self.cones.dot(self.v1, a[1])
        lifted = a[0] + along / (1.0 + self.v0)
        spread = self.cones.spread
        return root * (self.v0 * a[0] + along), spread(root) * (a[1] + spread(lifted) * self.v1)

    def undo(self, a: Cone) -> Cone:
        root, along = np.sqrt(self.square), self.cones.dot(self.v1, a[1])
        lifted = along / (1.0 + self.v0) - a[0]
        spread = self.cones.spread
        return (self.v0 * a[0] - along) / root, (a[1] + spread(lifted) * self.v1) / spread(root)

    def towards(self, aim: float, z: Cone, ds: Cone, du: Real) -> Cone:
        """What the multipliers should change by, were the slacks left alone, so that all products
        of the two come to ``aim``; second-order terms of the step ``(ds, du)`` included."""
        dot, spread = self.cones.dot, self.cones.spread
        l0, l1 = self.apply(z)
        e0, e1 = self.undo(ds)
        f0, f1 = self.apply((np.zeros_like(self.v0), du))
        want0 = aim - (l0 * l0 + dot(l1, l1)) - (e0 * f0 + dot(e1, f1))
        want1 = -2.0 * spread(l0) * l1 - (spread(e0) * f1 + spread(f0) * e1)
        x0 = (l0 * want0 - dot(l1, want1)) / (l0 * l0 - dot(l1, l1))
        return self.undo((x0, (want1 - spread(x0) * l1) / spread(l0)))


class _Newton:
    """One step's linear system, factorised; solved for several right-hand sides."""

    def __init__(
        self,
        differences: Differences,
        tether: Real,
        rows: Real,
        scaling: _Scaling,
        stiffness: Real,
        dual: Real,
    ) -> None:
        self._differences, self._rows, self._dual = differences, rows, dual
        self._stiffness, self._cones = stiffness, scaling.cones
        v0, v1, square = scaling.v0, scaling.v1, scaling.square
        # W^-2, split into the slack's part and the length's; the slack's is eliminated, which
        # leaves (1 - (2 / own) v1 v1') / square.
        own = 2.0 * v0 * v0 - 1.0
        spread = self._cones.spread
        self._own = own / square
        self._mixed = -2.0 * spread(v0) * v1 / spread(square)
        self._v1, self._square, self._share = v1, spread(square), 2.0 / (own * square)
        bands = differences.gram(self._middle())
        d = len(dual)
        for j in range(d):
            bands[0, j::d] += tether
            for i in range(j, d):
                bands[i - j, j::d] += (rows[:, i] * rows[:, j]) @ stiffness
        self._factor = scipy.linalg.cholesky_banded(
            bands, lower=True, overwrite_ab=True, check_finite=False
        )

    def _middle(self) -> Real:
        """``(d, d, m)`` the matrix between lengths."""
        out = np.zeros((len(self._v1), *self._v1.shape))
        for block, share in zip(self._differences.blocks, self._share, strict=True):
            along = self._v1[block]
            out[block, block] = (-share * along)[:, None] * along
        diagonal = np.arange(len(out))
        out[diagonal, diagonal] += 1.0 / self._square
        return out

    def step(self, lengths_aim: Cone, pressure_aim: Real) -> _Step:
        """The step for given changes of the multipliers were nothing else to move."""
        dot, spread = self._cones.dot, self._cones.spread
        kept = lengths_aim[1] - self._mixed * spread(lengths_aim[0] / self._own)
        right = self._differences.adjoint(kept) - self._dual - self._rows.T @ pressure_aim
        solved = scipy.linalg.cho_solve_banded(
            (self._factor, True), np.ascontiguousarray(right.T).ravel(), check_finite=False
        )
        dq = np.ascontiguousarray(solved.reshape(right.shape[::-1]).T)
        dr = self._differences.linear(dq)
        moved = self._rows @ dq
        through = dr / self._square - spread(self._share * dot(self._v1, dr)) * self._v1
        return _Step(
            q=dq,
            r=dr,
            slack=(lengths_aim[0] - dot(self._mixed, dr)) / self._own,
            u=kept - through,
            free=-moved,
            pressure=pressure_aim + self._stiffness * moved,
        )


class _Here(NamedTuple):
    """Where the method stands; the norms are those of slacks and their multipliers."""

    cones: _Cones
    slack: Real
    r: Real
    slack_norm: Real
    u: Real
    u_norm: Real
    free: Real
    pressure: Real

    def reach(self, step: _Step) -> float:
        """How many times ``step`` can be taken before something leaves its cone."""
        dot = self.cones.dot
        slacks = _least_root(
            step.slack * step.slack - dot(step.r, step.r),
            self.slack * step.slack - dot(self.r, step.r),
            self.slack_norm * self.slack_norm,
        )
        multipliers = _least_root(
            -dot(step.u, step.u), -dot(self.u, step.u), self.u_norm * self.u_norm
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
