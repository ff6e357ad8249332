"""The path solver's inside: against dense matrices and against a general-purpose solver."""

import clarabel
import numpy as np
import pytest
import scipy.sparse as sp

from keen_horizon.core.path.conic_solver import least_lengths
from keen_horizon.core.path.differences import Differences

ROWS = np.array([[1.0, 0, 0, 0], [-1, 0, 0, 0], [0.3, 0.2, 1, 0], [0.1, -0.4, -1, 0],
                 [0, 0.3, 0, 1], [0.2, 0.1, 0, -1], [0, 1, 0, 0.1], [0, -1, 0.1, 0]])  # fmt: skip


PAIRS = (slice(0, 2), slice(2, 4))


def turning(angles: np.ndarray) -> np.ndarray:
    """``(2, 2, n)`` rotations of the plane."""
    c, s = np.cos(angles), np.sin(angles)
    return np.array([[c, -s], [s, c]])


def some(n: int, seed: int, weights=(1.0, 10.0, 100.0), size: float = 8.0) -> Differences:
    rng = np.random.default_rng(seed)
    turn = np.zeros((4, 4, n - 1))
    turn[0, 0] = turn[1, 1] = 1
    turn[2:, 2:] = turning(0.02 * rng.standard_normal(n - 1))
    noise = rng.standard_normal((4, n - 1))
    return Differences(turn, size * noise, weights[: n - 1], PAIRS)


def mixing(n: int, seed: int, weights=(1.0, 10.0, 100.0)) -> Differences:
    """Three coordinates that a camera's turn mixes, in blocks of one and two."""
    rng = np.random.default_rng(seed)
    turn = np.eye(3)[:, :, None] + 0.1 * rng.standard_normal((3, 3, n - 1))
    blocks = (slice(0, 1), slice(1, 3))
    return Differences(turn, 8 * rng.standard_normal((3, n - 1)), weights[: n - 1], blocks)


def inner(a: np.ndarray, b: np.ndarray) -> float:
    return float((a * b).sum())


def numbers(q: np.ndarray) -> np.ndarray:
    """Unknowns as a vector, frame after frame."""
    return q.T.ravel()


def matrix_of(differences: Differences) -> np.ndarray:
    """``linear`` as a dense matrix, on unknowns frame after frame."""
    d, n = differences.dimensions, differences.frames
    columns = [numbers(differences.linear(unit.reshape(n, d).T)) for unit in np.eye(n * d)]
    return np.array(columns).T


def lengths(differences: Differences, q: np.ndarray) -> np.ndarray:
    r = differences(q)
    return np.array([np.linalg.norm(r[block], axis=0) for block in differences.blocks])


@pytest.mark.parametrize("n", [2, 3, 4, 9])
@pytest.mark.parametrize("made", [some, mixing])
def test_adjoint_and_gram_are_those_of_the_operator(n, made):
    differences = made(n, n)
    d = differences.dimensions
    rng = np.random.default_rng(1)
    q = rng.standard_normal((d, n))
    r = differences(q)
    assert np.allclose(r, differences.linear(q) + differences(np.zeros_like(q)))
    other = rng.standard_normal(r.shape)
    assert inner(differences.linear(q), other) == pytest.approx(
        inner(q, differences.adjoint(other))
    )
    entries = r.shape[1]
    middle, dense_middle = np.zeros((d, d, entries)), np.zeros((entries * d, entries * d))
    at = np.arange(entries) * d
    for block in differences.blocks:
        for i in range(block.start, block.stop):
            for j in range(i, block.stop):
                values = rng.uniform(1, 2, entries) if i == j else rng.uniform(-0.4, 0.4, entries)
                middle[i, j] = middle[j, i] = values
                dense_middle[at + i, at + j] = dense_middle[at + j, at + i] = values
    dense = matrix_of(differences)
    expected = dense.T @ dense_middle @ dense
    bands = differences.gram(middle)
    for band, row in enumerate(bands):
        length = max(0, n * d - band)
        assert np.allclose(row[:length], np.diagonal(expected, -band)[:length])
    assert np.allclose(np.tril(expected, -len(bands)), 0)


