"""Control beyond one tap and its bus: chains of taps, compensation, remote buses, phase shifters, shared slack, exchanges."""

from __future__ import annotations

import random
from typing import Any

import numpy as np
import pytest

from tests.helpers import Item, assert_balanced, bus, column, line, load, network, run_study, source, transformer, volts
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Network
from vastmesh.core.results.state import LiveLoadFlow, LoadFlowResult, run_load_flow

AUTO = {"regulates": True, "tap_step_pct": 1.25, "tap_min": -10, "tap_max": 10, "rated_mva": 20.0}


def machine(at: str, mw: float, **more: Any) -> Item:
    return {"kind": "generator", "id": f"gen-{at}", "bus": at, "active_power_mw": mw, "rated_mva": 10.0, **more}


def delivered(result: LoadFlowResult, ident: str) -> complex:
    return complex(column(result, "injections", "active_power_mw")[ident],
                   column(result, "injections", "reactive_power_mvar")[ident])  # fmt: skip


def random_feeder(seed: int) -> Network:
    """A radial network of two transformers and one to three regulators in a row, with loads along the lines."""
    rng = random.Random(seed)
    items: list[Item] = [
        bus("h", 132), source("h", voltage_pu=rng.uniform(0.96, 1.06)), bus("m", 33), bus("n0"),
        transformer("h", "m", 132.0, 33.0, **{**AUTO, "rated_mva": 60.0}, band_pct=rng.uniform(1.6, 3.0)),
        transformer("m", "n0", **AUTO, band_pct=rng.uniform(1.6, 3.0), target_pu=rng.choice([1.0, 1.02])),
    ]  # fmt: skip
    for k in range(rng.randint(1, 3)):
        items += [
            bus(f"x{k}"),
            line(f"n{k}", f"x{k}", length_km=rng.uniform(1, 5)),
            bus(f"n{k + 1}"),
            load(f"x{k}", rng.uniform(0, 0.6), 0.1),
        ]
        items.append({"kind": "regulator", "id": f"reg{k}", "from_bus": f"x{k}", "to_bus": f"n{k + 1}",
                      "band_pct": rng.uniform(0.9, 2.0)})  # fmt: skip
        items.append(load(f"n{k + 1}", rng.uniform(0.1, 0.6), 0.1))
    return network(*items)


@pytest.mark.parametrize("first", range(0, 200, 20))
def test_taps_in_a_row_end_in_their_band_or_at_their_end_without_hunting(first: int) -> None:
    for seed in range(first, first + 20):
        net = random_feeder(seed)
        result = run_load_flow(net)
        assert result.account.converged
        assert not any("hunting" in n or "settled" in n for n in result.account.notes), seed
        tap, v = column(result, "branches", "tap_position"), volts(result)
        for e in net.elements():
            if e.kind in ("transformer", "regulator"):
                off = abs(abs(v[e.buses()[1]]) - e.target_pu)  # type: ignore[attr-defined]
                at_end = tap[e.id] in (e.tap_min, e.tap_max)  # type: ignore[attr-defined]
                assert off <= e.band_pct / 200 + 1e-9 or at_end, (seed, e.id)  # type: ignore[attr-defined]


def test_the_one_nearer_to_the_source_settles_first_so_that_the_other_need_not_move() -> None:
    """One low supply, two regulators in a row: the first cures it alone."""
    net = network(
        bus("s"), source("s", voltage_pu=0.96), bus("a"), bus("b"), bus("c"),
        {"kind": "regulator", "id": "r1", "from_bus": "s", "to_bus": "a"}, line("a", "b", length_km=0.1),
        {"kind": "regulator", "id": "r2", "from_bus": "b", "to_bus": "c"}, load("c", 0.1),
    )  # fmt: skip
    tap = column(run_load_flow(net), "branches", "tap_position")
    assert tap["r1"] > 0
    assert tap["r2"] == 0


def test_the_shorter_delay_acts_first_whatever_its_place() -> None:
    net = network(
        bus("s"), source("s", voltage_pu=0.96), bus("a"), bus("b"), bus("c"),
        {"kind": "regulator", "id": "r1", "from_bus": "s", "to_bus": "a", "delay_s": 60.0}, line("a", "b", length_km=0.1),
        {"kind": "regulator", "id": "r2", "from_bus": "b", "to_bus": "c", "delay_s": 10.0}, load("c", 0.1),
    )  # fmt: skip
    tap = column(run_load_flow(net), "branches", "tap_position")
    assert tap["r2"] > 0


