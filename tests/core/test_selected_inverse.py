"""The diagonal of an inverse from sparse factors, against the whole inverse."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.sparse as sp

from vastmesh.core.electrical.sparse import SparseLU


def lu_of(a: np.ndarray) -> SparseLU:
    held = sp.csc_matrix(a)
    held.sort_indices()
    lu = SparseLU(held.indptr, held.indices, complex_=np.iscomplexobj(a))
    lu.factorise(held.data)
    return lu


def network_like(rng: np.random.Generator, n: int, more: int, *, complex_: bool) -> np.ndarray:
    """A tree with some further branches, unlike in both directions, and something to earth."""
    a = np.zeros((n, n), complex if complex_ else float)
    pairs = [(k, int(rng.integers(k))) for k in range(1, n)] + [tuple(rng.integers(n, size=2)) for _ in range(more)]
    for f, t in pairs:
        if f == t:
            continue
        y = rng.uniform(0.5, 2) - (1j * rng.uniform(1, 9) if complex_ else 0)
        turn = np.exp(1j * rng.uniform(-0.5, 0.5)) if complex_ else rng.uniform(0.9, 1.1)
        a[f, f] += y
        a[t, t] += y
        a[f, t] -= y * turn
        a[t, f] -= y * np.conj(turn)
    a[np.arange(n), np.arange(n)] += rng.uniform(0, 0.3, n) + (1j * rng.uniform(0, 6, n) if complex_ else 0)
    return a


@pytest.mark.parametrize("complex_", [False, True])
@pytest.mark.parametrize("seed", range(8))
def test_equals_the_whole_inverse(seed: int, complex_: bool) -> None:
    rng = np.random.default_rng(seed)
    n = int(rng.integers(1, 60))
    a = network_like(rng, n, int(rng.integers(0, 40)), complex_=complex_)
    expected = np.diag(np.linalg.inv(a))
    assert np.allclose(lu_of(a).inverse_diagonal(), expected, rtol=1e-8, atol=1e-10 * np.abs(expected).max())


def test_with_pivots_off_the_diagonal() -> None:
    a = np.array([[0, 2, 0, 1.0], [2, 0, 3, 0], [0, 3, 0, 1], [1, 0, 1, 0]])
    assert np.allclose(lu_of(a).inverse_diagonal(), np.diag(np.linalg.inv(a)), atol=1e-12)


def test_follows_new_values() -> None:
    rng = np.random.default_rng(3)
    a = network_like(rng, 30, 10, complex_=True)
    held = sp.csc_matrix(a)
    held.sort_indices()
    lu = SparseLU(held.indptr, held.indices, complex_=True)
    for scale in (1.0, 2.5, 0.1):
        b = a + scale * np.diag(np.diag(a))
        lu.factorise(np.ascontiguousarray(b[held.indices, np.repeat(np.arange(30), np.diff(held.indptr))]))
        assert np.allclose(lu.inverse_diagonal(), np.diag(np.linalg.inv(b)), rtol=1e-9)
