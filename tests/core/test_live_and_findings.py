"""The live load flow between edits, and what findings say at every side of every limit."""

from __future__ import annotations

import numpy as np
import pytest

from tests.helpers import bus, column, line, load, network, source, switch, transformer, volts
from vastmesh.core.electrical import apply_condition, compile_network, patch
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Add, Condition, Element, Network, Update, grow, removal
from vastmesh.core.results.state import LiveLoadFlow, run_load_flow
from vastmesh.core.severity import Severity


def edit(live: LiveLoadFlow, *changes: object) -> None:
    """Apply changes as the service does: network first, then the live load flow is told."""
    net = live.network
    before = dict(net.items)
    done = net.apply(changes)  # type: ignore[arg-type]
    live.changed([*done.changed, *done.removed], before)


def agrees_with_a_fresh_solve(live: LiveLoadFlow) -> bool:
    ours = live.solve(options=LoadFlowOptions(start="last", tolerance_pu=1e-11))
    theirs = run_load_flow(live.network, LoadFlowOptions(tolerance_pu=1e-11))
    return volts(ours) == pytest.approx(volts(theirs), abs=1e-8, nan_ok=True)


def test_the_last_solution_is_the_start_after_every_kind_of_edit(demo: Network) -> None:
    live = LiveLoadFlow(demo)
    live.solve()
    edits = [
        [Update(id="T-Q1", values={"rated_mva": 60.0})],
        [Update(id="Heron End demand", values={"active_power_mw": 0.5})],
        [Update(id="T-Saltern", values={"tap_position": -6})],
        [Update(id="Saltern F2-05", values={"length_km": 2.0})],
        grow(demo, "Heron End", "line").changes,
        grow(demo, "Quillport 33 A", "transformer").changes,
        removal(demo, ["Gorse Hill"]),
        [Update(id="Tie Moor End", values={"closed": True}), Update(id="Saltern F2-08", values={"in_service": False})],
        [Update(id="Thessel Head hydro", values={"voltage_pu": 1.03})],
        [Update(id="Quillport capacitors", values={"steps_on": 3})],
    ]
    for changes in edits:
        edit(live, *changes)
        result = live.solve()
        assert result.account.converged
        assert result.account.method == "Newton, last solution", changes
        assert result.account.iterations <= 5
        assert agrees_with_a_fresh_solve(live)


def test_an_edit_that_was_hopeless_does_not_spoil_the_next_start(demo: Network) -> None:
    live = LiveLoadFlow(demo)
    live.solve()
    edit(live, Update(id="Heron End demand", values={"active_power_mw": 300.0}))
    assert not live.solve().account.converged
    edit(live, Update(id="Heron End demand", values={"active_power_mw": 0.3}))
    result = live.solve()
    assert result.account.method == "Newton, last solution"
    assert agrees_with_a_fresh_solve(live)


@pytest.mark.parametrize("group", ["YNyn6", "YNd1", "Dyn11", "YNd5"])
def test_turning_a_winding_does_not_lead_to_the_low_voltage_solution(group: str) -> None:
    """From angles that were right before, Newton finds the other of the two solutions; the start must be fresh."""
    net = network(
        bus("h", 33), bus("l", 11), source("h"), transformer("h", "l", vector_group="YNyn0"), load("l", 8.0, 2.0)
    )
    live = LiveLoadFlow(net)
    live.solve()
    edit(live, Update(id="h/l", values={"vector_group": group}))
    assert agrees_with_a_fresh_solve(live)
    edit(live, Update(id="source-h", values={"angle_deg": 170.0}))
    assert agrees_with_a_fresh_solve(live)
    assert column(live.solve(), "buses", "voltage_pu")["l"] > 0.9


