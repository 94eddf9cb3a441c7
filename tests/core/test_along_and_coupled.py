"""Demand spread along a line, and lines on one tower, against integrals, closed forms and plain admittance matrices."""

from __future__ import annotations

from itertools import product
from math import sqrt
from typing import Any

import numpy as np
import pytest

from tests.core.test_per_phase_cases import at, net, read, stiff
from tests.helpers import Item, bus, line, load, source
from vastmesh.core.checks import run_checks
from vastmesh.core.electrical.conductor import compile_conductors, find_gaps
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Network, Update, removal
from vastmesh.core.results.state import run_load_flow, run_unbalanced
from vastmesh.core.studies.load_flow import explain_flow, explain_phases


def spread(parts: int, *, far_mw: float = 1.0) -> list[Item]:
    """6 MW drawn evenly along 10 km, by many loads each at the middle of its piece, and more at the end."""
    items: list[Item] = [bus("a", 33), source("a", fault_max_mva=1e6, fault_min_mva=1e6)]
    before, km = "a", 10 / parts
    for k in range(parts):
        items += [
            bus(f"m{k}", 33),
            line(before, f"m{k}", length_km=km / 2 if k == 0 else km),
            load(f"m{k}", 6 / parts, 2 / parts),
        ]
        before = f"m{k}"
    return [*items, bus("b", 33), line(before, "b", length_km=km / 2), load("b", far_mw, 0.2)]


@pytest.mark.parametrize("supplied", ["from", "to"])
def test_the_drop_along_is_that_of_many_small_loads(supplied: str) -> None:
    """Whichever end supplies it, and far from an equal lump at either end."""
    many = run_load_flow(Network.from_items(spread(200)))
    a, b = ("a", "b") if supplied == "from" else ("b", "a")
    own = {"bus": "b"} if supplied == "from" else {"bus": "a"}
    items = [bus("a", 33), bus("b", 33), source("a", fault_max_mva=1e6, fault_min_mva=1e6), line(a, b, length_km=10),
             load("b", 1.0, 0.2), {**load("s", 6, 2, along=f"{a}-{b}"), **own}]  # fmt: skip
    one = run_load_flow(Network.from_items(items))
    lump = run_load_flow(Network.from_items([*items[:-1], load("b", 6, 2, id="s")]))
    exact, found, far = (at(r, "buses", "b", "voltage_pu") for r in (many, one, lump))
    assert found == pytest.approx(exact, abs=0.01 * (1 - exact))
    assert abs(far - exact) > 0.4 * (1 - exact)
    assert at(one, "injections", "load-s", "active_power_mw") == pytest.approx(6)
    assert at(one, "injections", "load-s", "current_a") == pytest.approx(abs(6 + 2j) / 33 / sqrt(3) * 1e3, rel=0.02)


@pytest.mark.parametrize(
    ("conductors", "connection"), [("ABC", "wye"), ("ABC", "delta"), ("ABCN", "wye"), ("BN", "wye"), ("AC", "wye")]
)
def test_per_phase_draws_half_at_each_end(conductors: str, connection: str) -> None:
    """The same as two loads of half the size, whatever the connection."""
    ends = [
        bus("a", 0.4, conductors="ABCN"),
        stiff(),
        bus("b", 0.4, conductors="ABCN"),
        line("a", "b", conductors="ABCN", length_km=0.3),
    ]
    kind = {
        "conductors": conductors,
        "connection": connection,
        "constant_power_pct": 40.0,
        "constant_impedance_pct": 60.0,
    }
    one = run_unbalanced(net(*ends, load("b", 0.02, 0.006, along="a-b", **kind)))
    two = run_unbalanced(net(*ends, load("b", 0.01, 0.003, **kind), load("a", 0.01, 0.003, **kind)))
    for phase, n in product("abc", "ab"):
        column = f"phase_{phase}_voltage_pu"
        assert at(one, "buses", n, column) == pytest.approx(at(two, "buses", n, column), abs=1e-9)
    for name in ("active_power_mw", "phase_a_power_mw", "phase_b_power_mw", "phase_c_power_mw"):
        whole, parts = at(one, "injections", "load-b", name), [at(two, "injections", f"load-{n}", name) for n in "ab"]
        assert np.nan_to_num(whole) == pytest.approx(np.nan_to_num(parts).sum(), abs=1e-9)


