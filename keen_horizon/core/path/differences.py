"""The differences of the steadied path as one linear operator, with its adjoint and Gram matrix.

Of every frame there are ``d`` real unknowns, which fall into *blocks*: coordinates whose length
counts as one. Arrays have the coordinate first and the frame
last, ``(d, n)``: long, contiguous vectors, and only a few of them.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..types import Indices, Real

Sparse = dict[tuple[int, int], Real]  # many small matrices, by their elements that are not 0
STENCILS = np.array([[1, 0, 0], [-1, 1, 0], [1, -2, 1]])  # of differences, by their order


@dataclass(frozen=True)
class Differences:
    """From corrections ``q`` ``(d, n)`` to weighted differences of the path ``(d, m)``.

    The path's own step is ``p[:, t] = turn[:, :, t] q[:, t + 1] - q[:, t] + offset[:, t]``;
    ``turn`` is ``(d, d, n - 1)``, ``offset`` ``(d, n - 1)``. The result holds ``weights[0] p``,
    ``weights[1]`` times its first difference, and so on, one after the other.
    """

    turn: Real
    offset: Real
    weights: tuple[float, ...]
    blocks: tuple[slice, ...]

    @property
    def dimensions(self) -> int:
        """The number of unknowns of a frame."""
        return len(self.offset)

    @property
    def frames(self) -> int:
        return self.offset.shape[1] + 1

    @cached_property
    def block_of(self) -> Indices:
        """``(d,)`` the block of each coordinate."""
        return np.repeat(np.arange(len(self.blocks)), [b.stop - b.start for b in self.blocks])

    @cached_property
    def _turn(self) -> Sparse:
        """The elements of ``turn`` that are not 0 throughout."""
        d = range(self.dimensions)
        return {(i, j): self.turn[i, j] for i in d for j in d if self.turn[i, j].any()}

    @cached_property
    def in_one_block(self) -> tuple[tuple[int, int], ...]:
        """The pairs of coordinates that share a block."""
        at = self.block_of
        return tuple((i, j) for i in range(len(at)) for j in range(len(at)) if at[i] == at[j])

    def __call__(self, q: Real) -> Real:
        return self._weighted(self._steps(q) + self.offset)

    def linear(self, q: Real) -> Real:
        """The same without the offset."""
        return self._weighted(self._steps(q))

    def _steps(self, q: Real) -> Real:
        out = -q[:, :-1]
        for (i, j), turn in self._turn.items():
            out[i] += turn * q[j, 1:]
        return out

    def _weighted(self, p: Real) -> Real:
        parts = []
        for order, weight in enumerate(self.weights):
            p = p if order == 0 else p[:, 1:] - p[:, :-1]
            parts.append(weight * p)
        return np.concatenate(parts, axis=1)

    def adjoint(self, r: Real) -> Real:
        """``(d, n)``: the adjoint of :meth:`linear`."""
        count = self.frames - 1
        ends = np.cumsum([count - order for order in range(len(self.weights))])[:-1]
        parts = np.split(r, ends, axis=1)
        p = np.zeros_like(parts[-1][:, :0])
        for weight, part in zip(reversed(self.weights), reversed(parts), strict=True):
            total = weight * part
            if p.shape[1]:
                total[:, 1:] += p
                total[:, :-1] -= p
            p = total
        q = np.zeros((self.dimensions, self.frames))
        q[:, :-1] -= p
        for (i, j), turn in self._turn.items():
            q[j, 1:] += turn * p[i]
        return q

    def gram(self, middle: Sparse) -> Real:
        """``(bands, n, d)``: ``linear* M linear`` as LAPACK stores the lower bands of a matrix.

        ``M`` is symmetric and mixes coordinates of one entry only: ``middle`` gives its elements
        ``(m,)`` by pairs of coordinates. The unknowns are in the order frame, coordinate.
        """
        n, d, orders = self.frames, self.dimensions, len(self.weights)
        steps = self._between_steps(middle)
        bands = np.zeros((orders * d + d, n, d))
        for apart in range(min(orders + 1, n)):
            for first, block in self._between_frames(steps, apart):
                for (i, j), values in block.items():
                    # The block below the diagonal is the transpose of the one above.
                    band = apart * d + j - i
                    if band >= 0:
                        bands[band, first : first + len(values), i] += values
        return bands

    def _between_frames(self, steps: list[Sparse], apart: int) -> Iterator[tuple[int, Sparse]]:
        """The block of the Gram matrix between each frame and the one ``apart`` later, as a sum:
        the frame that each summand begins at, and its elements.

        Frame ``t`` is in step ``t`` (times -1) and in step ``t - 1`` (times its turn).
        """
        n, orders = self.frames, len(self.weights)
        for back, other in ((0, 0), (0, 1), (1, 0), (1, 1)):
            between = apart - other + back
            if abs(between) >= orders:
                continue
            first = max(back, other - apart)
            stop = min(n - 1 + back, n - 1 - apart + other, n - apart)
            if stop <= first:
                continue
            count, step, far = stop - first, first - back, first + apart - other
            low = min(step, far)
            block = {pair: v[low : low + count] for pair, v in steps[abs(between)].items()}
            if other:
                block = _product(block, {p: v[far : far + count] for p, v in self._turn.items()})
            if back:
                turned = {(j, i): v[step : step + count] for (i, j), v in self._turn.items()}
                block = _product(turned, block)
            if back != other:
                block = {pair: -values for pair, values in block.items()}
            yield first, block

    def _between_steps(self, middle: Sparse) -> list[Sparse]:
        """What ``M`` becomes between a step and the one ``0, 1, ...`` later."""
        n, orders = self.frames - 1, len(self.weights)
        total: list[Sparse] = [{pair: np.zeros(n - j) for pair in middle} for j in range(orders)]
        at = 0
        for order, weight in enumerate(self.weights):
            count = n - order
            rows = slice(at, at + count)
            at += count
            stencil = weight * STENCILS[order, : order + 1]
            for j in range(order + 1):
                for s in range(order + 1 - j):
                    factor = stencil[s] * stencil[s + j]
                    for pair, values in middle.items():
                        total[j][pair][s : s + count] += factor * values[rows]
        return total


def _product(a: Sparse, b: Sparse) -> Sparse:
    """Products of matrices, entry by entry, given by their elements."""
    out: Sparse = {}
    for (i, k), left in a.items():
        for (row, j), right in b.items():
            if row == k:
                out[i, j] = out[i, j] + left * right if (i, j) in out else left * right
    return out