def test_a_low_voltage_answer_from_the_last_solution_is_checked_from_scratch() -> None:
    """Two buses, both solutions known: started beside the low one, the high one must still be found."""
    net = network(bus("a"), bus("b"), source("a"), line("a", "b", length_km=2.0), load("b", 10.0))
    live = LiveLoadFlow(net)
    high = column(live.solve(), "buses", "voltage_pu")["b"]
    r, x, p, e = 0.6, 0.7, 10.0, 11.0
    half = (e**2 - 2 * r * p) / 2
    low = np.sqrt(half - np.sqrt(half**2 - (r**2 + x**2) * p**2)) / e
    assert low < 0.6 < high
    state = live._last
    assert state is not None
    row = live.problem.pattern.row[live.arrays.bus_id.index("b")]
    state.v[row] = low
    state.theta[row] = -np.arcsin(x * p / (low * e**2))
    result = live.solve()
    assert column(result, "buses", "voltage_pu")["b"] == pytest.approx(high, abs=1e-8)
    assert result.account.notes == [
        "From the last solution it converged to a solution of lower voltages, which was set aside."
    ]


@pytest.mark.parametrize(
    ("change", "kept"),
    [
        (Update(id="load-b", values={"active_power_mw": 2.0}), True),
        (Update(id="a-b", values={"length_km": 3.0, "rating_a": 100.0}), True),
        (Update(id="b", values={"x": 4.0, "name": "new", "note": "n"}), True),
        (Update(id="source-a", values={"voltage_pu": 1.02}), True),
        (Update(id="b", values={"nominal_kv": 10.0}), False),
        (Update(id="a-b", values={"in_service": False}), False),
        (Update(id="b|c", values={"closed": False}), False),
        (Update(id="b|c", values={"rating_a": 10.0}), True),
        (Update(id="load-b", values={"bus": "c"}), False),
        (Add(item=load("c", 1.0)), False),
        (Add(item={"kind": "area", "id": "north"}), False),
        (Add(item={"kind": "substation", "id": "north"}), True),
    ],
)
def test_arrays_are_patched_where_a_change_stays_in_its_rows(change: object, kept: bool) -> None:
    net = network(bus("a"), bus("b"), bus("c"), source("a"), line("a", "b"), load("b", 1.0), switch("b", "c"))
    arrays = compile_network(net)
    before = dict(net.items)
    done = net.apply([change])  # type: ignore[list-item]
    assert patch(arrays, net, done.changed, before) is kept
    if kept:
        fresh = compile_network(net)
        for name, table in fresh.tables.items():
            for key, values in table.items():
                assert np.array_equal(values, arrays.tables[name][key]), (name, key)


def test_a_condition_scales_copies_and_leaves_the_compiled_arrays_alone(demo: Network) -> None:
    arrays = compile_network(demo)
    p = arrays.tables["load"]["p"].copy()
    scaled = apply_condition(arrays, Condition(id="c", name="c", demand_factor=0.0, generation_factor=0.0))
    assert not scaled.tables["load"]["p"].any()
    assert scaled.tables["branch"] is arrays.tables["branch"]
    assert np.array_equal(arrays.tables["load"]["p"], p)


# Findings


def at_voltage(pu: float, *limits: dict[str, object], kv: float = 11.0) -> Network:
    return network(bus("a", kv), source("a", voltage_pu=pu), *limits)


LIMITS = {"kind": "voltage_limits", "id": "mv", "low_breach_pu": 0.94, "low_watch_pu": 0.95, "high_watch_pu": 1.05,
          "high_breach_pu": 1.06}  # fmt: skip


@pytest.mark.parametrize(
    ("pu", "severity", "direction", "limit"),
    [
        (0.93, Severity.BREACH, "below", 0.94), (0.945, Severity.WATCH, "below", 0.95), (0.95, None, "", 0),
        (1.0, None, "", 0), (1.05, None, "", 0), (1.055, Severity.WATCH, "above", 1.05), (1.07, Severity.BREACH, "above", 1.06),
    ],
)  # fmt: skip
def test_voltage_is_judged_on_both_sides_of_every_limit(
    pu: float, severity: Severity | None, direction: str, limit: float
) -> None:
    found = run_load_flow(at_voltage(pu, LIMITS)).findings
    if severity is None:
        assert found == []
    else:
        assert [(f.severity, f.direction, f.limit) for f in found] == [(severity, direction, limit)]
        assert found[0].excess == pytest.approx(abs(pu - limit) / limit)
        assert f"{limit:.3f} p.u." in found[0].text


