"""Factors of two-by-two blocks against dense algebra: any pattern, pivots that vanish or lose their digits, nothing to solve."""

from __future__ import annotations

import numpy as np
import pytest

from tests.helpers import bus, line, load, network, source
from vastmesh.core.electrical import BlockLU, compile_network
from vastmesh.core.electrical.blocks import left_over
from vastmesh.core.errors import SingularMatrix
from vastmesh.core.flow._ending import Ending
from vastmesh.core.flow.balanced import LoadFlowOptions, Problem

Pattern = tuple[np.ndarray, np.ndarray]


def pattern_of(there: np.ndarray) -> Pattern:
    """The pattern of a symmetric matrix of truths with its diagonal."""
    return np.concatenate([[0], np.cumsum(there.sum(axis=1))]), np.nonzero(there)[1]


def values_of(dense: np.ndarray, pattern: Pattern) -> np.ndarray:
    indptr, indices = pattern
    rows = [
        dense[2 * i + side, 2 * j + part]
        for i in range(len(indptr) - 1)
        for side in (0, 1)
        for j in indices[indptr[i] : indptr[i + 1]]
        for part in (0, 1)
    ]
    return np.array(rows)


def some(dice: np.random.Generator, n: int, density: float) -> tuple[Pattern, np.ndarray]:
    """A random symmetric pattern, and a matrix on it whose diagonal does not rule."""
    there = dice.random((n, n)) < density
    there |= there.T
    np.fill_diagonal(there, True)
    dense = dice.normal(size=(2 * n, 2 * n)) * np.kron(there, np.ones((2, 2)))
    return pattern_of(there), dense + np.diag(dice.normal(size=2 * n) * 2)


@pytest.mark.parametrize("seed", range(40))
def test_any_pattern_is_solved_like_dense_algebra(seed: int) -> None:
    dice = np.random.default_rng(seed)
    pattern, dense = some(dice, int(dice.integers(1, 30)), float(dice.random()) ** 2)
    lu = BlockLU(*pattern)
    for _ in range(3):  # new values on the pattern
        dense = dense * dice.uniform(0.5, 1.5, dense.shape)
        lu.factorise(values_of(dense, pattern))
        rhs = dice.normal(size=(3, len(dense)))
        right = np.linalg.solve(dense, rhs.T).T
        near = 1e-9 * np.linalg.cond(dense) ** 0.5 * np.abs(right).max()
        assert lu.solve(rhs) == pytest.approx(right, abs=near)
        assert lu.solve(rhs[1]) == pytest.approx(right[1], abs=near)
        assert lu.determinant_sign() == np.linalg.slogdet(dense)[0]


def test_what_a_caller_gave_stays_as_it_was() -> None:
    pattern, dense = some(np.random.default_rng(3), 6, 0.4)
    values, rhs = values_of(dense, pattern), np.ones(12)
    lu = BlockLU(*pattern)
    before = values.copy()
    lu.factorise(values)
    lu.solve(rhs)
    lu.solve(np.vstack([rhs, rhs]))
    assert np.array_equal(values, before)
    assert np.array_equal(rhs, np.ones(12))


@pytest.mark.parametrize(
    ("size", "careful"), [(0.0, True), (0.0, False), (1e-12, True), (1e-12, False), (1e-9, True), (1e-6, True)]
)
def test_pivots_that_vanish_or_lose_their_digits_are_exchanged(size: float, *, careful: bool) -> None:
    """The first pivot is next to nothing beside its row; the matrix as a whole is as good as any."""
    dice = np.random.default_rng(1)
    pattern, dense = some(dice, 8, 0.6)
    dense[0:2, 0:2] = size * np.array([[1.0, 0.3], [-0.2, 0.7]])
    dense[2:4, 0:2] = dense[0:2, 2:4] = np.eye(2)
    pattern = pattern_of(np.abs(dense).reshape(8, 2, 8, 2).sum(axis=(1, 3)) + np.eye(8) > 0)
    lu = BlockLU(*pattern)
    values = values_of(dense, pattern)
    if careful:
        lu.factorise(values)
    else:  # what is left of a pivot tells by itself
        lu.refactorise(values)
    rhs = dice.normal(size=16)
    assert lu.solve(rhs) == pytest.approx(np.linalg.solve(dense, rhs), rel=1e-7, abs=1e-9)
    assert lu.solve(np.vstack([rhs, 2 * rhs]))[1] == pytest.approx(2 * np.linalg.solve(dense, rhs), rel=1e-7, abs=1e-9)
    assert lu.determinant_sign() == np.linalg.slogdet(dense)[0]
    # And the next values, with good pivots, need no exchange.
    good = dense + 10 * np.eye(16)
    lu.refactorise(values_of(good, pattern))
    assert not lu._exchanged
    assert lu.solve(rhs) == pytest.approx(np.linalg.solve(good, rhs))


