"""What must hold of every supply trace, on random networks."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.helpers import networks
from vastmesh.core.network import Bus, Line, Network, Source, Switch, Trace, Update, profile
from vastmesh.core.results.state import run_load_flow


@st.composite
def switched(draw: st.DrawFn) -> Network:
    """A random network with switches put in series with some lines, some of them open."""
    net = draw(networks())
    for line in (
        draw(st.lists(st.sampled_from(net.of(Line)), max_size=3, unique_by=lambda e: e.id)) if net.of(Line) else []
    ):
        kv = net[line.from_bus].nominal_kv  # type: ignore[attr-defined]
        mid, closed = f"{line.id} mid", draw(st.booleans())
        switch = {
            "kind": "switch",
            "id": f"{line.id} switch",
            "from_bus": line.from_bus,
            "to_bus": mid,
            "closed": closed,
        }
        net = Network.from_items([*net.to_items(), {"kind": "bus", "id": mid, "nominal_kv": kv}, switch])
        net.apply([Update(id=line.id, values={"from_bus": mid})])
    return net


@settings(max_examples=50, deadline=None)
@given(switched())
def test_every_path_leads_to_a_source_without_a_gap(net: Network) -> None:
    trace = Trace(net)
    for bus in net.of(Bus):
        path = trace.path(bus.id)
        assert path[0] == bus.id
        assert len(set(path)) == len(path)
        if trace.live(bus.id):
            assert isinstance(net[path[-1]], Source)
            for here, there in pairwise(path):
                a, b = net[here], net[there]
                joined = here in getattr(b, "buses", tuple)() or there in getattr(a, "buses", tuple)()
                assert joined, f"{here} and {there} are not connected"
                assert not (isinstance(b, Switch) and not b.closed), "through an open switch"
        else:
            assert path == [bus.id]


@settings(max_examples=40, deadline=None)
@given(switched(), st.data())
def test_throwing_a_switch_does_what_was_foretold(net: Network, data: st.DataObject) -> None:
    if not net.of(Switch):
        return
    switch = data.draw(st.sampled_from(net.of(Switch)))
    before = {b.id for b in net.of(Bus) if Trace(net).live(b.id)}
    told = Trace(net).if_thrown(switch.id)
    net.apply([Update(id=switch.id, values={"closed": not switch.closed})])
    after = {b.id for b in net.of(Bus) if Trace(net).live(b.id)}
    assert set(told.loses) == before - after
    assert set(told.gains) == after - before
    states = run_load_flow(net).tables.get("buses")
    if states is not None:
        live = {b for b, s in zip(states["id"], states["state"], strict=True) if s == "live"}
        assert live == after


@settings(max_examples=40, deadline=None)
@given(switched())
def test_feeders_share_no_bus_and_hold_only_live_ones(net: Network) -> None:
    trace = Trace(net)
    seen: set[str] = set()
    for feeder in trace.feeders:
        assert feeder.buses
        assert not seen & set(feeder.buses)
        seen |= set(feeder.buses)
        assert all(trace.live(b) for b in feeder.buses)
    assert trace.feeder_of().keys() == seen


@settings(max_examples=40, deadline=None)
@given(switched())
def test_a_profile_of_everything_reaches_everything_once(net: Network) -> None:
    trace = Trace(net)
    nodes = profile(trace, "b0")
    ids = [n.bus for n in nodes]
    assert len(set(ids)) == len(ids)
    assert set(ids) == {b.id for b in net.of(Bus) if trace.live(b.id)}
    by = {n.bus: n for n in nodes}
    for n in nodes:
        if n.parent is None:
            assert n.bus == "b0"
            continue
        assert n.distance_km >= by[n.parent].distance_km
        assert ids.index(n.parent) < ids.index(n.bus), "a bus comes after the one it is reached from"


@settings(max_examples=30, deadline=None)
@given(switched())
def test_a_spanning_tree_and_its_loops_make_the_whole_graph(net: Network) -> None:
    """Branches in the live part less buses plus sources' roots: as many loops as graph theory says."""
    trace = Trace(net)
    live = [b.id for b in net.of(Bus) if trace.live(b.id)]
    branches = [e for e in net.elements() if len(e.buses()) == 2 and e.in_service
                and not (isinstance(e, Switch) and not e.closed) and all(trace.live(b) for b in e.buses())]  # fmt: skip
    assert len(trace.loops()) == len(branches) - len(live) + 1
    removed = net.copy()
    removed.apply([Update(id=i, values={"in_service": False}) for i in trace.loops()])
    assert Trace(removed).loops() == []
    assert {b for b in live if Trace(removed).live(b)} == set(live), "without its loops everything is still fed"


def test_demand_behind_a_point_is_what_flows_there_without_losses(demo: Network) -> None:
    """Fed demand of a feeder head against the load flow, to the feeder's few per cent of losses."""
    net = demo
    net.apply([Update(id="winter-evening", values={"class_factors": {}, "energy_factors": {"solar": 0.0}})])
    fed = Trace(net).fed("Kesterby F1-01").demand_mw
    table = run_load_flow(net).tables["branches"]
    flow = dict(zip(table["id"], table["from_active_power_mw"].tolist(), strict=True))["Kesterby F1-01"]
    assert np.isfinite(flow)
    assert fed < flow == pytest.approx(fed, rel=0.05)
