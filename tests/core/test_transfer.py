"""Transfer and reactive margin: turning points in closed form, limits against a fine sweep of load flows."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from tests.core.test_outages import random_network
from tests.helpers import at, bus, line, load, network, run_study, source
from vastmesh.core.errors import InvalidFields
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Bus, Condition, Network
from vastmesh.core.results.state import run_load_flow
from vastmesh.core.studies import STUDIES, Inputs

R, X = 0.02, 0.1  # p.u. on 100 MVA
OHM = 33.0**2 / 100


def two_buses(p: float = 50.0, q: float = 20.0, **more: Any) -> Network:
    return network(
        bus("a", 33.0), bus("b", 33.0), source("a", voltage_pu=1.0), load("b", p, q),
        line("a", "b", r_ohm_per_km=R * OHM, x_ohm_per_km=X * OHM, **more),
    )  # fmt: skip


def branches(p: np.ndarray, t: float) -> tuple[np.ndarray, np.ndarray]:
    """Upper and lower voltage of V⁴ + (2P(R + Xt) - 1)V² + |Z|²P²(1 + t²) = 0, P in p.u."""
    b = 2 * p * (R + X * t) - 1
    d = np.sqrt(np.maximum(b * b - 4 * (R * R + X * X) * p * p * (1 + t * t), 0))
    return np.sqrt((-b + d) / 2), np.sqrt((-b - d) / 2)


@pytest.mark.parametrize(("p", "q"), [(50.0, 20.0), (50.0, 0.0), (30.0, -15.0)])
def test_the_turn_and_both_sides_of_it_are_those_of_the_closed_form(p: float, q: float) -> None:
    found = run_study("transfer", two_buses(p, q), most_mw=1000, thermal=False, voltage=False)
    t = q / p
    most = 100 / (2 * (R + X * t + np.hypot(R, X) * np.hypot(1, t)))
    assert found.summary["collapse_mw"] == pytest.approx(most - p, rel=1e-6)
    assert at(found, "limits", "b", "kind") == "voltage collapse"
    curve = next(f for f in found.figures if f.name == "pv").series[0]
    mw, v = np.array(curve.x, float), np.array(curve.y, float)
    upper, lower = branches((mw + p) / 100, t)
    assert np.max(np.minimum(np.abs(v - upper), np.abs(v - lower))) < 1e-6
    behind = np.abs(v - lower) < np.abs(v - upper)
    assert behind.sum() > 3
    assert (~behind).sum() > 3
    short = run_study("transfer", two_buses(p, q), most_mw=1000, thermal=False, voltage=False, beyond=False)
    assert short.summary["collapse_mw"] == pytest.approx(most - p, rel=1e-5)


def test_what_takes_part_in_the_collapse_of_two_buses_is_the_second_and_the_line_between() -> None:
    found = run_study("transfer", two_buses(), most_mw=1000, thermal=False, voltage=False)
    assert list(found.tables["buses"]["id"]) == ["b"]
    assert list(found.tables["elements"]["id"]) == ["a-b"]
    assert found.tables["buses"]["part_pct"][0] == pytest.approx(100)


@pytest.mark.parametrize("held", [0.9, 0.7, 0.5])
def test_reactive_power_by_voltage_is_that_of_the_closed_form(held: float) -> None:
    p, q = 0.5, 0.2
    found = run_study("reactive", two_buses(), bus="b", low_pu=0.3)

    def needed(v: np.ndarray) -> np.ndarray:
        # |V² + (R + jX)(P - jQ)*| = V: with s = P R + Qd X + V², d = P X - Qd R; s² + d² = V².
        a = (R * R + X * X) * np.ones_like(v)
        b = 2 * X * v**2
        c = (v**2 + p * R) ** 2 + (p * X) ** 2 - v**2
        b, c = b + 0 * v, c + 0 * v
        drawn = (-b + np.sqrt(b * b - 4 * a * c)) / (2 * a)
        return (q - drawn) * 100

    curve = found.figures[0].series[0]
    v, mvar = np.array(curve.x, float), np.array(curve.y, float)
    k = int(np.argmin(np.abs(v - held)))
    assert mvar[k] == pytest.approx(needed(v)[k], abs=1e-5)
    fine = np.linspace(0.3, 1.1, 400_001)
    least = needed(fine)
    assert at(found, "margins", "b", "margin_mvar") == pytest.approx(-np.nanmin(least), abs=1e-6)
    assert at(found, "margins", "b", "at_pu") == pytest.approx(fine[np.nanargmin(least)], abs=1e-3)


def test_where_limits_end_it_a_load_flow_there_stands_at_the_limit() -> None:
    net = two_buses(rating_a=1500.0)
    found = run_study("transfer", net, most_mw=300, voltage=False)
    mw = found.summary["limit_mw"]
    assert mw is not None
    assert at(found, "limits", "a-b", "kind") == "loading"
    grown = two_buses(50.0 + mw, (50.0 + mw) * 0.4, rating_a=1500.0)
    assert at(run_load_flow(grown), "branches", "a-b", "loading_pct") == pytest.approx(100, abs=1e-3)
    low = run_study("transfer", net, most_mw=300, thermal=False)
    mw = low.summary["limit_mw"]
    assert mw is not None
    flow = run_load_flow(two_buses(50.0 + mw, (50.0 + mw) * 0.4))
    assert at(low, "limits", "b", "kind") == "voltage"
    assert at(flow, "buses", "b", "voltage_pu") == pytest.approx(0.94, abs=1e-5)
    angle = run_study("transfer", net, most_mw=300, thermal=False, voltage=False, angle_deg=5.0)
    mw = angle.summary["limit_mw"]
    assert mw is not None
    flow = run_load_flow(two_buses(50.0 + mw, (50.0 + mw) * 0.4))
    assert abs(at(flow, "buses", "b", "angle_deg")) == pytest.approx(5.0, abs=1e-4)


def swept(net: Network, condition: Condition, outside: Callable[[Any], bool], most: float, step: float) -> float:
    """The last of a fine sweep of load flows, from scratch each, that has a solution and is within limits."""
    kept = 0.0
    table = run_load_flow(net).tables["buses"]
    live = {b for b, v in zip(table["id"], table["voltage_pu"], strict=True) if np.isfinite(v)}
    total = sum(i.active_power_mw for i in net.items.values() if i.kind == "load" and i.bus in live)  # type: ignore[attr-defined]
    for mw in np.arange(0, most, step).tolist():
        factor = condition.demand_factor * (1 + mw / total)
        grown = condition.model_copy(update={"demand_factor": factor})
        flow = run_load_flow(net, LoadFlowOptions(automatic=False), grown)
        if not flow.account.converged or outside(flow):
            return kept
        kept = mw
    return kept


@pytest.mark.parametrize("seed", range(6))
def test_the_limit_is_that_of_a_fine_sweep(seed: int) -> None:
    net = random_network(seed)
    found = run_study("transfer", net, most_mw=400, already="counts")
    base = run_load_flow(net)
    limit = found.summary["limit_mw"]
    assert limit is not None

    def outside(flow: Any) -> bool:
        v, used = flow.tables["buses"]["voltage_pu"], flow.tables["branches"]["loading_pct"]
        v = v[np.isfinite(v)]
        return bool(v.min() < 0.94 or v.max() > 1.06 or np.nanmax(used) > 100)

    if outside(base):
        assert limit == 0.0
        return
    step = max(limit / 60, 0.02)
    expected = swept(net, net.condition, outside, limit + 4 * step, step)
    assert expected <= limit + 1e-6
    assert limit < expected + 1.5 * step + 1e-6


def test_outages_narrow_it_and_the_narrowest_is_told() -> None:
    net = network(
        bus("a", 33.0), bus("b", 33.0), source("a"), line("a", "b", rating_a=300),
        {**line("a", "b", rating_a=250), "id": "second"},
        load("b", 5.0),
    )  # fmt: skip
    alone = run_study("transfer", net, most_mw=100)
    both = run_study("transfer", net, most_mw=100, outages="model")
    assert both.summary["limit_mw"] < alone.summary["limit_mw"]  # type: ignore[operator]
    assert "after the loss of a-b" in both.statement
    lost = net.condition.model_copy(update={"states": {"a-b": "out"}})
    only = run_study("transfer", Inputs(net, lost), most_mw=100)
    assert both.summary["limit_mw"] == pytest.approx(only.summary["limit_mw"], rel=1e-6)
    reserve = run_study("transfer", net, most_mw=100, outages="model", reserve_mw=2.0)
    assert reserve.summary["available_mw"] == pytest.approx(both.summary["limit_mw"] - 2.0)  # type: ignore[operator]


def test_pairs_of_areas_and_refusals(demo: Network) -> None:
    found = run_study("transfer", demo, to="pairs", most_mw=50)
    assert len(found.tables["pairs"]) == 6
    for asked, told in (
        ({"to": "area"}, "name an area"), ({"to": "bus"}, "name a bus"), ({"given_by": "area"}, "name an area"),
        ({"given_by": "bus"}, "name a bus"),
    ):  # fmt: skip
        with pytest.raises(InvalidFields, match=told):
            run_study("transfer", demo, **asked)
    with pytest.raises(InvalidFields, match="two areas"):
        run_study("transfer", two_buses(), to="pairs")
    with pytest.raises(InvalidFields, match="holds this bus"):
        run_study("reactive", two_buses(), bus="a")
    with pytest.raises(InvalidFields, match="below the highest"):
        run_study("reactive", two_buses(), low_pu=0.9, high_pu=0.8)


def test_what_plants_give_more_the_source_gives_less() -> None:
    generator = {"kind": "generator", "id": "g", "bus": "a2", "active_power_mw": 5.0, "rated_mva": 50.0, "control": "reactive",
                 "reactive_power_mvar": 0.0}  # fmt: skip
    net = network(
        bus("a", 33.0), bus("a2", 33.0), bus("b", 33.0), source("a"), line("a", "b", rating_a=500), line("a", "a2", rating_a=200),
        generator, load("b", 5.0),
    )  # fmt: skip
    found = run_study("transfer", net, given_by="bus", from_bus="a2", most_mw=100, voltage=False)
    # The spur of the plant is the narrow place: 200 A at about 33 kV less what it carries now.
    assert at(found, "limits", "a-a2", "kind") == "loading"
    assert found.summary["limit_mw"] == pytest.approx(np.sqrt(3) * 33 * 0.2 - 5.0, rel=0.01)
    sources = run_study("transfer", net, most_mw=100, voltage=False)
    assert sources.summary["limit_mw"] > found.summary["limit_mw"]  # type: ignore[operator]


def test_workings_give_the_turn_of_two_buses() -> None:
    net = two_buses()
    study = STUDIES["transfer"]
    options = study.options(most_mw=1000, thermal=False, voltage=False)
    result = study.run(Inputs(net), options, lambda *_: None)
    assert study.explain is not None
    told = study.explain(net, result, net.condition, "b", options.model_dump())
    cells = {c.symbol: c.value for c in told[0].ledger}
    assert cells["R"] == pytest.approx(R * OHM, rel=1e-6)
    assert cells["X"] == pytest.approx(X * OHM, rel=1e-6)
    assert cells["E"] == pytest.approx(33.0, rel=1e-6)
    assert cells["Pm"] == pytest.approx(result.summary["collapse_mw"] + 50.0, rel=1e-6)  # type: ignore[operator]


def test_headroom_at_a_bus_is_where_load_flows_with_it_meet_a_limit() -> None:
    net = network(
        bus("a", 33.0), bus("b", 33.0), bus("c", 33.0), source("a"), line("a", "b", length_km=5, rating_a=300),
        line("b", "c", length_km=5, rating_a=150), load("b", 4.0, 1.0), load("c", 1.0, 0.2),
    )  # fmt: skip
    found = run_study("headroom", net, power_factor=1.0, most_mw=60)
    for ident in ("b", "c"):
        for name, sign in (("demand", 1.0), ("generation", -1.0)):
            mw = at(found, "headroom", ident, f"{name}_room_mw")
            if at(found, "headroom", ident, f"{name}_ends") == "nothing up to there":
                assert mw == 60
                continue
            items = [i.model_dump(exclude_none=True) for i in net.items.values()]
            added = load(ident, sign * mw, 0.0, id="more") if sign > 0 else {
                "kind": "generator", "id": "more", "bus": ident, "active_power_mw": mw, "control": "reactive",
                "reactive_power_mvar": 0.0,
            }  # fmt: skip
            flow = run_load_flow(network(*items, added))
            volts, used = flow.tables["buses"]["voltage_pu"], flow.tables["branches"]["loading_pct"]
            near = min(abs(volts.min() - 0.94), abs(volts.max() - 1.06), abs(used.max() - 100) / 100)
            assert near < 1e-5, (ident, name)
    assert at(found, "headroom", "a", "held") == "yes"
    lost = run_study("headroom", net, power_factor=1.0, most_mw=60, outages="model", bus="b")
    assert at(lost, "headroom", "b", "demand_room_mw") <= at(found, "headroom", "b", "demand_room_mw")
    with pytest.raises(InvalidFields, match="no bus in service fits"):
        run_study("headroom", net, from_kv=200.0)


def test_headroom_of_two_buses_together_is_where_load_flows_with_both_meet_a_limit() -> None:
    net = network(
        bus("a", 33.0), bus("b", 33.0), bus("c", 33.0), bus("d", 33.0), source("a"), line("a", "b", length_km=5, rating_a=300),
        line("b", "c", length_km=5, rating_a=150), line("a", "d", length_km=8, rating_a=200), load("b", 4.0, 1.0),
        load("c", 1.0, 0.2), load("d", 2.0, 0.5),
    )  # fmt: skip
    found = run_study("headroom", net, power_factor=1.0, most_mw=60, together="pairs").tables["headroom"]
    assert len(found) == 6
    rows = found.records()
    assert [r["demand_room_mw"] for r in rows] == sorted(r["demand_room_mw"] for r in rows)
    met = 0
    for row in rows:
        (first, second), mw = (
            (row["id"], next(b.id for b in net.of(Bus) if b.name == row["with"])),
            row["demand_room_mw"],
        )
        if row["demand_ends"] == "nothing up to there":
            continue
        items = [i.model_dump(exclude_none=True) for i in net.items.values()]
        more = [load(i, mw / 2, 0.0, id=f"more-{i}") for i in (first, second)]
        flow = run_load_flow(network(*items, *more))
        volts, used = flow.tables["buses"]["voltage_pu"], flow.tables["branches"]["loading_pct"]
        assert min(abs(volts.min() - 0.94), abs(used.max() - 100) / 100) < 1e-5, row
        met += 1
    assert met >= 4
    one = (
        run_study("headroom", net, power_factor=1.0, most_mw=60, together="pairs", bus="c").tables["headroom"].records()
    )
    assert {(r["id"], r["with"]) for r in one} == {("c", net[i].name) for i in ("a", "b", "d")}
    alone = run_study("headroom", net, power_factor=1.0, most_mw=60)
    with_d = next(r for r in one if r["with"] == net["d"].name)
    least = min(at(alone, "headroom", i, "demand_room_mw") for i in ("c", "d"))
    assert with_d["demand_room_mw"] == pytest.approx(2 * least, rel=0.05), "on ways that share nothing"


def test_largest_values_of_an_interface_and_a_plant() -> None:
    plant = {"kind": "generator", "id": "g", "name": "g", "bus": "g-bus", "active_power_mw": 5.0, "rated_mva": 20.0,
             "control": "reactive", "reactive_power_mvar": 0.0}  # fmt: skip
    net = network(
        bus("a", 33.0), bus("b", 33.0), bus("g-bus", 33.0), source("a"), line("a", "b", rating_a=300),
        {**line("a", "b", rating_a=250), "id": "second"}, line("a", "g-bus", rating_a=200), load("b", 5.0), plant,
        {"kind": "interface", "id": "i", "name": "i", "members": ["a-b", "second"]},
        {"kind": "interface", "id": "spur", "name": "spur", "members": ["-a-g-bus"]},
        {"kind": "interface", "id": "half", "name": "half", "members": ["a-b"]},
    )  # fmt: skip
    found = run_study("limit_table", net, over="present", outages="none", voltage=False, most_mw=100)
    rows = {r["id"]: r for r in found.tables["limits"].records()}
    assert rows["g"]["most_mw"] == pytest.approx(np.sqrt(3) * 33 * 0.2, rel=0.01)
    assert rows["half"]["binds"] == "its branches do not part the network in two"
    transfer = run_study("transfer", net, to="bus", to_bus="b", voltage=False, most_mw=100)
    assert rows["i"]["most_mw"] == pytest.approx(5.0 + transfer.summary["limit_mw"], rel=0.02)  # type: ignore[operator]
    secure = run_study("limit_table", net, over="present", outages="model", voltage=False, most_mw=100)
    narrower = {r["id"]: r for r in secure.tables["limits"].records()}
    assert narrower["i"]["most_mw"] < rows["i"]["most_mw"]
    assert "after the loss of" in narrower["i"]["when"]
    # What is told is survived: with it, the load flow after the loss stands at the limit.
    grown = 5.0 + (narrower["i"]["most_mw"] - narrower["i"]["now_mw"])
    lost = {"a-b": "out"} if narrower["i"]["when"].endswith("a-b") else {"second": "out"}
    items = [
        {**i.model_dump(exclude_none=True), **({"active_power_mw": grown} if i.id == "load-b" else {})}
        for i in net.items.values()
    ]
    flow = run_load_flow(network(*items), None, net.condition.model_copy(update={"states": lost}))
    assert max(x for x in flow.tables["branches"]["loading_pct"] if np.isfinite(x)) == pytest.approx(100, abs=0.5)