def test_compensation_holds_the_voltage_where_the_current_has_passed_the_line() -> None:
    """With R and X of the line itself, its far end is what is held; the near end rises by the drop."""
    far = [line("l", "e", r_ohm_per_km=0.3, x_ohm_per_km=0.4, length_km=4.0), bus("e"), load("e", 4.0, 1.0)]
    unit = {**AUTO, "continuous": True, "target_pu": 1.0}
    plain = network(bus("h", 33), source("h"), bus("l"), transformer("h", "l", **unit), *far)
    with_ = network(bus("h", 33), source("h"), bus("l"),
                    transformer("h", "l", **unit, ldc_r_ohm=1.2, ldc_x_ohm=1.6), *far)  # fmt: skip
    assert abs(volts(run_load_flow(plain))["l"]) == pytest.approx(1.0, abs=1e-6)
    result = run_load_flow(with_)
    assert abs(volts(result)["e"]) == pytest.approx(1.0, abs=1e-6)
    assert abs(volts(result)["l"]) > 1.01


def test_a_continuous_tap_holds_its_target_itself() -> None:
    net = network(bus("h", 33), source("h"), bus("l"), transformer("h", "l", **AUTO, continuous=True, target_pu=1.013),
                  load("l", 9.0, 4.0))  # fmt: skip
    result = run_load_flow(net)
    assert abs(volts(result)["l"]) == pytest.approx(1.013, abs=1e-6)
    position = column(result, "branches", "tap_position")["h/l"]
    assert position != round(position)
    assert_balanced(net, result)


@pytest.mark.parametrize("side", ["hv", "lv"])
def test_a_tap_can_hold_either_side_or_a_bus_further_on(side: str) -> None:
    """The held bus on the HV side: fed from below, the tap moves the other way round."""
    net = network(
        bus("h", 33), bus("l"), source("l", voltage_pu=0.97), load("h", 6.0, 2.0),
        transformer("h", "l", **AUTO, tap_side=side, held_bus="h", target_pu=1.0, band_pct=2.0),
    )  # fmt: skip
    result = run_load_flow(net)
    assert abs(abs(volts(result)["h"]) - 1.0) <= 0.01 + 1e-9
    further = network(
        bus("h", 33), source("h"), bus("l"), transformer("h", "l", **AUTO, held_bus="e", band_pct=2.0, tap_side=side),
        line("l", "e", length_km=5.0), bus("e"), load("e", 3.0, 1.0),
    )  # fmt: skip
    assert abs(abs(volts(run_load_flow(further))["e"]) - 1.0) <= 0.01 + 1e-9


# Machines


def remote(*machines: Item) -> Network:
    return network(bus("s"), source("s"), bus("a"), bus("b"), bus("t"), line("s", "t", length_km=8.0), line("t", "a"),
                   line("t", "b"), load("t", 3.0, 2.0), *machines)  # fmt: skip


def test_machines_hold_another_bus_and_share_by_their_rating() -> None:
    common = {"control": "voltage", "held_bus": "t", "voltage_pu": 1.0, "q_min_mvar": -20.0, "q_max_mvar": 20.0}
    net = remote(machine("a", 0.5, **common), machine("b", 0.5, **{**common}) | {"rated_mva": 30.0})
    result = run_load_flow(net)
    assert abs(volts(result)["t"]) == pytest.approx(1.0, abs=1e-6)
    qa, qb = (delivered(result, f"gen-{x}").imag for x in "ab")
    assert qb == pytest.approx(3 * qa, rel=1e-6)
    assert_balanced(net, result)


def test_a_machine_at_its_limit_leaves_the_rest_to_the_other_and_says_when_both_are() -> None:
    common = {"control": "voltage", "held_bus": "t", "voltage_pu": 1.0, "q_min_mvar": -5.0}
    small = machine("a", 0.5, **common, q_max_mvar=0.1)
    result = run_load_flow(remote(small, machine("b", 0.5, **common, q_max_mvar=20.0)))
    assert abs(volts(result)["t"]) == pytest.approx(1.0, abs=1e-6)
    assert delivered(result, "gen-a").imag == pytest.approx(0.1)
    both = run_load_flow(remote(small, machine("b", 0.5, **common, q_max_mvar=0.2)))
    assert abs(volts(both)["t"]) < 1.0
    assert delivered(both, "gen-b").imag == pytest.approx(0.2)
    assert any("can't hold t" in n for n in both.account.notes)


