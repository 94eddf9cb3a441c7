"""Copies arrive connected and named; the supply trace agrees with the load flow."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.helpers import assert_balanced, bus, column, line, load, network, networks, source, switch, transformer
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Bus, Line, Load, Network, Switch, Trace, Update, clip, paste, profile
from vastmesh.core.results.state import run_load_flow


def two_feeders() -> Network:
    """33/11 kV station; F1 with two loads and a relay at its breaker, F2 with one; an open tie between their ends."""
    return network(
        bus("G", 33), source("G"), bus("S"), transformer("G", "S", rated_mva=20.0),
        bus("F1-0"), switch("S", "F1-0"), bus("F1-1"), line("F1-0", "F1-1"), load("F1-1", 0.5, customers=40),
        bus("F1-2"), line("F1-1", "F1-2"), load("F1-2", 0.3, customers=10),
        {"kind": "current_transformer", "id": "CT F1", "at": "S|F1-0", "primary_a": 400},
        {"kind": "relay", "id": "Relay F1", "trips": "S|F1-0", "measures": "CT F1"},
        bus("F2-1"), line("S", "F2-1"), load("F2-1", 0.4), switch("F1-2", "F2-1", closed=False),
    )  # fmt: skip


FEEDER = ["S|F1-0", "F1-0", "F1-0-F1-1", "F1-1", "load-F1-1", "F1-1-F1-2", "F1-2", "load-F1-2", "F1-2|F2-1"]


def test_a_feeder_pasted_onto_a_bus_arrives_connected_thirty_times() -> None:
    net = two_feeders()
    before, demand = net.copy(), run_load_flow(net).summary["demand_mw"]
    plan = paste(net, clip(net, FEEDER), onto="S", times=30)
    done = net.apply(plan.changes)
    assert plan.left_out == ["F1-2|F2-1"], "the tie leads elsewhere"
    names = [i.name for i in net.items.values()]
    assert len(names) == len(set(names))
    result = run_load_flow(net)
    assert result.summary["dead_buses"] == 0
    assert result.summary["demand_mw"] == pytest.approx(demand + 30 * 0.8, abs=1e-6)
    assert_balanced(net, result)
    assert len({e.from_bus for e in net.of(Switch)}) == 2, "all breakers hang from the same bar"
    relays = [i for i in net.items.values() if i.kind == "relay"]
    assert len({r.trips for r in relays}) == 31, "each copy's relay trips its own breaker"  # type: ignore[attr-defined]
    net.apply(done.inverse)
    assert net == before


def test_a_duplicate_in_place_keeps_its_connections() -> None:
    net = two_feeders()
    net.apply(paste(net, clip(net, ["load-F1-1", "S|F1-0"])).changes)
    assert len([e for e in net.of(Load) if e.bus == "F1-1"]) == 2
    assert {(e.from_bus, e.to_bus) for e in net.of(Switch)} == {("S", "F1-0"), ("F1-2", "F2-1")}


def test_numbers_in_names_count_on() -> None:
    net = network(bus("S"), source("S"), bus("Berth 07"), line("S", "Berth 07"), load("Berth 07", 0.1))
    ids = paste(net, clip(net, ["Berth 07", "S-Berth 07"]), onto="S", times=3).ids
    assert [i[0] for i in ids] == ["Berth 08", "Berth 09", "Berth 10"]


def test_pasting_nonsense_is_refused() -> None:
    net = two_feeders()
    items = clip(net, FEEDER)
    with pytest.raises(InvalidFields, match="hangs from 11 kV"):
        paste(net, items, onto="G")
    with pytest.raises(InvalidFields, match="paste 1 to"):
        paste(net, [], onto="S")
    with pytest.raises(InvalidFields, match="choose a bus to paste onto"):
        paste(net, items, onto="load-F1-1")
    lost = clip(net, ["load-F1-1"])
    empty = network(bus("other"))
    with pytest.raises(InvalidFields, match="the one it hung from is gone"):
        paste(empty, lost)


# Trace


def test_what_feeds_and_what_is_fed() -> None:
    net = two_feeders()
    trace = Trace(net)
    assert trace.path("load-F1-2") == [
        "load-F1-2", "F1-2", "F1-1-F1-2", "F1-1", "F1-0-F1-1", "F1-0", "S|F1-0", "S", "G/S", "G", "source-G",
    ]  # fmt: skip
    fed = trace.fed("S|F1-0")
    assert fed.buses == ["F1-0", "F1-1", "F1-2"]
    assert (fed.customers, fed.demand_mw) == (50, pytest.approx(0.8))
    assert trace.fed("load-F1-1").buses == []
    assert set(trace.fed("source-G").buses) == {b.id for b in net.of(Bus)}


def test_what_a_switch_would_do() -> None:
    net = two_feeders()
    lost = Trace(net).if_thrown("S|F1-0")
    assert lost.loses == ["F1-0", "F1-1", "F1-2"]
    net.apply([Update(id="F1-2|F2-1", values={"closed": True})])
    ring = Trace(net)
    kept = ring.if_thrown("S|F1-0")
    assert kept.loses == []
    assert "F1-2|F2-1" in kept.path
    assert ring.loops()
    net.apply([Update(id="S|F1-0", values={"closed": False})])
    assert Trace(net).if_thrown("F1-2|F2-1").loses == ["F1-0", "F1-1", "F1-2"]
    net.apply([Update(id="F1-2|F2-1", values={"closed": False})])
    back = Trace(net).if_thrown("S|F1-0")
    assert back.gains == ["F1-0", "F1-1", "F1-2"]
    assert back.path[0] == "F1-0"


def test_feeders_are_recognised(demo: Network) -> None:
    feeders = {f.name: f for f in Trace(two_feeders()).feeders}
    assert feeders["S|F1-0"].buses == ("F1-0", "F1-1", "F1-2")
    assert feeders["S|F1-0"].supply == "S"
    assert feeders["S-F2-1"].buses == ("F2-1",)
    of = Trace(demo).feeder_of()
    assert of["Heron End"] == of["Mill Lane"] != of["Salt Quay"]
    assert of["LR 7"] == of["Salt Quay"], "the street belongs to the 11 kV feeder above it"


@settings(max_examples=40, deadline=None)
@given(networks(), st.data())
def test_the_trace_agrees_with_the_load_flow(net: Network, data: st.DataObject) -> None:
    out = data.draw(st.sampled_from([e.id for e in net.elements() if len(e.buses()) == 2]))
    fed = Trace(net).fed(out)
    net.apply([Update(id=out, values={"in_service": False})])
    states = column(run_load_flow(net), "buses", "state")
    dead = {b for b, s in states.items() if s == "dead"}
    assert set(Trace(net).dead()) == set(fed.buses) == dead


def test_a_loop_is_found_and_a_tree_has_none() -> None:
    net = network(bus("a"), source("a"), bus("b"), bus("c"), line("a", "b"), line("b", "c"))
    assert Trace(net).loops() == []
    net.apply(paste(net, clip(net, ["a-b"])).changes)
    assert len(Trace(net).loops()) == 1
    assert isinstance(net[Trace(net).loops()[0]], Line)


def test_a_profile_goes_out_from_its_start_with_distances(demo: Network) -> None:
    trace = Trace(demo)
    feeder = next(f for f in trace.feeders if f.id == "Saltern F2-01")
    nodes = {n.bus: n for n in profile(trace, "Saltern 11", feeder.buses)}
    assert set(nodes) == {"Saltern 11", *feeder.buses}
    trunk = [1.1, 1.4, 1.6, 1.3, 1.5, 1.7, 1.5, 1.8, 2.1]
    assert nodes["Heron End"].distance_km == pytest.approx(sum(trunk))
    for n in nodes.values():
        if n.parent is not None:
            assert n.element is not None
            length = getattr(demo[n.element], "length_km", 0.0)
            assert n.distance_km == pytest.approx(nodes[n.parent].distance_km + length)
            assert n.level == nodes[n.parent].level + 1
    below = profile(trace, "Saltern 33")
    assert {"Saltern 11", "Heron End", "LR 7"} <= {n.bus for n in below}
    demo.apply([Update(id="T-Saltern", values={"in_service": False})])
    assert profile(Trace(demo), "Saltern 11") == []
