"""Sparse factorisation, compiled arrays and topology, against dense algebra."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.sparse import csc_array, csr_array, random_array

from tests.helpers import bus, line, load, network, networks, source, switch
from vastmesh.core.electrical import SparseLU, compile_network, nodal_pattern, nodal_values, trace, two_ports
from vastmesh.core.electrical.sparse import interleaved_pattern
from vastmesh.core.errors import SingularMatrix
from vastmesh.core.flow.balanced import Problem
from vastmesh.core.flow.balanced._kernel import mismatch_and_jacobian, rectangular
from vastmesh.core.network import Network


def random_matrix(n: int, seed: int, *, complex_: bool = False) -> csc_array:
    rng = np.random.default_rng(seed)
    m = csc_array(random_array((n, n), density=0.2, rng=rng) + csc_array(np.eye(n) * (2 + n * 0.2)))
    m = m.astype(complex) if complex_ else m
    if complex_:
        m.data = m.data + 1j * rng.random(len(m.data))
    m.sort_indices()
    return m


@pytest.mark.parametrize("complex_", [False, True])
def test_solves_like_dense_algebra_one_and_several_right_hand_sides(complex_: bool) -> None:
    m = random_matrix(40, 1, complex_=complex_)
    with SparseLU(m.indptr, m.indices, complex_=complex_) as lu:
        lu.factorise(m.data)
        b = np.random.default_rng(2).random((3, 40)) + 0j * complex_
        b = b if complex_ else b.real
        assert lu.solve(b[0]) == pytest.approx(np.linalg.solve(m.toarray(), b[0]), abs=1e-11)
        assert lu.solve(b) == pytest.approx(np.linalg.solve(m.toarray(), b.T).T, abs=1e-11)


def test_refactorises_new_values_on_the_old_pattern() -> None:
    m = random_matrix(30, 3)
    lu = SparseLU(m.indptr, m.indices)
    lu.factorise(m.data)
    other = m.copy()
    other.data = m.data * np.linspace(0.5, 2.0, len(m.data))
    lu.factorise(other.data)
    assert lu.solve(np.ones(30)) == pytest.approx(np.linalg.solve(other.toarray(), np.ones(30)), abs=1e-10)


def test_pivots_anew_when_old_pivots_vanish() -> None:
    """[[1, 1], [1, 0]] pivots on the diagonal; [[0, 1], [1, 0]] cannot."""
    indptr, indices = np.array([0, 2, 4]), np.array([0, 1, 0, 1])
    lu = SparseLU(indptr, indices)
    lu.factorise(np.array([4.0, 1.0, 1.0, 4.0]))
    lu.factorise(np.array([0.0, 1.0, 1.0, 0.0]))
    assert lu.solve(np.array([2.0, 3.0])) == pytest.approx([3.0, 2.0])


def test_refuses_what_can_not_be_factorised() -> None:
    indptr, indices = np.array([0, 2, 4]), np.array([0, 1, 0, 1])
    lu = SparseLU(indptr, indices)
    with pytest.raises(SingularMatrix):
        lu.factorise(np.ones(4))
    with pytest.raises(SingularMatrix, match="finite"):
        lu.factorise(np.array([1.0, np.nan, 0.0, 1.0]))
    with pytest.raises(ValueError, match="3"):
        lu.factorise(np.ones(3))
    lu.factorise(np.array([1.0, 0.0, 0.0, 1.0]))  # and works again afterwards
    assert lu.solve(np.array([1.0, 2.0])) == pytest.approx([1.0, 2.0])
    with pytest.raises(ValueError, match="sorted"):
        SparseLU(indptr, np.array([1, 0, 0, 1]))


def dense_admittance(net: Network) -> tuple[np.ndarray, np.ndarray]:
    """The nodal matrix by loops over branches, and the matrix row of each bus."""
    arrays = compile_network(net)
    pattern = nodal_pattern(arrays, trace(arrays))
    y = np.zeros((pattern.n, pattern.n), complex)
    branch = arrays.tables["branch"]
    for k in range(len(branch["from"])):
        f, t = pattern.row[branch["from"][k]], pattern.row[branch["to"][k]]
        if f < 0:
            continue
        series = 1 / complex(branch["r"][k], branch["x"][k])
        a = branch["ratio_from"][k] * np.exp(1j * branch["shift"][k])
        b = branch["ratio_to"][k]
        inner = np.array([[series + branch["shunt_from"][k], -series], [-series, series + branch["shunt_to"][k]]])
        outer = np.diag([1 / np.conj(a), 1 / b]) @ inner @ np.diag([1 / a, 1 / b])
        y[np.ix_([f, t], [f, t])] += outer
    for k, at in enumerate(arrays.tables["shunt"]["bus"]):
        if pattern.row[at] >= 0:
            y[pattern.row[at], pattern.row[at]] += arrays.tables["shunt"]["y"][k]
    return y, pattern.row


@settings(max_examples=30, deadline=None)
@given(networks())
def test_nodal_matrix_equals_one_summed_branch_by_branch(net: Network) -> None:
    arrays = compile_network(net)
    pattern = nodal_pattern(arrays, trace(arrays))
    values = nodal_values(pattern, two_ports(arrays.tables["branch"]), arrays.tables["shunt"])
    sparse = csc_array((values, pattern.indices, pattern.indptr), shape=(pattern.n, pattern.n)).toarray()
    dense, _ = dense_admittance(net)
    assert sparse == pytest.approx(dense, abs=1e-9)
    assert np.array_equal((sparse != 0), (sparse != 0).T)


@settings(max_examples=25, deadline=None)
@given(networks(most_buses=7), st.integers(0, 10_000))
def test_jacobian_equals_finite_differences(net: Network, seed: int) -> None:
    """Analytical derivatives against central differences, for mixed node types and voltage-dependent demand."""
    arrays = compile_network(net)
    problem = Problem(arrays)
    targets = problem.targets(arrays)
    nodal = problem.admittance(arrays)
    y = nodal.by_rows
    n, pattern = problem.n, problem.pattern
    rng = np.random.default_rng(seed)
    kinds = targets.node_type.copy()
    kinds[(kinds == 0) & (rng.random(n) < 0.3)] = 1
    theta, v = rng.normal(0, 0.2, n), rng.uniform(0.8, 1.1, n)
    ptr, rows = interleaved_pattern(pattern.indptr, pattern.indices)

    def evaluate(x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        index = problem.index
        f, jac, p, q = np.zeros(2 * n), np.zeros(len(rows)), np.zeros(n), np.zeros(n)
        mismatch_and_jacobian(
            *index, *y, x[::2].copy(), np.exp(x[1::2]),
            targets.p0, targets.q0, targets.p1, targets.q1, targets.p2, targets.q2, kinds, f, jac, p, q,
        )  # fmt: skip
        return f, jac

    x = np.empty(2 * n)
    x[::2], x[1::2] = theta, np.log(v)
    analytic = csr_array((evaluate(x)[1], rows, ptr), shape=(2 * n, 2 * n)).toarray()
    step = 1e-6
    for j in range(2 * n):
        e = np.zeros(2 * n)
        e[j] = step
        numeric = (evaluate(x + e)[0] - evaluate(x - e)[0]) / (2 * step)
        free = np.ones(2 * n, bool)
        free[::2] = kinds != 2
        free[1::2] = kinds == 0
        scale = max(np.abs(analytic).max(), 1.0)
        assert analytic[free, j] == pytest.approx(numeric[free], abs=2e-7 * scale)
        assert np.array_equal(analytic[~free, j], np.eye(2 * n)[~free, j])


def test_islands_nodes_and_supply_are_traced() -> None:
    net = network(
        bus("a"), bus("b"), bus("c"), bus("d"), bus("e"), source("a"), switch("a", "b"), line("b", "c"),
        switch("c", "d", closed=False), line("d", "e"), load("e", 1.0),
    )  # fmt: skip
    arrays = compile_network(net)
    found = trace(arrays)
    row = {b: i for i, b in enumerate(arrays.bus_id)}
    assert found.node[row["a"]] == found.node[row["b"]] != found.node[row["c"]]
    assert found.n_island == 2
    assert found.live.tolist() == [True, True, True, False, False]


def test_out_of_service_bus_takes_its_equipment_out() -> None:
    net = network(bus("a"), bus("b", in_service=False), bus("c"), source("a"), line("a", "b"), line("b", "c"))
    arrays = compile_network(net)
    assert arrays.bus_id == ["a", "c"]
    assert len(arrays.tables["branch"]["from"]) == 0
    assert trace(arrays).live.tolist() == [True, False]


def test_ohms_stay_ohms_between_buses_of_different_nominal_voltage() -> None:
    """A line between an 11 kV and an 11.5 kV bus sees the same ohms from either side."""
    net = network(bus("a", 11.0), bus("b", 11.5), source("a"), line("a", "b"))
    ports = two_ports(compile_network(net).tables["branch"])
    z = 0.3 + 0.35j
    assert 1 / ports.ff[0] * 11.0**2 / 100 == pytest.approx(z)
    assert 1 / ports.tt[0] * 11.5**2 / 100 == pytest.approx(z)


def test_vectorised_sine_and_cosine_equal_the_library_to_the_last_places() -> None:
    rng = np.random.default_rng(5)
    edges = np.arange(-40, 41) * np.pi / 4
    theta = np.concatenate(
        [rng.uniform(-7, 7, 20_000), rng.uniform(-1000, 1000, 2_000), edges, edges + 1e-9, [0.0, -0.0]]
    )
    v = rng.uniform(0.2, 1.8, len(theta))
    e, h = np.empty_like(v), np.empty_like(v)
    rectangular(v, theta, e, h)
    assert np.abs(e - v * np.cos(theta)).max() < 1e-15
    assert np.abs(h - v * np.sin(theta)).max() < 1e-15


@settings(max_examples=20, deadline=None)
@given(networks())
def test_one_pass_assembly_equals_the_formulas(net: Network) -> None:
    arrays = compile_network(net)
    problem = Problem(arrays)
    nodal = problem.admittance(arrays)
    ports, g, b = nodal.ports, nodal.g, nodal.b
    plain = two_ports(arrays.tables["branch"])
    for name in ("ff", "ft", "tf", "tt"):
        assert getattr(ports, name) == pytest.approx(getattr(plain, name), rel=1e-13)
    assert g + 1j * b == pytest.approx(
        nodal_values(problem.pattern, plain, arrays.tables["shunt"]), rel=1e-12, abs=1e-12
    )
