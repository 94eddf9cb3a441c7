"""Conditions: factors multiply, states override, and none of it touches the network itself."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.helpers import assert_balanced, bus, column, line, load, network, networks, source, switch, volts
from vastmesh.core.errors import InvalidFields
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Add, Condition, Network, Update
from vastmesh.core.results.state import run_load_flow

TIGHT = LoadFlowOptions(tolerance_pu=1e-11)


def condition(**more: object) -> Condition:
    return Condition.model_validate({"id": "c", "name": "c", **more})


@settings(max_examples=30, deadline=None)
@given(networks(), st.data())
def test_an_outage_is_the_same_as_taking_the_element_out(net: Network, data: st.DataObject) -> None:
    element = data.draw(st.sampled_from([e for e in net.elements() if e.kind != "bus"]))
    before = net.copy()
    under = run_load_flow(net, TIGHT, condition(states={element.id: "out"}))
    assert net == before, "the network itself stays as it was"
    net.apply([Update(id=element.id, values={"in_service": False})])
    entered = run_load_flow(net, TIGHT)
    mine, theirs = volts(under), volts(entered) if entered.tables else {}
    for b, v in theirs.items():
        assert (v != v and mine[b] != mine[b]) or mine[b] == pytest.approx(v, abs=1e-8)


@settings(max_examples=30, deadline=None)
@given(networks(), st.floats(0.1, 1.2), st.floats(0.1, 1.2))
def test_factors_are_the_same_as_scaling_every_load(net: Network, overall: float, by_class: float) -> None:
    under = run_load_flow(net, TIGHT, condition(demand_factor=overall, class_factors={"domestic": by_class}))
    scale = overall * by_class
    net.apply([
        Update(id=e.id, values={f: getattr(e, f) * scale for f in ("active_power_mw", "reactive_power_mvar")})
        for e in net.elements() if e.kind == "load"
    ])  # fmt: skip
    direct = run_load_flow(net, TIGHT)
    assert_balanced(net, direct)
    assert volts(under) == pytest.approx(volts(direct), abs=1e-8)


def test_a_switch_is_open_in_one_condition_and_closed_in_another() -> None:
    net = network(bus("a"), source("a"), bus("b"), switch("a", "b"), load("b", 1.0))
    normal = run_load_flow(net)
    opened = run_load_flow(net, condition=condition(states={"a|b": "open"}))
    assert (normal.summary["dead_buses"], opened.summary["dead_buses"]) == (0, 1)
    assert column(opened, "branches", "state")["a|b"] == "dead"
    net.apply([Update(id="a|b", values={"closed": False})])
    assert run_load_flow(net, condition=condition(states={"a|b": "closed"})).summary["dead_buses"] == 0


def test_what_is_out_normally_can_be_in_service_under_a_condition() -> None:
    net = network(bus("a"), source("a"), bus("b"), line("a", "b", in_service=False), load("b", 1.0))
    assert run_load_flow(net).summary["dead_buses"] == 1
    assert run_load_flow(net, condition=condition(states={"a-b": "in"})).summary["dead_buses"] == 0


def test_states_that_fit_nothing_count_for_nothing() -> None:
    net = network(bus("a"), source("a"), bus("b"), line("a", "b"), load("b", 1.0))
    odd = condition(states={"gone": "out", "a-b": "open", "load-b": "in"})
    assert net.under(odd) is net
    with pytest.raises(InvalidFields, match="states"):
        net.apply([Add(item={"kind": "condition", "id": "c", "states": {"a-b": "sideways"}})])


@pytest.mark.parametrize("bad", [{"farming": -1.0}, {"farming": 101.0}, {"farming": "much"}])
@pytest.mark.parametrize("field", ["class_factors", "area_factors", "energy_factors"])
def test_impossible_factors_are_refused(field: str, bad: dict[str, object]) -> None:
    with pytest.raises(InvalidFields) as caught:
        network({"kind": "condition", "id": "c", field: bad})
    assert caught.value.problems[0].field == field
