"""Where a robust fit begins: the motion that the largest part of the picture agrees on.

Hypotheses from two marks each, scored by how many others agree (Fischler, Bolles, *Random sample
consensus*, CACM 1981; the score that of Torr, Zisserman, *MLESAC*, CVIU 2000: an inlier counts
the less the worse it fits). Every part of the picture has the same vote, however many marks it
holds: a busy coat in front of a plain wall does not outvote the wall.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..types import Complex, Real

HYPOTHESES = 48  # with half the votes on something else, all miss once in a million pairs
AGREES = 0.004  # of the half-diagonal: distance from a hypothesis at which a vote is worth nothing
APART = 0.15  # of the half-diagonal: two marks nearer than that tell no turn
MOST_CHANGE = 0.2  # of turn and scale from one frame to the next; more is a mismatch


def consensus(
    before: Complex, after: Complex, vote: Real, radius: float, *, turns: bool
) -> tuple[Complex, Complex]:
    """The best hypothesis ``after = a before + b`` of each pair: ``a`` and ``b``, ``(pairs,)``.

    ``before``, ``after`` ``(pairs, marks)``, scene units, valid ones first; ``vote`` as from
    :func:`.votes`, 0 where there is none. ``radius`` is the picture's half-diagonal. Without
    ``turns`` a hypothesis is a shift, from one correspondence; with them, a similarity from two.
    Pairs without any get the identity. The same input gives the same answer (Fischler, Bolles,
    *Random sample consensus*, CACM 1981; the distance is truncated, as Torr, Zisserman, *MLESAC*,
    CVIU 2000, have it).

    >>> before = np.array([[-90 - 50j, 80 - 40j, 10 + 60j, -20 + 5j]])
    >>> after = before + 4 - 2j
    >>> after[0, 3] += 30  # something that moves by itself
    >>> a, b = consensus(before, after, np.ones((1, 4)), 120.0, turns=False)
    >>> np.allclose(a, 1), np.allclose(b, 4 - 2j)
    (True, True)
    """
    pairs = len(before)
    row = np.arange(pairs)
    a, b = np.ones(pairs, complex), np.zeros(pairs, complex)
    best = np.zeros(pairs)
    # Half the digits are plenty for a start, and twice as fast.
    before, after = before.astype(np.complex64), after.astype(np.complex64)
    worth = vote.astype(np.float32)
    narrow = np.float32((AGREES * radius) ** -2)
    for i, j in _draws(worth):
        p, q = before[row, i], after[row, i]
        far, moved = before[row, j] - p, after[row, j] - q
        told = turns & (np.abs(far) > APART * radius)
        turn = np.divide(moved, far, out=np.ones(pairs, np.complex64), where=told)
        trial = np.where(np.abs(turn - 1) < MOST_CHANGE, turn, np.complex64(1))
        shift = q - trial * p
        rest = after - trial[:, None] * before
        rest -= shift[:, None]
        agrees = np.maximum(1 - narrow * (rest.real**2 + rest.imag**2), 0)
        score = np.einsum("ij,ij->i", worth, agrees)
        better = score > best
        a[better], b[better], best[better] = trial[better], shift[better], score[better]
    return a, b


def _draws(vote: NDArray[np.float32]) -> NDArray[np.intp]:
    """``(HYPOTHESES, 2, pairs)`` marks drawn by their votes; the same in every run."""
    shares = np.random.default_rng(0).random(2 * HYPOTHESES)
    total = np.cumsum(vote, axis=1, dtype=float)
    found = [np.searchsorted(row, shares * row[-1], side="right") for row in total]
    return np.minimum(found, vote.shape[1] - 1).T.reshape(HYPOTHESES, 2, -1)