def by_clarabel(
    differences: Differences, tether: float, rows: np.ndarray, room: np.ndarray
) -> np.ndarray:
    """The same problem as second-order cones, solved to high accuracy."""
    d, n = differences.dimensions, differences.frames
    dense = sp.csr_array(matrix_of(differences))
    offset = numbers(differences(np.zeros((d, n))))
    sizes = [block.stop - block.start for block in differences.blocks]
    entries, cones = len(offset) // d, len(sizes)
    # Cone after cone, entry after entry: a slack, and after it the block's residuals.
    places, slacks, at = [], [], 0
    for _ in range(entries):
        for size in sizes:
            slacks.append(at)
            places += range(at + 1, at + 1 + size)
            at += 1 + size
    spread = sp.csr_array(
        (-np.ones(len(places)), (places, range(len(places)))), shape=(at, len(places))
    )
    slack = sp.csr_array(
        (-np.ones(len(slacks)), (slacks, range(len(slacks)))), shape=(at, len(slacks))
    )
    inside = sp.kron(sp.eye_array(n), rows)
    left = sp.vstack([
        sp.hstack([spread @ dense, slack]),
        sp.hstack([inside, sp.csr_array((inside.shape[0], len(slacks)))]),
    ])  # fmt: skip
    right = np.zeros(at)
    right[places] = offset
    settings = clarabel.DefaultSettings()
    settings.verbose = False
    found = clarabel.DefaultSolver(
        sp.diags_array(np.r_[np.full(d * n, tether), np.zeros(len(slacks))], format="csc"),
        np.r_[np.zeros(d * n), np.ones(len(slacks))],
        sp.csc_array(left),
        np.r_[right, np.tile(room, n)],
        [clarabel.SecondOrderConeT(1 + size) for size in sizes] * entries
        + [clarabel.NonnegativeConeT(inside.shape[0])],
        settings,
    ).solve()
    assert str(found.status) == "Solved"
    assert cones == len(differences.blocks)
    return np.array(found.x[: d * n]).reshape(n, d).T


def cost(differences: Differences, tether: float, q: np.ndarray) -> float:
    return 0.5 * tether * inner(q, q) + float(lengths(differences, q).sum())


@pytest.mark.parametrize("n", [2, 3, 12, 80])
@pytest.mark.parametrize("room", [0.01, 2.0, 30.0, 4000.0])
@pytest.mark.parametrize("weights", [(1.0, 10.0, 100.0), (30.0, 3.0, 10.0)])
@pytest.mark.parametrize("made", [some, mixing])
def test_it_finds_what_a_general_solver_finds(n, room, weights, made):
    differences = made(n, 7 + n, weights)
    rows = ROWS[:, -differences.dimensions :]
    rows = rows[np.abs(rows).sum(axis=1) > 0]
    limits = room * np.linspace(1, 1.5, len(rows))
    q = least_lengths(differences, 1e-3, rows, limits)
    assert (limits > (q.T @ rows.T)).all()
    best = cost(differences, 1e-3, by_clarabel(differences, 1e-3, rows, limits))
    found = cost(differences, 1e-3, q)
    assert best - 1e-6 <= found <= best + max(0.01 * best, 0.02 * 2 * 3 * n)


def test_without_anything_to_do_it_does_nothing():
    still = Differences(
        np.eye(4)[:, :, None] * np.ones(9), np.zeros((4, 9)), (1.0, 10.0, 100.0), PAIRS
    )
    assert np.abs(least_lengths(still, 1e-3, ROWS, np.full(len(ROWS), 5.0))).max() < 1e-3


def test_a_constant_drift_is_followed_evenly():
    """A pan that there is no room to stop is kept, at one speed."""
    offset = np.zeros((2, 99))
    offset[0] = 4.0
    drift = Differences(
        np.eye(2)[:, :, None] * np.ones(99), offset, (1.0, 10.0, 100.0), (slice(0, 2),)
    )
    rows = np.array([[1.0, 0], [-1, 0], [0, 1], [0, -1]])
    q = least_lengths(drift, 1e-3, rows, np.full(4, 20.0))
    speed = 4.0 + np.diff(q[0])
    assert np.ptp(speed) < 0.2
    assert speed.mean() > 3.5