def test_the_slack_is_shared_by_participation() -> None:
    """What is beyond the schedule of 4 MW is divided 1 : 3; the source keeps its part."""
    net = network(bus("s"), source("s", scheduled_mw=4.0, participation=1.0), bus("a"), line("s", "a", length_km=3.0),
                  machine("a", 2.0, participation=3.0), load("a", 10.0, 2.0))  # fmt: skip
    alone = run_load_flow(net)
    assert delivered(alone, "gen-a").real == pytest.approx(2.0)
    shared = run_load_flow(net, LoadFlowOptions(slack_shared=True))
    at_source, at_machine = delivered(shared, "source-s").real - 4.0, delivered(shared, "gen-a").real - 2.0
    assert at_machine == pytest.approx(3 * at_source, rel=1e-5)
    assert at_source > 0.9
    assert shared.summary["active_loss_mw"] < alone.summary["active_loss_mw"]  # type: ignore[operator]
    assert_balanced(net, shared)
    assert any("its share of what the slack is short of" in n for n in shared.account.notes)


def test_machines_with_a_droop_share_so_that_all_see_one_frequency() -> None:
    """Rated 10 MVA at 4 % and 20 MVA at 5 %: 2.5 and 4 MW for each per cent; the source 1.5."""
    net = network(
        bus("s"), source("s", scheduled_mw=4.0, participation=1.5), bus("a"), line("s", "a", length_km=1.0, rating_a=300.0),
        bus("b"), line("s", "b", length_km=2.0), machine("a", 2.0, rated_mva=10.0, droop_pct=4.0, participation=99.0),
        machine("b", 3.0, rated_mva=20.0, droop_pct=5.0), load("a", 12.0, 2.0), load("b", 3.0, 1.0),
        {"kind": "generator", "id": "plant", "bus": "b", "active_power_mw": 3.0, "rated_mva": 5.0},
        {"kind": "outage", "id": "o", "name": "Loss of the plant", "members": ["plant"]},
        {"kind": "settings", "id": "settings", "slack_shared": True, "tolerance_pu": 1e-10},
    )  # fmt: skip
    options = LoadFlowOptions(slack_shared=True, tolerance_pu=1e-10)
    for states in ({}, {"plant": "out"}):
        found = run_load_flow(net, options, net.condition.model_copy(update={"states": states}))
        more = [delivered(found, i).real - was for i, was in (("source-s", 4.0), ("gen-a", 2.0), ("gen-b", 3.0))]
        falls = [m / w for m, w in zip(more, (1.5, 2.5, 4.0), strict=True)]  # per cent of frequency
        assert falls == pytest.approx([falls[0]] * 3, rel=1e-6)
    assert sum(more) > 6.0
    # The same in the study of outages: the line to a carries what its load lacks.
    line_pct = column(found, "branches", "loading_pct")["s-a"]
    study = run_study("outages", net, listed_pct=0.0, of="plants", limit_set="normal")
    rows = study.tables["matrix"]
    after = [v for i, o, v in zip(rows["id"], rows["outage"], rows["after_pct"], strict=True)
             if i == "s-a" and o == "plant"]  # fmt: skip
    assert after == pytest.approx([line_pct], rel=1e-5)


def areas(export: float | None) -> Network:
    return network(
        {"kind": "area", "id": "north", "export_mw": None}, {"kind": "area", "id": "south", "export_mw": export},
        bus("s", 33, area="north"), source("s"), bus("a", 33, area="south"), bus("b", 33, area="south"),
        line("s", "a", length_km=6.0), line("s", "b", length_km=9.0), line("a", "b", length_km=4.0),
        load("a", 12.0, 3.0), load("b", 6.0, 1.0), machine("a", 5.0, participation=1.0),
        machine("b", 5.0, participation=1.0),
    )  # fmt: skip


def test_an_area_holds_its_agreed_export() -> None:
    net = areas(-3.0)
    result = run_load_flow(net, LoadFlowOptions(interchange=True))
    export = column(result, "areas", "export_mw")["south"]
    table = {r["id"]: r for r in result.tables["branches"].records()}
    ties = table["s-a"]["to_active_power_mw"] + table["s-b"]["to_active_power_mw"]
    assert ties == pytest.approx(-3.0, abs=1e-5)
    # The area table counts half of the ties' losses in either area.
    half = (table["s-a"]["active_loss_mw"] + table["s-b"]["active_loss_mw"]) / 2
    assert export + half == pytest.approx(-3.0, abs=1e-5)
    assert delivered(result, "gen-a").real == pytest.approx(delivered(result, "gen-b").real)
    assert run_load_flow(net).tables["areas"]["export_mw"][1] == pytest.approx(-8.0, abs=0.2)