def test_a_shunt_in_delta_draws_from_all_its_phases() -> None:
    items = [bus("a", 11.0), stiff(), {"kind": "shunt", "id": "c", "bus": "a", "step_mvar": 0.9, "steps": 1, "steps_on": 1,
                                       "connection": "delta"}]  # fmt: skip
    found = run_unbalanced(net(*items))
    for phase in "abc":
        assert at(found, "injections", "c", f"phase_{phase}_current_a") == pytest.approx(900 / 11 / sqrt(3), rel=1e-3)
    assert at(found, "injections", "c", "neutral_current_a") == pytest.approx(0, abs=1e-6)


def test_a_line_that_is_gone_leaves_the_load_at_its_bus() -> None:
    items = [bus("a"), source("a"), bus("b"), bus("c"), line("a", "b"), line("b", "c"), load("b", 1.0, along="b-c")]
    network = Network.from_items(items)
    assert at(run_load_flow(network), "buses", "c", "demand_mw") == pytest.approx(0.5)
    network.apply([Update(id="b-c", values={"in_service": False})])
    assert at(run_load_flow(network), "buses", "b", "demand_mw") == pytest.approx(1.0)
    network.apply(removal(network, ["b-c"]))
    assert network["load-b"].along is None  # type: ignore[attr-defined]
    network.apply([Update(id="load-b", values={"along": "a-b"}), Update(id="load-b", values={"bus": "c"})])
    assert any(c.element == "load-b" and c.field == "along" for c in run_checks(network))


def test_it_explains_the_demand_of_both_ends() -> None:
    items = [bus("a", 11), source("a"), bus("b", 11), line("a", "b", length_km=9), load(
        "b", 2.0, 0.5, along="a-b", constant_power_pct=0.0, constant_impedance_pct=100.0)]  # fmt: skip
    network = Network.from_items(items)
    found = explain_flow(network, run_load_flow(network).tables, network.condition, "load-b")
    solver = [(c.value, c.solver) for w in found for c in w.ledger if c.solver is not None]
    assert len(solver) == 2
    assert all(value == pytest.approx(given, rel=1e-6) for value, given in solver)


# Lines on one tower


def circuit(ident: str, frm: str, to: str, **more: Any) -> Item:
    return {"kind": "line", "id": ident, "from_bus": frm, "to_bus": to, "length_km": 20.0, "r_ohm_per_km": 0.12,
            "x_ohm_per_km": 0.4, "r0_ohm_per_km": 0.3, "x0_ohm_per_km": 1.3, **more}  # fmt: skip


MUTUAL = {"beside_r0_ohm_per_km": 0.18, "beside_x0_ohm_per_km": 0.7}


def heavy(at_bus: str) -> Item:
    """30 MW and 10 Mvar at 110 kV from one phase to earth, as an impedance."""
    return load(at_bus, 30.0, 10.0, conductors="A", constant_power_pct=0.0, constant_impedance_pct=100.0)


@pytest.mark.parametrize("way", ["same", "opposite"])
def test_two_circuits_share_one_phase_current(way: str) -> None:
    """Half the current in each: each drops by its own term and by the mutual one, a third of the zero-sequence one."""
    ends = ("a", "b") if way == "same" else ("b", "a")
    items = [bus("a", 110), stiff(), bus("b", 110), circuit("one", "a", "b"),
             circuit("two", *ends, beside="one", beside_way=way, **MUTUAL), heavy("b")]  # fmt: skip
    r = read(net(*items, base_mva=100))
    volts = 110e3 / sqrt(3)
    z_load = volts**2 / complex(30e6, -10e6)
    own, between = (complex(0.3, 1.3) + 2 * complex(0.12, 0.4)) / 3, complex(0.18, 0.7) / 3
    drop = 20 * (own + between) / 2
    assert r.bus_v[1, 0] / r.bus_v[0, 0] == pytest.approx(z_load / (z_load + drop), rel=1e-6)
    line_power = r.element_power[[r.arrays.element_id.index(i) for i in ("one", "two")]].sum()
    assert line_power.real == pytest.approx((drop * (abs(r.bus_v[1, 0]) / abs(z_load)) ** 2).real, rel=1e-6)


@pytest.mark.parametrize(("sign", "more"), [(1, {}), (-1, {"beside_way": "opposite"}), (0.5, {"beside_km": 10.0})])
def test_an_open_circuit_is_induced_upon(sign: float, more: dict[str, Any]) -> None:
    """The circuit beside carries nothing: at its far end stands what the current next to it induces."""
    items = [bus("a", 110), stiff(), bus("b", 110), bus("c", 110), circuit("one", "a", "b"),
             circuit("two", "a", "c", beside="one", **MUTUAL, **more), heavy("b")]  # fmt: skip
    r = read(net(*items, base_mva=100))
    current = r.bus_v[1, 0] / ((110e3 / sqrt(3)) ** 2 / complex(30e6, -10e6))
    induced = sign * 20 * complex(0.18, 0.7) / 3 * current
    assert r.bus_v[2] - r.bus_v[0] == pytest.approx(
        np.array([-induced, -induced, -induced, np.nan]), rel=1e-4, nan_ok=True
    )


