"""Outages: each equals a load flow of the network without what is lost, and what is said of them holds on paper."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pytest

from tests.helpers import at, bus, line, load, network, run_study, source, switch, transformer
from vastmesh.core.electrical import compile_network
from vastmesh.core.errors import InvalidFields
from vastmesh.core.flow import Ending
from vastmesh.core.flow.balanced import LoadFlowOptions, Without
from vastmesh.core.network import Bus, Change, Condition, Network, Update
from vastmesh.core.results import Table
from vastmesh.core.results.state import run_load_flow
from vastmesh.core.severity import Severity
from vastmesh.core.studies import STUDIES, Inputs, Missing
from vastmesh.core.studies.outages import _study as outage_study
from vastmesh.core.studies.outages._help import help_after, lost
from vastmesh.core.studies.outages._ready import Ready

TIGHT = LoadFlowOptions(tolerance_pu=1e-11)
FROZEN = TIGHT.model_copy(update={"automatic": False})


def without(net: Network, members: Sequence[str]) -> dict[str, complex | None]:
    """Voltages by bus of the network in which these elements are out of service, from scratch."""
    states = dict.fromkeys((m for m in members), "out")
    condition = net.condition.model_copy(update={"states": {**net.condition.states, **states}})
    result = run_load_flow(net, FROZEN, condition)
    if result.account.ending is Ending.NOTHING_TO_SOLVE:
        return dict.fromkeys(b.id for b in net.of(Bus))
    if not result.account.converged:
        return {}
    table = result.tables["buses"]
    angle = np.radians(table["angle_deg"])
    found = table["voltage_pu"] * np.exp(1j * angle)
    return {b: (complex(v) if np.isfinite(v) else None) for b, v in zip(table["id"], found.tolist(), strict=True)}


def everything_of(net: Network, members: Sequence[str]) -> list[str]:
    """Buses with all that hangs on them."""
    found = list(members)
    for m in members:
        if net[m].kind == "bus":
            found += [e.id for e in net.connected(m)]
    return found


def assert_same(net: Network, ready: Without, members: Sequence[str], within: float = 1e-8) -> bool:
    every = everything_of(net, members)
    after, expected = ready.lose(every), without(net, every)
    if not after.solved:
        assert expected == {}, members
        return False
    place = {b: k for k, b in enumerate(ready.arrays.bus_id)}
    assert expected, members
    for b, v in expected.items():
        mine = after.v[place[b]] if b in place else np.nan
        if v is None:
            assert not np.isfinite(mine), (members, b)
        else:
            assert abs(mine - v) < within, (members, b, mine, v)
    return True


def random_network(seed: int) -> Network:
    """Two levels, loops and spurs, parallel circuits, one or two sources, machines with limits, couplers, a parallel cable."""
    dice = np.random.default_rng(seed)
    n = int(dice.integers(6, 14))
    items: list[dict[str, Any]] = [bus(f"b{k}", 33.0) for k in range(n)] + [
        bus("m0", 11.0),
        bus("m1", 11.0),
        bus("x", 33.0),
    ]
    items.append(source("b0", voltage_pu=1.02))
    if dice.random() < 0.4:
        items.append(source(f"b{n - 1}", voltage_pu=1.01))
    for k in range(1, n):
        other = int(dice.integers(0, k))
        items.append(
            line(f"b{other}", f"b{k}", length_km=float(dice.uniform(1, 6)), rating_a=float(dice.uniform(80, 400)))
        )
    for extra in range(int(dice.integers(1, 5))):
        a, b = sorted(dice.choice(n, 2, replace=False).tolist())
        items.append(
            {**line(f"b{a}", f"b{b}", length_km=float(dice.uniform(1, 6)), rating_a=200.0), "id": f"tie{extra}"}
        )
    items += [
        transformer("b1", "m0"),
        {**transformer("b2", "m1", tap_position=2, tap_step_pct=1.25, tap_min=-8, tap_max=8)},
    ]
    items.append(line("m0", "m1", length_km=1.5))
    items.append(switch(f"b{n - 2}", "x", closed=bool(dice.random() < 0.7)))
    for at_bus in [*(f"b{k}" for k in range(1, n)), "m0", "m1", "x"]:
        items.append(load(at_bus, float(dice.uniform(0.1, 2.0)), float(dice.uniform(0.0, 0.8))))
    items.append({
        "kind": "generator", "id": "g", "bus": f"b{int(dice.integers(1, n))}", "active_power_mw": 3.0, "rated_mva": 5.0,
        "control": "voltage", "voltage_pu": 1.0, "q_min_mvar": -1.0, "q_max_mvar": 1.5,
    })  # fmt: skip
    items.append({"kind": "shunt", "id": "c", "bus": "m0", "step_mvar": 0.6})
    return network(*items)


@pytest.mark.parametrize("seed", range(12))
def test_every_loss_equals_a_load_flow_without_it(seed: int) -> None:
    net = random_network(seed)
    ready = Without(compile_network(net), net.condition, FROZEN, controls=False)
    assert ready.solved
    solved = sum(assert_same(net, ready, [e.id]) for e in net.elements())
    dice = np.random.default_rng(seed)
    ids = [e.id for e in net.elements()]
    for _ in range(15):
        solved += assert_same(net, ready, dice.choice(ids, 3, replace=False).tolist())
    assert solved > 20


@pytest.mark.parametrize("seed", range(8))
@pytest.mark.parametrize("stage", ["just_after", "after_control"])
def test_rated_switches_carry_after_a_loss_what_a_load_flow_without_it_says(seed: int, stage: str) -> None:
    """Two parallel couplers, one in a ring of joints, one at the end of a bay; some rated, some not."""
    items = random_network(seed).to_items()
    items += [
        bus("s1", 33.0), bus("s2", 33.0), load("s2", 1.0, 0.2),
        switch("b1", "s1", id="k1", rating_a=30.0), switch("b1", "s1", id="k2", rating_a=50.0),
        switch("s1", "s2", id="k3", rating_a=15.0), {**line("s1", "b3", length_km=2.0, rating_a=200.0), "id": "s1-b3"},
        {"kind": "settings", "id": "settings", "tolerance_pu": 1e-11, "automatic": stage == "after_control"},
    ]  # fmt: skip
    net = network(*items)
    ready = Ready(Inputs(net), STUDIES["outages"].options(of="branches", stage=stage))
    assert ready.judge.ids[-3:] == ["k1", "k2", "k3"]
    seen = 0
    for lost_one in ("b0-b1", "k3", "s1-b3", "g", "tie0", "b2", "x"):
        members = everything_of(net, [lost_one])
        after = ready.without(stage).lose(members)
        if not after.solved:
            continue
        used = ready.seen(after, "normal", tuple(members)).used[-3:]
        states = dict.fromkeys(members, "out")
        condition = net.condition.model_copy(update={"states": {**net.condition.states, **states}})
        table = run_load_flow(net, None, condition).tables["branches"]
        of = dict(zip(table["id"], np.asarray(table["loading_pct"], float).tolist(), strict=True))
        expected = [np.nan_to_num(of.get(s, 0.0)) / 100 for s in ("k1", "k2", "k3")]
        assert used == pytest.approx(expected, abs=2e-6), lost_one
        seen += int(max(expected) > 0)
    assert seen > 3


def test_an_overloaded_coupler_is_found_and_no_cure_leaves_it_so() -> None:
    net = network(
        bus("a", 33.0), bus("b", 33.0), bus("c", 33.0), source("a"), line("a", "b", rating_a=400.0),
        line("a", "c", rating_a=400.0), load("b", 4.0, 1.0), load("c", 2.0, 0.5), switch("b", "c", id="k", rating_a=60.0),
    )  # fmt: skip
    found = run_study("outages", net, of="branches", limit_set="normal")
    worst = at(found, "branches", "k", "worst_after_pct")
    amps = abs(4.0 + 1j) / (np.sqrt(3) * 33.0 * 0.98) * 1e3
    assert worst == pytest.approx(100 * amps / 60, rel=0.05)
    assert at(found, "branches", "k", "by") == "a-b"
    listed = found.tables["outages"]
    assert dict(zip(listed["name"], listed["broken"].tolist(), strict=True))["a-b"] == 1
    helped = run_study("outages", net, of="branches", limit_set="normal", help="worst")
    ways = helped.tables["help"]
    # Opening the coupler leaves b without a supply: only less demand relieves it, and by as much as it is overloaded.
    rows = [k for k, o in enumerate(ways["outage"]) if o == "a-b"]
    assert rows
    assert all(ways["worst_before_pct"][k] == pytest.approx(worst, rel=1e-3) for k in rows)
    assert {ways["kind"][k] for k in rows if ways["cures"][k]} == {"shedding"}


@pytest.mark.parametrize("name", ["Winter evening", "Summer noon"])
def test_every_loss_in_the_demo_equals_a_load_flow_without_it(demo: Network, name: str) -> None:
    condition = next(c for c in demo.of(Condition) if c.name == name)
    ready = Without(compile_network(demo.under(condition)), condition, FROZEN, controls=False)
    demo.apply([Update(id=demo.settings.id, values={"condition": condition.id})])
    chosen = [e.id for e in demo.elements() if e.in_service and e.kind != "bus"][::4]
    buses = [e.id for e in demo.elements() if e.kind == "bus"][::15]
    for ident in chosen + buses:
        assert_same(demo, ready, [ident], 2e-8)


def with_positions(net: Network, ready: Without) -> Network:
    """The network with taps and steps where the solved state has them, and nothing moving them any more."""
    changes: list[Change] = []
    for e, position in ready.positions.items():
        item = net[ready.arrays.element_id[e]]
        values: dict[str, Any] = {}
        if hasattr(item, "tap_position"):
            values = {"tap_position": round(position)}
            values |= {"regulates": False} if hasattr(item, "regulates") else {}
        elif hasattr(item, "steps_on"):
            values = {"steps_on": round(position)}
        if values:
            changes.append(Update(id=item.id, values=values))
    twin = net.copy()
    twin.apply(changes)
    return twin


def test_before_control_taps_stay_and_curves_act(demo: Network) -> None:
    ready = Without(compile_network(demo.under(demo.condition)), demo.condition, TIGHT, controls=False)
    assert ready.positions, "the demo has taps that step"
    still = with_positions(demo, ready)
    place = {b: k for k, b in enumerate(ready.arrays.bus_id)}
    base = run_load_flow(still, TIGHT)
    table = base.tables["buses"]
    assert ready.base is not None
    assert (
        max(abs(v - ready.base.volts[place[b]]) for b, v in zip(table["id"], table["voltage_pu"], strict=True)) < 1e-8
    )
    for ident in [e.id for e in demo.elements() if e.kind in ("line", "transformer") and e.in_service][::9]:
        after = ready.lose([ident])
        states = {**demo.condition.states, ident: "out"}
        expected = run_load_flow(still, TIGHT, demo.condition.model_copy(update={"states": states}))
        assert after.solved == expected.account.converged
        for b, v in zip(expected.tables["buses"]["id"], expected.tables["buses"]["voltage_pu"], strict=True):
            mine = abs(after.v[place[b]])
            assert (np.isnan(v) and np.isnan(mine)) or abs(mine - v) < 2e-8, (ident, b)


def test_after_control_no_tap_wants_to_move_any_more() -> None:
    net = network(
        bus("a", 33.0), bus("b", 33.0), bus("c", 11.0), source("a"), line("a", "b", length_km=12),
        {**line("a", "b", length_km=12), "id": "second"}, load("c", 6.0, 2.0),
        transformer("b", "c", regulates=True, tap_step_pct=1.25, tap_min=-10, tap_max=10, target_pu=1.0, band_pct=2.5),
    )  # fmt: skip
    both = {
        stage: Without(compile_network(net), net.condition, TIGHT, controls=stage == "after")
        for stage in ("just", "after")
    }
    row = both["just"].arrays.bus_id.index("c")
    before = abs(both["just"].base.v[row])  # type: ignore[union-attr]
    just, after = (abs(both[s].lose(["second"]).v[row]) for s in ("just", "after"))
    assert just < before - 0.01
    assert abs(after - 1.0) <= 0.0125 + 1e-9 < abs(just - 1.0)


def two_ways() -> Network:
    """A source, two unequal lines in parallel, a spur behind."""
    return network(
        bus("a", 33.0), bus("b", 33.0), bus("c", 33.0), source("a"), line("a", "b", length_km=4, rating_a=100),
        {**line("a", "b", length_km=8, rating_a=100), "id": "long"}, line("b", "c", length_km=1, rating_a=100),
        load("b", 3.0), load("c", 3.0),
    )  # fmt: skip


def test_what_is_said_of_an_outage_stands_in_the_load_flow_without_it() -> None:
    net = two_ways()
    found = run_study("outages", net, limit_set="normal", listed_pct=0)
    table = found.tables["outages"]
    assert sorted(table["name"]) == ["a-b", "b-c", "long"]
    flow = run_load_flow(net, None, net.condition.model_copy(update={"states": {"a-b": "out"}}))
    assert at(found, "outages", "a-b", "worst_pct") == pytest.approx(
        at(flow, "branches", "long", "loading_pct"), rel=1e-6
    )
    assert at(found, "outages", "a-b", "low_pu") == pytest.approx(min(flow.tables["buses"]["voltage_pu"]), abs=1e-9)
    assert at(found, "outages", "a-b", "verdict") == "limits broken"
    assert at(found, "outages", "b-c", "lost_mw") == pytest.approx(3.0)
    assert at(found, "outages", "b-c", "verdict") == "demand lost"
    assert at(found, "branches", "long", "by") == "a-b"
    rows = [r for r in found.tables["matrix"].records() if r["outage"] == "a-b" and r["id"] == "long"]
    assert rows[0]["after_pct"] == pytest.approx(at(flow, "branches", "long", "loading_pct"), rel=1e-6)
    base = run_load_flow(net)
    assert rows[0]["before_pct"] == pytest.approx(at(base, "branches", "long", "loading_pct"), rel=1e-6)
    assert found.summary["outages_bad"] == 2.0


def test_what_was_broken_before_counts_only_where_it_gets_worse() -> None:
    net = network(
        bus("a", 33.0), bus("b", 33.0), bus("c", 33.0), source("a"), line("a", "b", rating_a=20), line("a", "c", rating_a=200),
        {**line("a", "c", rating_a=200), "id": "second"}, load("b", 3.0), load("c", 3.0),
    )  # fmt: skip
    found = run_study("outages", net, limit_set="normal")
    assert at(found, "outages", "second", "verdict") == "as before"
    assert at(found, "outages", "second", "before") == 1.0
    assert at(found, "outages", "a-b", "verdict") == "demand lost"
    assert found.summary["outages_bad"] == 0.0
    assert "broken already" in found.statement


def test_without_a_solution_the_share_that_has_one_is_told() -> None:
    net = network(
        bus("a"), bus("b"), source("a"), line("a", "b", length_km=4), {**line("a", "b", length_km=4), "id": "second"},
        load("b", 28.0),
    )  # fmt: skip
    assert run_load_flow(net).account.converged
    found = run_study("outages", net)
    row = found.tables["outages"].records()[0]
    assert row["verdict"] == "no solution"
    assert row["breaks_at"] == "b"
    # Largest active power at power factor one through r + jx from a stiff source: V² / 2(r + |z|).
    r, x, v = 4 * 0.3 / 1.21, 4 * 0.35 / 1.21, 1.0
    most = v * v / (2 * (r + np.hypot(r, x))) * 100
    assert row["share_pct"] == pytest.approx(100 * most / 28.0, rel=2e-3)
    assert "no solution" in found.statement


def test_parts_together_are_the_whole(demo: Network) -> None:
    study = STUDIES["outages"]
    split, inputs, options = study.split, Inputs(demo), study.options(of="branches")
    assert split is not None
    parts = split.plan(inputs, options)
    assert len(parts) > 3
    ready = split.prepare(inputs, options)
    answers = [split.answer(ready, p, lambda *_: None) for p in reversed(parts)][::-1]
    whole = split.join(inputs, options, parts, answers)
    again = study.run(inputs, options, lambda *_: None)
    for name in ("outages", "matrix", "branches", "buses"):
        a, b = whole.tables[name].records(), again.tables[name].records()
        assert len(a) == len(b)
        for one, other in zip(a, b, strict=True):
            for key, value in one.items():
                assert value == (
                    pytest.approx(other[key], rel=1e-7, abs=1e-9) if isinstance(value, float) else other[key]
                )
    some = split.join(
        inputs, options, parts, [answers[0], Missing("a worker was lost"), *([Missing()] * (len(parts) - 2))]
    )
    assert some.summary["outages_not_there"] == whole.summary["outages"] - 25
    assert any("a worker was lost" in n for n in some.account.notes)
    assert any("still to come" in n for n in some.account.notes)


def test_rules_and_outages_of_the_model_count() -> None:
    net = two_ways()
    more = [
        {"kind": "outage", "id": "both", "name": "Both ways", "members": ["a-b", "long"], "limit_set": "normal",
         "lost_demand_mw": 1.0},
        {"kind": "outage_rule", "id": "circuits", "of": "circuits", "limit_set": "normal"},
        {"kind": "outage_rule", "id": "buses", "of": "busbars", "lost_demand_mw": 0.0},
        {"kind": "outage_rule", "id": "pairs", "of": "pairs"},
        {"kind": "outage_rule", "id": "off", "of": "plants", "counts": False},
    ]  # fmt: skip
    net = network(*(i.model_dump(exclude_none=True) for i in net.items.values()), *more)
    found = run_study("outages", net)
    names = found.tables["outages"]["name"]
    # Both together once, though the outage, the circuits and the pairs all name them.
    assert sorted(names) == sorted(["Both ways", "a", "b", "c", "a-b + b-c", "long + b-c"])
    rows = {r["name"]: r for r in found.tables["outages"].records()}
    assert rows["Both ways"]["lost_mw"] == pytest.approx(6.0)
    assert rows["Both ways"]["verdict"] == "limits broken"
    assert rows["c"]["lost_mw"] == pytest.approx(3.0)
    assert rows["c"]["limits"] == "emergency"


@pytest.mark.parametrize(
    ("members", "told"),
    [([], "name what is lost"), (["nothing"], "no such element any more"), (["long", "out"], "out of service already")],
)
def test_an_outage_of_what_is_not_there_is_named(members: list[str], told: str) -> None:
    base = [i.model_dump(exclude_none=True) for i in two_ways().items.values()]
    out = {**line("a", "c", in_service=False), "id": "out"}
    net = network(*base, out, {"kind": "outage", "id": "own", "members": members})
    with pytest.raises(InvalidFields, match=told):
        run_study("outages", net)


def test_in_the_demonstration_one_outage_is_cured_by_switching_by_redispatch_and_by_reinforcement(
    demo: Network,
) -> None:
    found = STUDIES["outages_compared"].run(Inputs.of(demo), STUDIES["outages_compared"].options(), lambda *_: None)
    cures = {r["case"]: str(r["cures"]).split(", ") for r in found.tables["cases"].records()}
    for scheme in ("Switched for winter", "Turbine at Lowmere runs", "Second line Ambry - Lowmere"):
        assert "Thessel Head - Quillport" in cures[scheme], scheme


def test_nothing_to_lose_and_too_many_pairs_are_refused(demo: Network) -> None:
    with pytest.raises(InvalidFields, match="nothing in service fits"):
        run_study("outages", two_ways(), of="lines", from_kv=100.0, up_to_kv=200.0)
    big = network(bus("a"), source("a"), *(i for k in range(320) for i in (bus(f"n{k}"), line("a", f"n{k}"))))
    with pytest.raises(InvalidFields, match="pairs"):
        run_study("outages", big, of="pairs")


@pytest.mark.parametrize("seed", range(8))
def test_safe_screening_drops_no_breach(seed: int) -> None:
    net = random_network(seed)
    plain = run_study("outages", net, limit_set="normal")
    screened = run_study("outages", net, limit_set="normal", screen="safe")
    bad = {r["name"] for r in plain.tables["outages"].records() if r["verdict"] in ("limits broken", "no solution")}
    left = {r["name"] for r in screened.tables["outages"].records() if r["verdict"] == "far from limits"}
    assert not bad & left
    assert len(plain.tables["outages"]) == len(screened.tables["outages"])


@pytest.mark.parametrize("seed", range(4))
def test_the_worst_are_worked_out_first_and_the_order_changes_no_figure(
    seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(outage_study, "A_PART", 4)
    net = random_network(seed)
    study = STUDIES["outages"]
    options, inputs = study.options(limit_set="normal", of="lines"), Inputs(net)
    assert study.split is not None
    parts = study.split.plan(inputs, options)
    numbers = [n for p in parts for n in p["numbers"]]
    assert sorted(numbers) == list(range(len(numbers)))
    ready = Ready(inputs, options)
    ordered = study.split.join(inputs, options, parts, [study.split.answer(ready, p, lambda *_: None) for p in parts])
    plain = [{"numbers": [n]} for n in range(len(numbers))]
    natural = study.split.join(inputs, options, plain, [study.split.answer(ready, p, lambda *_: None) for p in plain])
    for name, table in natural.tables.items():

        def rows(t: Table) -> dict[tuple[str, ...], list[float]]:
            figures = [c.name for c in t.columns if isinstance(c.values, np.ndarray) and c.values.dtype.kind == "f"]
            keys = [c for c in ("id", "name", "outage") if c in {x.name for x in t.columns}]
            return {
                tuple(str(r[k]) for k in keys): [np.nan if r[c] is None else r[c] for c in figures] for r in t.records()
            }

        a, b = rows(ordered.tables[name]), rows(table)
        assert set(a) == set(b)
        for key, values in b.items():
            assert a[key] == pytest.approx(values, rel=1e-9, abs=1e-9, nan_ok=True), (name, key)
    by_loading = [r["name"] for r in sorted(natural.tables["outages"].records(), key=lambda r: -(r["worst_pct"] or 0))
                  if r["lost_mw"] == 0 and r["worst_pct"]]  # fmt: skip
    solved = [n for k in numbers if (n := ready.losses[k].name) in by_loading]
    assert solved.index(by_loading[0]) <= len(solved) // 3, "linear factors put it among the first"


def test_what_helps_keeps_the_limits_in_a_load_flow_of_its_own(demo: Network) -> None:
    demo.apply([Update(id=demo.settings.id, values={"automatic": False})])
    options = STUDIES["outages"].options(of="lines", from_kv=100.0, help="worst", tried=4, limit_set="emergency")
    ready = Ready(Inputs(demo), options)
    kinds, cured = set(), 0
    for loss in ready.losses:
        after = lost(demo.condition, loss)
        for way in help_after(ready, loss, lambda *_: None):
            kinds.add(way.way.kind)
            assert way.excess < way.excess_before or way.dead < way.dead_before
            if way.cures:
                twin = demo.copy()
                twin.apply(list(way.way.changes))
                flow = run_load_flow(twin, LoadFlowOptions(automatic=False), after)
                broken = [
                    f
                    for f in flow.findings
                    if f.severity is Severity.BREACH and f.value is not None and f.kind != "switch"
                ]
                assert all(f.excess < 1e-3 for f in broken), (loss.name, way.way.text, [f.text for f in broken])
                cured += 1
    assert cured
    assert kinds >= {"switching", "shedding"}


def test_redispatch_relieves_what_is_overloaded() -> None:
    net = network(
        bus("a", 33.0), bus("b", 33.0), source("a"), line("a", "b", length_km=6, rating_a=140),
        {**line("a", "b", length_km=6, rating_a=140), "id": "second"}, load("b", 10.0, 1.0),
        {"kind": "generator", "id": "g", "bus": "b", "active_power_mw": 1.0, "rated_mva": 8.0, "energy": "thermal",
         "reactive_power_mvar": 0.0, "control": "reactive"},
    )  # fmt: skip
    found = run_study("outages", net, limit_set="normal", help="worst")
    way = next(r for r in found.tables["help"].records() if r["kind"] == "redispatch")
    assert way["cures"]
    assert found.scheme, "what cures the worst outage is offered as a scheme"
    flow = run_load_flow(
        network(*({**i.model_dump(exclude_none=True), **({"active_power_mw": 1.0 + way["moved_mw"]} if i.id == "g" else {})}
                  for i in net.items.values())),
        None, net.condition.model_copy(update={"states": {"second": "out"}}),
    )  # fmt: skip
    assert at(flow, "branches", "a-b", "loading_pct") == pytest.approx(100.0, abs=0.5)
    assert at(flow, "branches", "a-b", "loading_pct") <= 100.0 + 1e-3


def two_plants(*, room_mva: float) -> Network:
    """A load behind two lines of which one is lost, and two plants beside it that can give more."""
    plants = [
        {"kind": "generator", "id": g, "bus": "b", "active_power_mw": 1.0, "rated_mva": 1.0 + room_mva, "energy": "thermal",
         "reactive_power_mvar": 0.0, "control": "reactive"} for g in ("g", "h")
    ]  # fmt: skip
    return network(
        bus("a", 33.0), bus("b", 33.0), source("a"), line("a", "b", length_km=6, rating_a=105),
        {**line("a", "b", length_km=6, rating_a=140), "id": "second"}, load("b", 10.0, 1.0), *plants,
    )  # fmt: skip


@pytest.mark.parametrize(("room", "shed"), [(1.5, False), (0.4, True)])
def test_what_no_single_way_cures_is_cured_by_several_together(room: float, shed: bool) -> None:
    net = two_plants(room_mva=room)
    found = run_study("outages", net, limit_set="normal", help="worst", of="lines")
    ways = [r for r in found.tables["help"].records() if r["outage"].startswith("second")]
    single = [r for r in ways if r["kind"] == "redispatch"]
    assert single
    assert not any(r["cures"] for r in single), "neither plant is enough by itself"
    best = ways[0]
    assert best["cures"]
    assert best["kind"] == ("shedding" if shed else "together")
    assert best["do"].count(" MW more from ") == 2
    assert ("shed" in best["do"]) == shed
    alone = next((r for r in ways if r["kind"] == "shedding" and ";" not in r["do"]), None)
    if shed:
        assert alone is not None
        assert best["moved_mw"] < alone["moved_mw"], "less is shed when the plants give what they can"
    row = next(r for r in found.tables["outages"].records() if r["name"].startswith("second"))
    assert row["helped"] == ("cured by shedding" if shed else "cured")
    assert row["helped_pct"] <= 100.0 + 1e-6
    options = STUDIES["outages"].options(limit_set="normal", help="worst", of="lines")
    ready = Ready(Inputs(net), options)
    loss = next(x for x in ready.losses if x.members == ("second",))
    helped = help_after(ready, loss, lambda *_: None)[0]
    twin = net.copy()
    twin.apply(list(helped.way.changes))
    flow = run_load_flow(twin, None, lost(net.condition, loss))
    assert at(flow, "branches", "a-b", "loading_pct") <= 100.0 + 1e-3
    assert at(flow, "branches", "a-b", "loading_pct") == pytest.approx(helped.worst, abs=0.01)


def test_supply_is_brought_back_by_a_tie() -> None:
    net = network(
        bus("a"), bus("b"), bus("c"), source("a"), line("a", "b", rating_a=300), line("a", "c", rating_a=300), bus("t"),
        line("b", "t", rating_a=300), switch("t", "c", closed=False), load("b", 1.0), load("c", 1.0),
    )  # fmt: skip
    found = run_study("outages", net, help="worst", limit_set="normal")
    assert at(found, "outages", "a-b", "lost_mw") == pytest.approx(1.0)
    rules = {"kind": "outage_rule", "id": "r", "of": "lines", "lost_demand_mw": 0.0}
    strict = run_study(
        "outages", network(*(i.model_dump(exclude_none=True) for i in net.items.values()), rules), help="worst"
    )
    ways = [r for r in strict.tables["help"].records() if r["outage"] == "a-b"]
    assert ways[0]["do"] == "close t|c"
    assert ways[0]["cures"]


def test_workings_by_distribution_factors_agree_with_the_load_flow_in_closed_form() -> None:
    net = two_ways()
    study = STUDIES["outages"]
    options = study.options(limit_set="normal")
    result = study.run(Inputs(net), options, lambda *_: None)
    assert study.explain is not None
    told = study.explain(net, result, net.condition, "long", options.model_dump())
    cells = {c.symbol: c.value for c in told[0].ledger}
    # Two lines in parallel: what one loses the other takes over whole.
    assert cells["d"] == pytest.approx(1.0)
    assert cells["sk"] == pytest.approx(2 / 3)
    flow = run_load_flow(net, None, net.condition.model_copy(update={"states": {"a-b": "out"}}))
    assert cells["Pac"] == pytest.approx(at(flow, "branches", "long", "from_active_power_mw"), rel=1e-6)
    assert cells["x"] == pytest.approx(at(flow, "branches", "long", "loading_pct"), rel=1e-3)
    assert abs(cells["D"]) < 0.15 * cells["Pac"]


def test_schemes_are_held_against_each_other_by_what_they_cure() -> None:
    net = two_ways()
    items = [i.model_dump(exclude_none=True) for i in net.items.values()]
    schemes = [
        {"kind": "scheme", "id": ident, "name": name, "changes": [{"change": {"op": "update", "id": element, "values": values}}]}
        for ident, name, element, values in (
            ("s1", "Thicker long one", "long", {"rating_a": 300.0}), ("s2", "Thicker both", "a-b", {"rating_a": 300.0}),
            ("s3", "Thinner spur", "b-c", {"rating_a": 10.0}),
        )
    ]  # fmt: skip
    schemes[1]["changes"].append({"change": {"op": "update", "id": "long", "values": {"rating_a": 300.0}}})  # type: ignore[attr-defined]
    found = run_study("outages_compared", network(*items, *schemes), limit_set="normal")
    rows = {r["case"]: r for r in found.tables["cases"].records()}
    assert rows["no scheme"]["broken"] == 2.0
    assert rows["Thicker long one"]["cures"] == "a-b"
    assert sorted(rows["Thicker both"]["cures"].split(", ")) == ["a-b", "long"]
    assert rows["Thicker both"]["broken"] == 0.0
    assert "curing a-b" in found.statement
    alone = run_study("outages", network(*items), limit_set="normal")
    table = found.tables["compared"]
    k = list(table["name"]).index("a-b")
    assert table["used_1"][k] == pytest.approx(at(alone, "outages", "a-b", "worst_pct"))
