"""Totals add up, causes name the right place, proposals really help, and a sweep is a row of load flows."""

from __future__ import annotations

import numpy as np
import pytest

from tests.helpers import bus, line, load, network, source, switch, transformer
from vastmesh.core.errors import InvalidFields
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Network, Trace, Update
from vastmesh.core.results import Cause, places, summarise_groups
from vastmesh.core.results.state import LoadFlowResult, run_load_flow
from vastmesh.core.studies.load_flow import find_cause
from vastmesh.core.studies.sweep import SweepOptions, run_sweep


def quiet(fraction: float, doing: str) -> None:
    assert 0 <= fraction <= 1
    assert doing


# Summaries


@pytest.mark.parametrize("name", ["by_area", "by_level"])
def test_groups_that_cover_everything_add_up_to_the_whole(demo: Network, name: str) -> None:
    result = run_load_flow(demo)
    table = summarise_groups(demo, result.tables, Trace(demo))[name]
    s = result.summary
    for column, total in (("demand_mw", "demand_mw"), ("generation_mw", "generation_mw"), ("active_loss_mw", "active_loss_mw"),
                          ("reactive_loss_mvar", "reactive_loss_mvar"), ("shunt_mvar", "shunt_mvar")):  # fmt: skip
        assert table[column].sum() == pytest.approx(s[total], abs=1e-6), column
    assert table["import_mw"].sum() == pytest.approx(0.0, abs=1e-5)
    assert min(table["lowest_voltage_pu"]) == pytest.approx(s["lowest_voltage_pu"])
    assert max(table["highest_voltage_pu"]) == pytest.approx(s["highest_voltage_pu"])


def test_extremes_name_the_element_they_belong_to(demo: Network) -> None:
    result = run_load_flow(demo)
    found = summarise_groups(demo, result.tables, Trace(demo))
    volts = dict(zip(result.tables["buses"]["id"], result.tables["buses"]["voltage_pu"], strict=True))
    loads = dict(zip(result.tables["branches"]["id"], result.tables["branches"]["loading_pct"], strict=True))
    for table in (found["by_area"], found["by_feeder"], found["by_substation"]):
        for low, at in zip(table["lowest_voltage_pu"], table["lowest_voltage_at"], strict=True):
            assert at is None or volts[at] == low
        for high, at in zip(table["highest_loading_pct"], table["highest_loading_at"], strict=True):
            assert at is None or loads[at] == high


def test_losses_by_kind_and_level_are_all_losses(demo: Network) -> None:
    result = run_load_flow(demo)
    found = summarise_groups(demo, result.tables, Trace(demo))
    for name in ("losses_by_kind", "losses_by_level"):
        assert found[name]["active_loss_mw"].sum() == pytest.approx(result.summary["active_loss_mw"], abs=1e-9)
        assert found[name]["share_pct"].sum() == pytest.approx(100.0)
    assert summarise_groups(demo, {}, Trace(demo)) == {}


def test_a_three_winding_transformer_counts_once() -> None:
    unit = {"kind": "three_winding", "id": "t", "hv_bus": "a", "mv_bus": "b", "lv_bus": "c", "hv_kv": 132.0, "mv_kv": 33.0,
            "lv_kv": 11.0, "hv_mva": 60.0, "mv_mva": 60.0, "lv_mva": 20.0,
            "z_hm_pct": 12.0, "z_hl_pct": 18.0, "z_ml_pct": 8.0}  # fmt: skip
    net = network(
        bus("a", 132), bus("b", 33), bus("c", 11), source("a"), unit, load("b", 30.0, 9.0), load("c", 9.0, 3.0)
    )
    result = run_load_flow(net)
    found = summarise_groups(net, result.tables, Trace(net))
    assert found["by_level"]["active_loss_mw"].sum() == pytest.approx(result.summary["active_loss_mw"])
    assert found["losses_by_kind"]["id"] == ["three_winding"]
    assert found["losses_by_level"]["id"] == ["132 kV"]


def test_places_of_rows_are_worked_out_when_asked_for(demo: Network) -> None:
    tables = run_load_flow(demo).tables
    calls: list[int] = []

    def trace() -> Trace:
        calls.append(1)
        return Trace(demo)

    columns = places(demo, tables["branches"], trace)
    assert not calls
    feeder = dict(zip(tables["branches"]["id"], columns["feeder"](), strict=True))
    assert calls
    assert sum(f == "Saltern F2 1" or (f or "").startswith("Saltern F2") for f in feeder.values()) > 3
    area = dict(zip(tables["branches"]["id"], columns["area"](), strict=True))
    assert area["T-Q1"] == "quillport"
    assert "area" not in places(demo, tables["buses"], trace)