def test_coupled_lines_equal_a_dense_network() -> None:
    """Three circuits in a chain of couplings, with neutrals and susceptance, against one admittance matrix by hand."""
    rng = np.random.default_rng(8)
    for _ in range(12):
        km = rng.uniform(5, 20, 3)
        apart = rng.uniform(4, 30, 2)
        items = [bus(n, 110, conductors="ABC") for n in "abc"] + [stiff()]
        ends = [("a", "b"), ("b", "c"), ("a", "c")]
        for k, (frm, to) in enumerate(ends):
            more = {"beside": f"l{k - 1}", "beside_m": apart[k - 1]} if k else {}
            items.append(circuit(f"l{k}", frm, to, length_km=km[k], b_us_per_km=3.0, b0_us_per_km=1.8, **more))
        draws = rng.uniform(2, 20, 2)
        items += [load(n, p, 0.3 * p, conductors=c, constant_power_pct=0.0, constant_impedance_pct=100.0)
                  for n, p, c in zip("bc", draws, "AB", strict=True)]  # fmt: skip
        r = read(net(*items, base_mva=100))
        z = np.zeros((9, 9), np.complex128)
        shunt = np.zeros((9, 9), np.complex128)
        z1, z0 = complex(0.12, 0.4), complex(0.3, 1.3)
        for k in range(3):
            s = slice(3 * k, 3 * k + 3)
            z[s, s] = km[k] * (np.full((3, 3), (z0 - z1) / 3) + np.eye(3) * z1)
            own = np.full((3, 3), (1.8 - 3.0) / 3) + np.eye(3) * 3.0
            for n in ends[k]:
                t = slice(3 * "abc".index(n), 3 * "abc".index(n) + 3)
                shunt[t, t] += 0.5j * 1e-6 * km[k] * own
        for k in range(2):
            depth = 658.37 * sqrt(100 / 50)
            m = (np.pi**2 * 50 * 1e-4 + 2j * np.pi * 50 * 2e-4 * np.log(depth / apart[k])) * min(km[k], km[k + 1])
            z[3 * k : 3 * k + 3, 3 * k + 3 : 3 * k + 6] = z[3 * k + 3 : 3 * k + 6, 3 * k : 3 * k + 3] = m
        incidence = np.zeros((9, 9))
        for k, (frm, to) in enumerate(ends):
            for c in range(3):
                incidence[3 * "abc".index(frm) + c, 3 * k + c] = 1
                incidence[3 * "abc".index(to) + c, 3 * k + c] = -1
        y = incidence @ np.linalg.inv(z) @ incidence.T + shunt
        for n, p, c in zip("bc", draws, "AB", strict=True):
            at_node = 3 * "abc".index(n) + "ABC".index(c)
            y[at_node, at_node] += complex(p, -0.3 * p) * 1e6 / (110e3 / sqrt(3)) ** 2
        v = r.bus_v[:, :3].ravel()
        assert np.linalg.solve(y[3:, 3:], -y[3:, :3] @ v[:3]) == pytest.approx(v[3:], rel=5e-6)
        assert float(np.nanmax(np.abs(r.kirchhoff))) < 1e-8


def test_what_cannot_be_coupled_is_told() -> None:
    items = [bus("a", 110), stiff(), bus("b", 110), circuit("one", "a", "b"),
             circuit("two", "a", "b", beside="one", beside_x0_ohm_per_km=2.0), heavy("b")]  # fmt: skip
    network = net(*items)
    assert [c.field for c in run_checks(network) if c.rule == "phases"] == ["beside"]
    alone = read(net(*items[:-2], circuit("two", "a", "b"), heavy("b")))
    assert read(network).bus_v == pytest.approx(alone.bus_v, nan_ok=True)
    network.apply([Update(id="two", values={"beside_x0_ohm_per_km": 0.5, "beside_km": 21.0})])
    assert [c.field for c in run_checks(network) if c.rule == "phases"] == ["beside_km"]
    with pytest.raises(InvalidFields, match="another line"):
        network.apply([Update(id="two", values={"beside": "two"})])


