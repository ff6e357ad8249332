"""The differences of the steadied path as one linear operator, with its adjoint and Gram matrix.

Pairs of numbers are complex here, because a camera's step then acts by multiplication: of every
frame, the shift ``(x, y)``, and before it, where the model turns, ``(log scale, turn)``.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Complex

Real = NDArray[np.float64]


@dataclass(frozen=True)
class Differences:
    """From corrections ``q`` ``(n, k)`` to weighted differences of the path ``(m, k)``.

    The path's own step is ``p[t] = turn[t] q[t + 1] - q[t] + offset[t]``, shape ``(n - 1, k)``. The
    result holds ``weights[0] p``, ``weights[1]`` times its first difference, and so on, one below
    the other.
    """

    turn: Complex
    offset: Complex
    weights: tuple[float, ...]

    def __call__(self, q: Complex) -> Complex:
        return self._weighted(self.turn * q[1:] - q[:-1] + self.offset)

    def linear(self, q: Complex) -> Complex:
        """The same without the offset."""
        return self._weighted(self.turn * q[1:] - q[:-1])

    def _weighted(self, p: Complex) -> Complex:
        parts = []
        for order, weight in enumerate(self.weights):
            p = p if order == 0 else p[1:] - p[:-1]
            parts.append(weight * p)
        return np.concatenate(parts)

    def adjoint(self, r: Complex) -> Complex:
        """``(n, k)``: the adjoint of :meth:`linear`, for the real inner product."""
        parts = np.split(r, np.cumsum([len(self.turn) - o for o in range(len(self.weights))])[:-1])
        p = np.zeros_like(parts[-1][:0])
        for weight, part in zip(reversed(self.weights), reversed(parts), strict=True):
            total = weight * part
            if len(p):
                total[1:] += p
                total[:-1] -= p
            p = total
        q = np.zeros((len(self.turn) + 1, self.turn.shape[1]), complex)
        q[1:] += np.conj(self.turn) * p
        q[:-1] -= p
        return q

    def gram(self, alpha: Real, beta: Complex) -> Real:
        """``(bands, n, 2 k)``: ``linear* M linear`` as LAPACK stores the lower bands of a matrix.

        ``M`` takes each entry ``z`` of a result to ``alpha z + beta conj(z)``, which is how a
        symmetric 2 x 2 matrix acts on a complex number; both are ``(m, k)``. The unknowns are in
        the order frame, pair, real before imaginary part.
        """
        n, k = len(self.turn) + 1, self.turn.shape[1]
        size, orders = 2 * k, len(self.weights)
        steps = self._between_steps(alpha, beta)
        bands = np.zeros((orders * size + size, n, size))
        minus = np.full((1, k), -1 + 0j)
        for apart in range(orders + 1):
            if apart >= n:
                break
            a = np.zeros((n - apart, k), complex)
            b = np.zeros((n - apart, k), complex)
            # Frame t is in step t (times -1) and in step t - 1 (times its turn).
            for back, other in ((0, 0), (0, 1), (1, 0), (1, 1)):
                between = apart - other + back
                if abs(between) >= orders:
                    continue
                first = max(back, other - apart)
                stop = min(n - 1 + back, n - 1 - apart + other, n - apart)
                if stop <= first:
                    continue
                step, far = first - back, first + apart - other
                count = stop - first
                left = self.turn[step : step + count] if back else minus
                right = self.turn[far : far + count] if other else minus
                low = min(step, far)
                middle_a, middle_b = (s[low : low + count] for s in steps[abs(between)])
                a[first:stop] += np.conj(left) * middle_a * right
                b[first:stop] += np.conj(left) * middle_b * np.conj(right)
            # The block below the diagonal is the transpose of the one above.
            block = {
                (0, 0): a.real + b.real, (0, 1): a.imag + b.imag,
                (1, 0): b.imag - a.imag, (1, 1): a.real - b.real,
            }  # fmt: skip
            for (row, column), values in block.items():
                band = apart * size + row - column
                if band >= 0:
                    bands[band, : n - apart, column::2] += values
        return bands

    def _between_steps(self, alpha: Real, beta: Complex) -> list[tuple[Real, Complex]]:
        """What ``M`` becomes between a step and the one ``0, 1, ...`` later: pairs as in ``M``."""
        n, k = len(self.turn), self.turn.shape[1]
        total = [
            (np.zeros((n - j, k)), np.zeros((n - j, k), complex)) for j in range(len(self.weights))
        ]
        at = 0
        for order, weight in enumerate(self.weights):
            count = n - order
            rows = slice(at, at + count)
            at += count
            stencil = weight * np.array([[1, 0, 0], [-1, 1, 0], [1, -2, 1]])[order, : order + 1]
            for j in range(order + 1):
                for s in range(order + 1 - j):
                    factor = stencil[s] * stencil[s + j]
                    total[j][0][s : s + count] += factor * alpha[rows]
                    total[j][1][s : s + count] += factor * beta[rows]
        return total
