"""Fault currents against dense algebra and circuits reduced by hand."""

from __future__ import annotations

from math import sqrt

import numpy as np
import pytest
from hypothesis import given, settings

from tests.helpers import bus, line, load, network, networks, source, switch, transformer
from vastmesh.core.electrical import compile_network, nodal_pattern, trace, two_ports
from vastmesh.core.electrical.fault import fault_current_ka
from vastmesh.core.network import Add, Network, Update


@settings(max_examples=30, deadline=None)
@given(networks())
def test_agrees_with_the_dense_impedance_matrix(net: Network) -> None:
    """Z = Y⁻¹ with the source behind its impedance; I = c U / √3 |Z_kk|."""
    arrays = compile_network(net)
    topology = trace(arrays)
    pattern = nodal_pattern(arrays, topology)
    row = dict(zip(arrays.bus_id, pattern.row.tolist(), strict=True))
    branch = arrays.tables["branch"]
    bare = {**branch, "shunt_from": branch["shunt_from"] * 0, "shunt_to": branch["shunt_to"] * 0}
    ports = two_ports(bare)
    y = np.zeros((pattern.n, pattern.n), complex)
    for k in range(len(branch["from"])):
        f, t = pattern.row[branch["from"][k]], pattern.row[branch["to"][k]]
        y[f, f] += ports.ff[k]
        y[f, t] += ports.ft[k]
        y[t, f] += ports.tf[k]
        y[t, t] += ports.tt[k]
    z_source = 1.1 * arrays.base_mva / 1000.0 * complex(1, 10) / abs(complex(1, 10))
    y[row["b0"], row["b0"]] += 1 / z_source
    z = np.linalg.inv(y)
    found = fault_current_ka(net, arrays.bus_id)
    for ident, kv in zip(arrays.bus_id, arrays.bus_kv.tolist(), strict=True):
        expected = 1.1 * arrays.base_mva / abs(z[row[ident], row[ident]]) / sqrt(3) / kv
        assert found[ident] == pytest.approx(expected, rel=1e-8)


def test_two_equal_ways_halve_the_impedance() -> None:
    one = network(bus("G", 33), source("G", fault_max_mva=1e6), bus("S"), transformer("G", "S"))
    two = network(
        bus("G", 33), source("G", fault_max_mva=1e6), bus("S"), transformer("G", "S"), transformer("G", "S", id="T2")
    )
    single, double = fault_current_ka(one, ["S"])["S"], fault_current_ka(two, ["S"])["S"]
    assert double == pytest.approx(2 * single, rel=1e-2)


def test_an_open_switch_and_dead_parts_feed_nothing() -> None:
    net = network(bus("a"), source("a"), bus("b"), switch("a", "b", closed=False), load("b", 1.0))
    assert set(fault_current_ka(net, ["a", "b"])) == {"a"}
    net.apply([Update(id="a|b", values={"closed": True})])
    found = fault_current_ka(net, ["a", "b"])
    assert found["a"] == pytest.approx(found["b"])


def test_at_low_voltage_the_factor_is_smaller() -> None:
    net = network(bus("a", 0.4), source("a", fault_max_mva=20.0, fault_min_mva=10.0))
    assert fault_current_ka(net, ["a"])["a"] == pytest.approx(20 / sqrt(3) / 0.4)


@pytest.mark.parametrize(
    ("machine", "share"),
    [({"kind": "generator", "rated_mva": 20.0, "active_power_mw": 10.0, "xd_pct": 20.0}, 20 / 0.20),
     ({"kind": "synchronous_motor", "rated_kw": 9600, "efficiency_pct": 96, "power_factor": 1.0, "xd_pct": 25.0}, 10 / 0.25)],
)  # fmt: skip
def test_machines_feed_by_their_reactance(machine: dict, share: float) -> None:
    """A machine beside a very weak, reactive source feeds about its rating over its reactance, in MVA."""
    net = network(bus("a", 11), source("a", fault_max_mva=1.0, fault_min_mva=0.5, x_over_r=1000.0))
    before = fault_current_ka(net, ["a"])["a"]
    net.apply([Add(item={"id": "M", "bus": "a", **machine})])
    added = (fault_current_ka(net, ["a"])["a"] - before) * sqrt(3) * 11
    assert added == pytest.approx(1.1 * share, rel=1e-3)


def test_distance_lowers_the_fault_level() -> None:
    stations = [bus(f"b{n}") for n in range(1, 6)]
    lines = [line(f"b{n}" if n else "a", f"b{n + 1}", length_km=2.0) for n in range(5)]
    net = network(bus("a"), source("a"), *stations, *lines)
    found = fault_current_ka(net, ["a", *(f"b{n}" for n in range(1, 6))])
    assert list(found.values()) == sorted(found.values(), reverse=True)