def test_three_lines_are_coupled_no_more_than_three_lines_can_be() -> None:
    """Each pair by itself could be; all together their currents could give energy away."""
    strong = {"beside_x0_ohm_per_km": 1.1, "beside_r0_ohm_per_km": 0.1}
    items = [bus("a", 110), stiff(), bus("b", 110), circuit("one", "a", "b"), circuit("two", "a", "b", beside="one", **strong),
             circuit("three", "a", "b", beside="two", **strong), heavy("b")]  # fmt: skip
    network = net(*items)
    assert [(c.element, c.field) for c in run_checks(network) if c.rule == "phases"] == [("three", "beside")]
    r = read(network)
    assert all(r.element_power[r.arrays.element_id.index(i)].sum().real > 0 for i in ("one", "two", "three"))
    network.apply([Update(id="three", values={"beside_x0_ohm_per_km": 0.3})])
    assert not [c for c in run_checks(network) if c.rule == "phases"]
    network.apply([Update(id="one", values={"beside": "two"})])
    assert [(c.element, c.severity.value) for c in run_checks(network) if c.rule == "phases"] == [("two", "watch")]


def test_the_balanced_flow_knows_no_coupling() -> None:
    items = [bus("a", 110), stiff(), bus("b", 110), circuit("one", "a", "b"), load("b", 60, 20)]
    without, coupled = (run_load_flow(Network.from_items([*items, circuit("two", "a", "b", **more)]))
                        for more in ({}, {"beside": "one", **MUTUAL}))  # fmt: skip
    assert at(coupled, "buses", "b", "voltage_pu") == at(without, "buses", "b", "voltage_pu")
    per_phase = run_unbalanced(Network.from_items([*items, circuit("two", "a", "b", beside="one", **MUTUAL)]))
    assert at(per_phase, "buses", "b", "voltage_pu") == pytest.approx(at(without, "buses", "b", "voltage_pu"), abs=1e-5)


def test_gaps_are_found_without_compiling_what_has_none() -> None:
    """The quick way tells the same as compiling everything, whatever is missing."""
    base = [bus("a", 11), source("a"), bus("b", 11), bus("c", 0.4, conductors="ABCN"), bus("d", 0.4, conductors="BN"),
            line("a", "b"), line("c", "d", conductors="ABCN"), load("b", 0.3), load("d", 0.01, conductors="AN"),
            load("c", 0.01, id="delta", p_a_mw=0.003, p_b_mw=0.007, active_power_mw=None, reactive_power_mvar=None),
            load("b", 0.2, id="along", along="a-b"), {"kind": "regulator", "id": "r", "from_bus": "b", "to_bus": "c"},
            circuit("e", "a", "b", beside="a-b", beside_km=30.0), circuit("f", "a", "b", conductors="ABC", beside="a-b",
                                                                          beside_x0_ohm_per_km=90.0)]  # fmt: skip
    rng = np.random.default_rng(3)
    told = 0
    for _ in range(40):
        kept = [i for i in base if i["kind"] == "bus" or rng.random() < 0.7]
        there = {i["id"] for i in kept}
        gone = [("along",), ("beside", "beside_km", "beside_x0_ohm_per_km")]
        for group in gone:
            kept = [{k: v for k, v in i.items() if k not in group or i.get(group[0]) in there} for i in kept]
        network = net(*kept)
        every = compile_conductors(network).gaps
        assert find_gaps(network) == every
        told += len(every)
    assert told > 40


@pytest.mark.parametrize("more", [{}, MUTUAL, {"beside_m": 11.0, "beside_km": 4.0, "beside_way": "opposite"}])
def test_the_coupling_is_worked_out(more: dict[str, Any]) -> None:
    items = [bus("a", 110), stiff(), bus("b", 110), circuit("one", "a", "b"), circuit("two", "a", "b", beside="one", **more),
             heavy("b")]  # fmt: skip
    network = net(*items)
    found = {w.title: w for w in explain_phases(network, run_unbalanced(network).tables, "two")}["Coupling with one"]
    cells = {c.symbol: c for c in found.ledger}
    assert all(c.value == pytest.approx(c.solver, rel=1e-9) for c in cells.values() if c.solver is not None)
    z = (
        complex(0.18, 0.7)
        if "beside_x0_ohm_per_km" in more
        else 3 * complex(0.04935, 0.0628 * np.log(931 / more.get("beside_m", 6.0)))
    )
    sign = -1 if "beside_way" in more else 1
    assert complex(cells["r"].value, cells["x"].value) == pytest.approx(
        sign * z / 3 * more.get("beside_km", 20.0), rel=1e-3
    )