def test_the_first_limits_that_fit_a_voltage_rule_it() -> None:
    tight = {**LIMITS, "id": "tight", "above_kv": 5, "up_to_kv": 20, "low_watch_pu": 0.99, "low_breach_pu": 0.98}
    wide = {**LIMITS, "id": "wide", "low_breach_pu": 0.8, "low_watch_pu": 0.85}
    assert run_load_flow(at_voltage(0.97, tight, wide)).findings[0].severity is Severity.BREACH
    assert run_load_flow(at_voltage(0.97, wide, tight)).findings == []
    assert run_load_flow(at_voltage(0.97, tight, wide, kv=33.0)).findings == []


@pytest.mark.parametrize(("rating", "severity"), [(500.0, None), (60.0, Severity.WATCH), (40.0, Severity.BREACH)])
def test_loading_is_judged_against_the_settings(rating: float, severity: Severity | None) -> None:
    net = network(bus("a"), bus("b"), source("a"), line("a", "b", length_km=0.1, rating_a=rating), load("b", 1.0))
    found = [f for f in run_load_flow(net).findings if f.quantity == "loading_pct"]
    assert [f.severity for f in found] == ([severity] if severity else [])
    amps = 1.0 / (np.sqrt(3) * 11.0) * 1e3
    if found:
        assert found[0].value == pytest.approx(100 * amps / rating, rel=2e-3)
    net.apply([Add(item={"kind": "settings", "id": "settings", "loading_watch_pct": 1000, "loading_breach_pct": 2000})])
    assert [f for f in run_load_flow(net).findings if f.quantity == "loading_pct"] == []


def test_without_a_rating_nothing_is_judged() -> None:
    net = network(bus("a"), bus("b"), source("a"), line("a", "b"), load("b", 1.0))
    assert np.isnan(column(run_load_flow(net), "branches", "loading_pct")["a-b"])


def test_every_element_has_its_row_in_order_of_entry(demo: Network) -> None:
    tables = run_load_flow(demo).tables
    listed = [*tables["buses"]["id"], *tables["branches"]["id"], *tables["injections"]["id"]]
    elements = [i for i, e in demo.items.items() if isinstance(e, Element)]
    assert sorted(listed) == sorted(elements)
    branches = [i for i in elements if i in set(tables["branches"]["id"])]
    assert list(tables["branches"]["id"]) == branches


def test_a_condition_takes_elements_out_and_throws_switches(demo: Network) -> None:
    """The same answer as with the states entered for good; live edits and other conditions follow."""
    out = {
        "Ambry - Lowmere": "out",
        "Tie Moor End": "closed",
        "Quillport coupler": "open",
        "gone": "out",
        "Heron End": "open",
    }
    demo.apply([Update(id="winter-evening", values={"states": out})])
    live = LiveLoadFlow(demo)
    entered = demo.copy()
    entered.apply([
        Update(id="winter-evening", values={"states": {}}), Update(id="Ambry - Lowmere", values={"in_service": False}),
        Update(id="Tie Moor End", values={"closed": True}), Update(id="Quillport coupler", values={"closed": False}),
    ])  # fmt: skip
    assert volts(live.solve()) == pytest.approx(volts(run_load_flow(entered)), abs=1e-7)
    assert live.network is demo
    assert demo["Ambry - Lowmere"].in_service, "the network itself stays as it was"  # type: ignore[attr-defined]
    other = next(c for c in demo.of(Condition) if c.id == "summer-noon")
    assert volts(live.solve(other)) == pytest.approx(volts(run_load_flow(demo, condition=other)), abs=1e-7)
    previous = {i: demo[i] for i in ("winter-evening", "Heron End demand")}
    demo.apply([Update(id="winter-evening", values={"states": {"Ambry - Lowmere": "out"}}),
                Update(id="Heron End demand", values={"active_power_mw": 0.1})])  # fmt: skip
    live.changed(list(previous), previous)
    assert volts(live.solve()) == pytest.approx(volts(run_load_flow(demo)), abs=1e-7)
