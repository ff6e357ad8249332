"""The differences of the steadied path as one linear operator, with its adjoint and Gram matrix.

Of every frame there are ``d`` real unknowns, which fall into *blocks*: coordinates whose length
counts as one. Arrays have the coordinate first and the frame
last, ``(d, n)``: long, contiguous vectors, and only a few of them.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..types import Real

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

    def __call__(self, q: Real) -> Real:
        return self._weighted(self._steps(q) + self.offset)

    def linear(self, q: Real) -> Real:
        """The same without the offset."""
        return self._weighted(self._steps(q))

    def _steps(self, q: Real) -> Real:
        return np.asarray(np.einsum("ijn,jn->in", self.turn, q[:, 1:]) - q[:, :-1])

    def _weighted(self, p: Real) -> Real:
        parts = []
        for order, weight in enumerate(self.weights):
            p = p if order == 0 else p[:, 1:] - p[:, :-1]
            parts.append(weight * p)
        return np.concatenate(parts, axis=1)

    def adjoint(self, r: Real) -> Real:
        """``(d, n)``: the adjoint of :meth:`linear`."""
        stop, p = r.shape[1], np.zeros((self.dimensions, 0))
        for order in reversed(range(len(self.weights))):
            start = stop - (self.frames - 1 - order)
            total = self.weights[order] * r[:, start:stop]
            if p.shape[1]:
                total[:, 1:] += p
                total[:, :-1] -= p
            p, stop = total, start
        q = np.zeros((self.dimensions, self.frames))
        q[:, 1:] = np.einsum("ijn,in->jn", self.turn, p)
        q[:, :-1] -= p
        return q

    def gram(self, middle: Real) -> Real:
        """``(bands, n d)``: ``linear* M linear`` as LAPACK stores the lower bands of a matrix.

        ``M`` is symmetric and mixes coordinates of one entry only: ``middle`` ``(d, d, m)``. The
        unknowns are in the order frame, coordinate. Bands lie in Fortran's order, so that the
        factorisation needs no copy.
        """
        n, d, orders = self.frames, self.dimensions, len(self.weights)
        bands = np.zeros((n, d, (orders + 1) * d))
        for group in self._apart:
            turn = self.turn[group, group]
            rows = self._steps_to_frames(self._between_steps(middle[group, group]), turn)
            for apart in range(min(orders + 1, n)):
                # Frame t is in step t (times -1) and in step t - 1 (times its turn).
                block = np.zeros((*turn.shape[:2], n - apart))
                block[:, :, : rows[apart].shape[2]] -= rows[apart]
                if apart < orders:
                    later = rows[apart + 1]
                    before = turn[:, :, : later.shape[2]]
                    block[:, :, 1:] += np.einsum("kin,kjn->ijn", before, later)
                for i, row in enumerate(block, group.start):
                    first = apart * d - i + group.start  # the band of the group's first coordinate
                    above = max(-first, 0)  # entries above the diagonal, which are not stored
                    bands[: n - apart, i, first + above : first + len(row)] = row[above:].T
        return bands.reshape(n * d, -1).T

    @cached_property
    def _apart(self) -> list[slice]:
        """Coordinates that no turn mixes with others: blocks, and neighbours that are mixed."""
        mixed = np.asarray(self.turn.any(axis=2))
        mixed |= mixed.T
        apart: list[slice] = []
        for block in self.blocks:
            while apart and mixed[block, apart[0].start : block.start].any():
                block = slice(apart.pop().start, block.stop)
            apart.append(block)
        return apart

    def _steps_to_frames(self, steps: list[Real], turn: Real) -> list[Real]:
        """``M linear`` between step ``s`` and frame ``s + k``: a ``(d, d, .)`` for each ``k``."""
        count, orders = self.frames - 1, len(self.weights)
        out = []
        for apart in range(orders + 1):
            block = np.zeros((*turn.shape[:2], min(count, count + 1 - apart)))
            if apart < orders:
                block[:, :, : steps[apart].shape[2]] -= steps[apart]
            # By the later of a step's two frames: the step one before, which for k = 0 is told by
            # the transpose of what is known, and the first step has none.
            if apart:
                block += np.einsum("ikn,kjn->ijn", steps[apart - 1], turn[:, :, apart - 1 :])
            elif orders > 1:
                block[:, :, 1:] += np.einsum("kin,kjn->ijn", steps[1], turn[:, :, :-1])
            out.append(block)
        return out

    def _between_steps(self, middle: Real) -> list[Real]:
        """What ``M`` becomes between a step and the one ``0, 1, ...`` later: ``(d, d, .)`` each."""
        count, orders = self.frames - 1, len(self.weights)
        total = [np.zeros((*middle.shape[:2], max(count - k, 0))) for k in range(orders)]
        at = 0
        for order, weight in enumerate(self.weights):
            entries = middle[:, :, at : at + count - order]
            at += count - order
            stencil = weight * STENCILS[order, : order + 1]
            for k in range(order + 1):
                for s in range(order + 1 - k):
                    part = total[k][:, :, s : s + count - order]
                    part += (stencil[s] * stencil[s + k]) * entries
        return total