def test_the_role_of_a_bus_says_who_holds_its_voltage(demo: Network) -> None:
    tables = run_load_flow(demo).tables
    role = dict(zip(tables["buses"]["id"], tables["buses"]["role"], strict=True))
    assert role["Ambry 132"] == "slack"
    assert "voltage" in role.values() or "at limit" in role.values()


# Causes


def solved(net: Network) -> tuple[LoadFlowResult, Trace]:
    return run_load_flow(net), Trace(net)


def weak_feeder(*more: dict[str, object]) -> Network:
    return network(
        bus("h", 33), source("h"), bus("m"), transformer("h", "m", tap_step_pct=1.25, tap_min=-8, tap_max=8),
        line("m", "x", length_km=2.0), bus("x"), line("x", "e", length_km=8.0), bus("e"), load("x", 1.0, 0.3),
        load("e", 2.0, 0.6), *more,
    )  # fmt: skip


def cause_of(net: Network, ident: str, quantity: str) -> Cause:
    return find_cause(net, *solved(net), ident, quantity)


def test_a_low_voltage_is_traced_to_the_line_where_it_arises() -> None:
    net = weak_feeder()
    cause = cause_of(net, "e", "voltage_pu")
    assert "End of 10 km from m" in cause.text
    assert "arises in x-e" in cause.text
    v = {r["id"]: r["voltage_pu"] for r in run_load_flow(net).tables["buses"].records()}
    share = 100 * (v["x"] - v["e"]) / ((v["x"] - v["e"]) + (v["m"] - v["x"]))
    assert f"{share:.0f} % of the drop" in cause.text
    assert cause.elements == ["e", "x-e"]


@pytest.mark.parametrize("word", ["Move h/m from tap 0 to", "Add a capacitor of"])
def test_proposals_for_a_low_voltage_do_what_they_say(word: str) -> None:
    net = weak_feeder()
    proposal = next(p for p in cause_of(net, "e", "voltage_pu").proposals if p.label.startswith(word))
    before = run_load_flow(net)
    net.apply(proposal.changes)
    after = run_load_flow(net)
    v = {k: float(r.tables["buses"]["voltage_pu"][list(r.tables["buses"]["id"]).index("e")])
         for k, r in (("before", before), ("after", after))}  # fmt: skip
    assert proposal.effect.startswith(f"{v['before']:.4f} → {v['after']:.4f} p.u.")
    assert v["after"] > v["before"]


def test_an_automatic_tap_is_asked_to_hold_more() -> None:
    net = network(bus("h", 33), source("h"), bus("m"), line("m", "e", length_km=8.0), bus("e"), load("e", 2.6, 0.8),
                  transformer("h", "m", tap_step_pct=1.25, tap_min=-8, tap_max=8, regulates=True))  # fmt: skip
    assert any(p.label == "Let h/m hold 1.02 p.u." for p in cause_of(net, "e", "voltage_pu").proposals)


def test_an_overloaded_line_is_relieved_by_moving_the_open_point() -> None:
    """Two feeders with a tie between their ends: the loaded one hands its end over."""
    net = network(
        bus("s"), source("s"), bus("a1"), bus("a2"), bus("a3"), bus("b1"),
        line("s", "a1", rating_a=120.0), switch("a1", "a2"), line("a2", "a3"), line("s", "b1", rating_a=200.0),
        load("a1", 1.0), load("a3", 1.6), load("b1", 0.5), switch("a3", "b1", closed=False),
    )  # fmt: skip
    cause = cause_of(net, "s-a1", "loading_pct")
    assert "It alone feeds 3 buses with 2.6 MW" in cause.text
    best = cause.proposals[0]
    assert best.label == "Move the open point: close a3|b1, open a1|a2"
    net.apply(best.changes)
    assert not [f for f in run_load_flow(net).findings if f.quantity == "loading_pct"]


def test_an_overload_beside_another_says_how_they_share(demo: Network) -> None:
    cause = cause_of(demo, "T-Q1", "loading_pct")
    assert "beside T-Q2 it takes" in cause.text
    assert "T-Q2" in cause.elements


