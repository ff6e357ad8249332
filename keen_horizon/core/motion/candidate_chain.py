"""Who steers: the chain of candidate fits that the same marks carry through the clip.

Frame by frame, a large subject can outvote the background. Over a stretch it cannot: to begin
steering it has to take over from marks that did until then, and to give way to them afterwards.
The best chain is found by dynamic programming (Viterbi, *Error bounds for convolutional codes*,
IEEE Trans. Information Theory 1967).
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..tracking.correspondences import Correspondences, votes
from .robust_fit import Fit

CARRIED = 6.0  # what it counts that all marks go on steering
ENOUGH = 0.2  # of the picture; more agreement is hardly better, or the largest would win after all
MORE = 0.5  # what more counts, where nothing else tells
FEW = 0.02  # share of the marks that is carried on by chance


class Candidates:
    """Two candidates for each pair of ``n`` frames; ``share`` ``(n, 2)`` of the picture agrees with
    each; of the marks that steered candidate ``i`` of the pair before and are still there,
    ``carried[t, i, j]`` steer candidate ``j``. Pairs are taken in order; the fits of the second
    are kept in ``second``."""

    def __init__(self, n: int, records: int) -> None:
        self.share = np.zeros((n, 2))
        self.carried = np.zeros((n, 2, 2))
        self.second: list[Fit] = []
        # A clip without marks still has a place to look up.
        self._steered = np.zeros((2, max(records, 1)), bool)
        self._near = np.zeros_like(self._steered)
        self._seen = np.zeros(max(records, 1), bool)

    def take(
        self, part: slice, pairs: Correspondences, both: tuple[Fit, Fit], canvas: Canvas
    ) -> None:
        none = np.zeros((0, 0), bool)
        self.second.append(replace(both[1], steer=none, near=none))
        for i, fit in enumerate(both):
            self.share[part, i] = fit.share
            self._steered[i, pairs.record[pairs.valid]] = fit.steer[pairs.valid]
            self._near[i, pairs.record[pairs.valid]] = fit.near[pairs.valid]
        self._seen[pairs.record[pairs.valid]] = True
        known = pairs.valid & self._seen[pairs.earlier]
        weight = votes(pairs.before, known, canvas)
        for i in range(2):
            before = weight * self._near[i, pairs.earlier]
            total = np.maximum(before.sum(axis=1), 1e-9)
            for j, fit in enumerate(both):
                self.carried[part, i, j] = (before * fit.near).sum(axis=1) / total

    def steered(self, which: int) -> NDArray[np.bool_]:
        """Per record, whether it steers that candidate of its pair."""
        return self._steered[which]


def chain_of(candidates: Candidates) -> NDArray[np.intp]:
    """``(n,)`` which candidate to take for each pair."""
    # Marks that are known less exactly do not always steer: it counts where those go that do.
    carried = candidates.carried
    carried = carried / (carried.sum(axis=2, keepdims=True) + FEW)
    worth = np.minimum(candidates.share, ENOUGH) + MORE * candidates.share
    n = len(worth)
    score = worth[0].copy()
    came_from = np.zeros((n, 2), np.intp)
    for t in range(1, n):
        ways = score[:, None] + CARRIED * carried[t]
        came_from[t] = ways.argmax(axis=0)
        score = ways.max(axis=0) + worth[t]
    chosen = np.zeros(n, np.intp)
    chosen[-1] = int(score.argmax())
    for t in range(n - 1, 0, -1):
        chosen[t - 1] = came_from[t, chosen[t]]
    return chosen