def test_refuses_what_can_not_be_factorised() -> None:
    pattern = pattern_of(np.ones((2, 2), np.bool_))
    lu = BlockLU(*pattern)
    with pytest.raises(SingularMatrix):
        lu.factorise(np.ones(16))
    with pytest.raises(SingularMatrix):
        lu.refactorise(np.ones(16))
    with pytest.raises(SingularMatrix, match="finite"):
        lu.factorise(np.full(16, np.nan))
    with pytest.raises(ValueError, match="3"):
        lu.factorise(np.ones(3))
    lu.factorise(values_of(np.eye(4), pattern))  # and works again afterwards
    assert lu.solve(np.arange(4.0)) == pytest.approx(np.arange(4.0))


def test_what_is_left_of_equations_is_told_as_a_share_of_their_terms() -> None:
    pattern, dense = some(np.random.default_rng(8), 5, 0.5)
    values, rhs = values_of(dense, pattern), np.ones(10)
    x = np.linalg.solve(dense, rhs)
    assert left_over(*pattern, values, x, rhs) < 1e-14
    off = x + 1e-3 * np.eye(10)[4]
    shares = np.abs(rhs - dense @ off) / (np.abs(dense) @ np.abs(off) + 1)
    assert left_over(*pattern, values, off, rhs) == pytest.approx(shares.max())
    assert left_over(*pattern, values, np.full(10, np.nan), rhs) == np.inf


@pytest.mark.parametrize("left", [0.0, 1e-12, 1e-9, 1e-4])
def test_a_load_flow_past_a_bus_whose_reactances_cancel(left: float) -> None:
    """A series capacitor makes up for the line before it: nothing is left on the diagonal of the bus between.

    Known answer: both together are what is left of them, in a row with a ring to the load, one side of it twice as long.
    """
    x = 0.4
    items = [bus(b, 20.0) for b in "amzef"]
    lines = [line(frm, to, r_ohm_per_km=0.5, x_ohm_per_km=0.3) for frm, to in ("am", "mz", "ze", "zf", "fe")]
    arrays = compile_network(network(*items, source("a"), *lines, load("e", 6.0, 2.0)))
    branch, ohms = arrays.tables["branch"], 20**2 / arrays.base_mva
    branch["r"][:2], branch["x"][:2] = 0.0, np.array([x, -x * (1 - left)]) / ohms
    problem = Problem(arrays)
    solution = problem.solve(arrays, LoadFlowOptions(tolerance_pu=1e-12))
    assert solution.attempt.ending is Ending.CONVERGED
    v = dict(zip(arrays.bus_id, solution.attempt.state.v[problem.row_of(np.arange(arrays.n_bus))], strict=True))
    z = (complex(0.5, 0.3) * 2 / 3 + 1j * x * left) / 20**2
    found = 1.0 + 0j
    for _ in range(200):
        found = 1.0 - z * np.conj(complex(6.0, 2.0) / found)
    assert v["e"] == pytest.approx(abs(found), abs=1e-9)
    assert problem.lu is not None
    assert (problem.lu._exchanging is not None) == (left < 1e-11)  # rows are exchanged where they have to be