def test_too_high_a_voltage_speaks_of_the_generation_behind() -> None:
    machine = {"kind": "generator", "id": "g", "bus": "e", "active_power_mw": 3.0}
    net = network(bus("h", 33), source("h", voltage_pu=1.03), bus("m"), bus("e"), machine, line("m", "e", length_km=8.0),
                  transformer("h", "m", tap_step_pct=1.25, tap_min=-8, tap_max=8))  # fmt: skip
    cause = cause_of(net, "e", "voltage_pu")
    assert "of the rise" in cause.text
    assert "3 MW are generated at and behind it" in cause.text
    assert any(p.label.startswith("Move h/m from tap 0 to ") for p in cause.proposals)


def test_nothing_is_proposed_that_does_not_help(demo: Network) -> None:
    result, trace = solved(demo)
    level = (sum(f.severity == "breach" for f in result.findings), sum(f.excess for f in result.findings))
    for finding in [f for f in result.findings if f.quantity in ("voltage_pu", "loading_pct")][:6]:
        for p in find_cause(demo, result, trace, finding.element, finding.quantity).proposals:
            twin = demo.copy()
            twin.apply(p.changes)
            after = run_load_flow(twin)
            assert (sum(f.severity == "breach" for f in after.findings), sum(f.excess for f in after.findings)) < level


# Sweep


def test_every_point_of_a_sweep_is_a_load_flow_of_its_own(demo: Network) -> None:
    options = SweepOptions(start=0.4, stop=1.2, steps=5, automatic="both")
    points = run_sweep(demo, options, quiet).tables["points"].records()
    assert len(points) == 10
    for p in points:
        condition = demo.condition.model_copy(update={"demand_factor": p["factor"] / 100})
        alone = run_load_flow(demo, LoadFlowOptions(automatic=p["automatic"]), condition)
        assert p["active_loss_mw"] == pytest.approx(alone.summary["active_loss_mw"], abs=1e-4)
        assert p["lowest_voltage_pu"] == pytest.approx(alone.summary["lowest_voltage_pu"], abs=1e-4)


def test_conditions_side_by_side(demo: Network) -> None:
    result = run_sweep(demo, SweepOptions(quantity="conditions", automatic="as_set"), quiet)
    assert [p["label"] for p in result.tables["points"].records()] == [
        "Winter evening",
        "Summer noon",
        "Windy autumn night",
        "Tower work, night",
    ]
    table = result.tables["buses"]
    assert [c.label for c in table.columns[2:]] == [
        "Winter evening",
        "Summer noon",
        "Windy autumn night",
        "Tower work, night",
    ]
    assert np.nanmin(table["point_1"]) == pytest.approx(result.tables["points"]["lowest_voltage_pu"][0])
    only = run_sweep(demo, SweepOptions(quantity="conditions", conditions=("summer-noon",), automatic="on"), quiet)
    assert len(only.tables["points"]) == 1


def test_points_without_a_solution_stay_in_the_sweep_and_are_named() -> None:
    net = network(bus("a"), bus("b"), source("a"), line("a", "b", length_km=12.0), load("b", 4.0, 1.0))
    result = run_sweep(net, SweepOptions(start=0.5, stop=6.0, steps=12, automatic="as_set"), quiet)
    states = [p["state"] for p in result.tables["points"].records()]
    assert states[0] == "converged"
    assert states[-1] == "iteration_limit"
    assert "No solution at" in result.account.notes[0]
    assert result.summary["failed"] == states.count("iteration_limit")


def test_a_sweep_refuses_what_it_cannot_do(demo: Network) -> None:
    with pytest.raises(InvalidFields, match="name an existing condition"):
        run_sweep(demo, SweepOptions(quantity="conditions", conditions=("nowhere",)), quiet)
    with pytest.raises(ValueError, match="enter a range"):
        SweepOptions(start=1.0, stop=1.0)


def test_winter_at_140_per_cent_taps_raise_the_rural_feeder(demo: Network) -> None:
    """The demonstration: the lowest voltages of Saltern's long feeder rise when taps may act, and the account says why."""
    condition = demo.condition.model_copy(update={"demand_factor": 1.4})
    off, on = (run_load_flow(demo, LoadFlowOptions(automatic=a), condition) for a in (False, True))
    low = [
        dict(zip(r.tables["buses"]["id"], r.tables["buses"]["voltage_pu"], strict=True))["Heron End"] for r in (off, on)
    ]
    assert low[1] > low[0] + 0.01
    moved = [n for n in on.account.notes if " went from tap " in n]
    assert any("because" in n and "Saltern" in n for n in moved)
    demo.apply([Update(id="settings", values={"automatic": False})])
    account = run_load_flow(demo, LoadFlowOptions(automatic=False), condition).account
    assert not account.notes
    assert "fewer than three phases" in account.assumed[0], "the street is on single phases, and it says so"
