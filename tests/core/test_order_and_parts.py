"""Parts of a graph against a library's, and the order of elimination: what it costs, and that it changes no answer."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.sparse import coo_array, csc_array, eye_array
from scipy.sparse.csgraph import connected_components

from vastmesh.core.electrical import SparseLU
from vastmesh.core.electrical.sparse import elimination_order
from vastmesh.core.electrical.topology import components


@pytest.mark.parametrize("seed", range(20))
def test_parts_are_those_of_a_library_in_the_order_of_their_first_nodes(seed: int) -> None:
    dice = np.random.default_rng(seed)
    for _ in range(20):
        n = int(dice.integers(1, 60))
        frm, to = dice.integers(0, n, (2, int(dice.integers(0, 2 * n))))
        count, part = components(n, frm, to)
        other, label = connected_components(
            coo_array((np.ones(len(frm)), (frm, to)), shape=(n, n)).tocsr(), directed=False
        )
        assert count == other
        assert np.array_equal(part, label)
    assert components(0, frm[:0], to[:0])[0] == 0


def grid(side: int) -> csc_array:
    """Laplace's operator on a square, a little more on its diagonal."""
    n, at = side * side, np.arange(side * side).reshape(side, side)
    frm, to = np.r_[at[:, :-1].ravel(), at[:-1].ravel()], np.r_[at[:, 1:].ravel(), at[1:].ravel()]
    edges = coo_array((-np.ones(2 * len(frm)), (np.r_[frm, to], np.r_[to, frm])), shape=(n, n)).tocsc()
    found = (edges + eye_array(n) * 4.1).tocsc()
    found.sort_indices()
    return csc_array(found)


def test_an_order_of_elimination_fills_little_and_changes_no_answer() -> None:
    a = grid(20)
    order = elimination_order(a.indptr, a.indices)
    assert np.array_equal(np.sort(order), np.arange(400))
    b = csc_array(a[order][:, order])
    b.sort_indices()
    rhs = np.random.default_rng(3).random(400)
    filled = []
    for matrix, in_order in ((a, False), (b, True), (a, True)):
        lu = SparseLU(matrix.indptr, matrix.indices, in_order=in_order)
        lu.factorise(matrix.data)
        right = rhs if matrix is a else rhs[order]
        assert np.allclose(matrix @ lu.solve(right), right)
        filled.append(lu._klu.numeric.lnz)
    # As few as the library's own order, and far fewer than in the order in which the nodes came.
    assert filled[1] == pytest.approx(filled[0], rel=0.05)
    assert filled[1] < 0.6 * filled[2]


def test_no_node_has_an_order_too() -> None:
    assert len(elimination_order(np.zeros(1, np.int64), np.zeros(0, np.int64))) == 0