def test_an_export_that_nobody_can_hold_is_said() -> None:
    net = network(*(i for i in areas(-3.0).to_items() if i["kind"] != "generator"))
    live = LiveLoadFlow(net)
    assert live.solve(options=LoadFlowOptions(interchange=True)).account.converged


def two_ways(wanted: float) -> Network:
    """Two equal ways to a load of 8 MW; a phase shifter in one holds its flow."""
    shifter = {
        "holds_flow": True,
        "flow_mw": wanted,
        "flow_band_mw": 0.3,
        "shift_step_deg": 0.1,
        "shift_most_deg": 20.0,
    }
    return network(
        bus("s", 33), source("s"), bus("a", 33), bus("b", 33), line("s", "a", length_km=5.0), line("s", "b", length_km=5.0),
        transformer("a", "b", 33.0, 33.0, vector_group="YNyn0", rated_mva=30.0, **shifter), load("b", 8.0),
    )  # fmt: skip


@pytest.mark.parametrize("wanted", [2.0, 6.0])
def test_a_phase_shifter_holds_its_flow(wanted: float) -> None:
    """Half of the load each way, until one holds another flow."""
    net = two_ways(wanted)
    result = run_load_flow(net)
    flow = column(result, "branches", "from_active_power_mw")["a/b"]
    assert flow == pytest.approx(wanted, abs=0.15)
    assert any("of shift because" in n for n in result.account.notes)
    assert_balanced(net, result)


def test_conditions_set_points_and_taps_of_their_own() -> None:
    tapped = transformer("h", "l", **{**AUTO, "regulates": False})
    net = network(bus("h", 33), source("h"), bus("l"), tapped, load("l", 5.0, 1.0), machine("l", 1.0),
                  {"kind": "condition", "id": "other", "name": "Other",
                   "values": {"h/l": {"tap_position": -4}, "gen-l": {"control": "voltage", "voltage_pu": 1.03,
                                                                     "q_min_mvar": -9.0, "q_max_mvar": 9.0},
                              "gone": {"x": 1}, "load-l": {"active_power_mw": -1e99}}})  # fmt: skip
    live = LiveLoadFlow(net)
    before = live.solve()
    other = live.solve(net["other"])  # type: ignore[arg-type]
    assert column(before, "branches", "tap_position")["h/l"] == 0
    assert column(other, "branches", "tap_position")["h/l"] == -4
    assert abs(volts(other)["l"]) == pytest.approx(1.03)
    assert column(other, "injections", "active_power_mw")["load-l"] == pytest.approx(5.0)
    assert np.abs(volts(live.solve())["l"]) == pytest.approx(abs(volts(before)["l"]), abs=1e-7)


def test_limits_of_a_condition_of_a_bus_and_of_a_branch() -> None:
    items = [
        bus("a"), source("a", voltage_pu=1.0), bus("b", limits="tight"), line("a", "b", rating_a=100.0, emergency_rating_a=130.0),
        load("b", 2.1), {"kind": "voltage_limits", "id": "usual", "name": "Usual"},
        {"kind": "voltage_limits", "id": "tight", "name": "Tight", "low_breach_pu": 0.999, "low_watch_pu": 0.9995},
        {"kind": "condition", "id": "now", "name": "Now", "limit_set": "emergency"},
    ]  # fmt: skip
    net = network(*items)
    usual = {f.quantity: f for f in run_load_flow(net).findings}
    assert usual["loading_pct"].severity == "breach"
    assert usual["voltage_pu"].limit_name == "Tight"
    emergency = run_load_flow(net, condition=net["now"])  # type: ignore[arg-type]
    kept = {f.quantity: f for f in emergency.findings if f.quantity == "loading_pct"}
    assert kept["loading_pct"].severity == "watch"
    own = network(*[{**i, "loading_limit_pct": 120.0} if i["kind"] == "line" else i for i in items])
    assert [f.severity for f in run_load_flow(own).findings if f.quantity == "loading_pct"] == ["watch"]
