"""The path solver's inside: against dense matrices and against a general-purpose solver."""

import clarabel
import numpy as np
import pytest
import scipy.sparse as sp

from keen_horizon.core.path.conic_solver import least_lengths
from keen_horizon.core.path.differences import Differences

ROWS = np.array([[1.0, 0, 0, 0], [-1, 0, 0, 0], [0.3, 0.2, 1, 0], [0.1, -0.4, -1, 0],
                 [0, 0.3, 0, 1], [0.2, 0.1, 0, -1], [0, 1, 0, 0.1], [0, -1, 0.1, 0]])  # fmt: skip


def some(n: int, seed: int, weights=(1.0, 10.0, 100.0), size: float = 8.0) -> Differences:
    rng = np.random.default_rng(seed)
    turn = np.exp(0.02j * rng.standard_normal((n - 1, 2)))
    turn[:, 0] = 1
    noise = rng.standard_normal((n - 1, 2)) + 1j * rng.standard_normal((n - 1, 2))
    return Differences(turn, size * noise, weights[: n - 1])


def inner(a: np.ndarray, b: np.ndarray) -> float:
    return float((a.real * b.real + a.imag * b.imag).sum())


def numbers(q: np.ndarray) -> np.ndarray:
    """Complex pairs as a vector of real and imaginary parts in turn."""
    return np.ascontiguousarray(q).view(float).ravel()


def matrix_of(differences: Differences, n: int) -> np.ndarray:
    """``linear`` as a dense real matrix."""
    columns = []
    for i in range(4 * n):
        unit = np.zeros(4 * n)
        unit[i] = 1
        columns.append(numbers(differences.linear(unit.view(complex).reshape(n, 2))))
    return np.array(columns).T


@pytest.mark.parametrize("n", [2, 3, 4, 9])
def test_adjoint_and_gram_are_those_of_the_operator(n):
    differences = some(n, n)
    rng = np.random.default_rng(1)
    q = rng.standard_normal((n, 2)) + 1j * rng.standard_normal((n, 2))
    r = differences(q)
    assert np.allclose(r, differences.linear(q) + differences(np.zeros_like(q)))
    other = rng.standard_normal(r.shape) + 1j * rng.standard_normal(r.shape)
    assert inner(differences.linear(q), other) == pytest.approx(
        inner(q, differences.adjoint(other))
    )
    alpha = rng.uniform(1, 2, r.shape)
    beta = 0.4 * np.exp(1j * rng.uniform(0, 6, r.shape))
    dense = matrix_of(differences, n)
    middle = np.zeros((2 * r.size, 2 * r.size))
    for i, (a, b) in enumerate(zip(alpha.ravel(), beta.ravel(), strict=True)):
        middle[2 * i : 2 * i + 2, 2 * i : 2 * i + 2] = [[a + b.real, b.imag], [b.imag, a - b.real]]
    expected = dense.T @ middle @ dense
    bands = differences.gram(alpha, beta).reshape(-1, 4 * n)
    for band, row in enumerate(bands):
        length = max(0, 4 * n - band)
        assert np.allclose(row[:length], np.diagonal(expected, -band)[:length])
    assert np.allclose(np.tril(expected, -len(bands)), 0)


def by_clarabel(differences: Differences, tether: float, room: np.ndarray, n: int) -> np.ndarray:
    """The same problem as second-order cones, solved to high accuracy."""
    dense = sp.csr_array(matrix_of(differences, n))
    offset = numbers(differences(np.zeros((n, 2), complex)))
    pairs = len(offset) // 2
    place = 3 * (np.arange(2 * pairs) // 2) + 1 + np.arange(2 * pairs) % 2
    spread = sp.csr_array((-np.ones(2 * pairs), (place, np.arange(2 * pairs))))
    slack = sp.csr_array(
        (-np.ones(pairs), (3 * np.arange(pairs), np.arange(pairs))), shape=(3 * pairs, pairs)
    )
    inside = sp.kron(sp.eye_array(n), ROWS)
    left = sp.vstack([
        sp.hstack([spread @ dense, slack]),
        sp.hstack([inside, sp.csr_array((inside.shape[0], pairs))]),
    ])  # fmt: skip
    right = np.zeros(3 * pairs)
    right[place] = offset
    settings = clarabel.DefaultSettings()
    settings.verbose = False
    found = clarabel.DefaultSolver(
        sp.diags_array(np.r_[np.full(4 * n, tether), np.zeros(pairs)], format="csc"),
        np.r_[np.zeros(4 * n), np.ones(pairs)],
        sp.csc_array(left),
        np.r_[right, np.tile(room, n)],
        [clarabel.SecondOrderConeT(3)] * pairs + [clarabel.NonnegativeConeT(inside.shape[0])],
        settings,
    ).solve()
    assert str(found.status) == "Solved"
    return np.array(found.x[: 4 * n]).view(complex).reshape(n, 2)


def cost(differences: Differences, tether: float, q: np.ndarray) -> float:
    return 0.5 * tether * inner(q, q) + float(np.abs(differences(q)).sum())


@pytest.mark.parametrize("n", [2, 3, 12, 80])
@pytest.mark.parametrize("room", [0.01, 2.0, 30.0, 4000.0])
@pytest.mark.parametrize("weights", [(1.0, 10.0, 100.0), (30.0, 3.0, 10.0)])
def test_it_finds_what_a_general_solver_finds(n, room, weights):
    differences, limits = some(n, 7 + n, weights), room * np.linspace(1, 1.5, len(ROWS))
    q = least_lengths(differences, 1e-3, ROWS, limits)
    assert ((numbers(q).reshape(n, 4) @ ROWS.T) < limits).all()
    best = cost(differences, 1e-3, by_clarabel(differences, 1e-3, limits, n))
    found = cost(differences, 1e-3, q)
    assert best - 1e-6 <= found <= best + max(0.01 * best, 0.02 * 2 * 3 * n)


def test_without_anything_to_do_it_does_nothing():
    still = Differences(np.ones((9, 2), complex), np.zeros((9, 2), complex), (1.0, 10.0, 100.0))
    assert np.abs(least_lengths(still, 1e-3, ROWS, np.full(len(ROWS), 5.0))).max() < 1e-3


def test_a_constant_drift_is_followed_evenly():
    """A pan that there is no room to stop is kept, at one speed."""
    drift = Differences(np.ones((99, 1), complex), np.full((99, 1), 4.0 + 0j), (1.0, 10.0, 100.0))
    rows = np.array([[1.0, 0], [-1, 0], [0, 1], [0, -1]])
    q = least_lengths(drift, 1e-3, rows, np.full(4, 20.0))
    speed = (4.0 + np.diff(q[:, 0])).real
    assert np.ptp(speed) < 0.2
    assert speed.mean() > 3.5
