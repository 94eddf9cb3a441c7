"""Linear load flow: exact splits, balance with and without losses; sensitivities against differences of solutions."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings

from tests.helpers import bus, column, line, load, network, networks, source, transformer, volts
from vastmesh.core.errors import InvalidFields
from vastmesh.core.flow import Ending
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Add, Network, Update
from vastmesh.core.results import Result
from vastmesh.core.results.state import run_load_flow
from vastmesh.core.studies.linear_flow import LinearFlowOptions, run_linear_flow
from vastmesh.core.studies.sensitivities import SensitivityOptions, run_sensitivities

TIGHT = LoadFlowOptions(tolerance_pu=1e-12)


def rows(result: Any, table: str = "branches") -> dict[str, dict[str, Any]]:
    return {r["id"]: r for r in result.tables[table].records()}


def test_an_equal_triangle_splits_two_to_one() -> None:
    """Paths of reactance x and 2x share a transfer of 9 MW as 6 : 3 (current divider, exact)."""
    net = network(
        bus("a"), bus("b"), bus("c"), source("a"), line("a", "b"), line("b", "c"), line("a", "c"), load("b", 9.0)
    )
    found = rows(run_linear_flow(net, LinearFlowOptions(losses="none")))
    assert found["a-b"]["lossless_mw"] == pytest.approx(6.0, abs=1e-9)
    assert found["a-c"]["lossless_mw"] == pytest.approx(3.0, abs=1e-9)


def assert_balanced(net: Network, result: Result) -> None:
    s = result.summary
    found = rows(result)
    assert s["generation_mw"] - s["demand_mw"] == pytest.approx(s["active_loss_mw"], abs=1e-9)  # type: ignore[operator]
    for r in found.values():
        if r["from_mw"] is not None:
            assert r["from_mw"] + r["to_mw"] == pytest.approx(r["loss_mw"], abs=1e-9)
            assert r["loss_mw"] == pytest.approx(r["ac_from_mw"] + r["ac_to_mw"], abs=1e-9)


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(networks())
def test_without_losses_it_balances_and_with_them_by_their_sum(net: Network) -> None:
    plain = run_linear_flow(net, LinearFlowOptions(losses="none"))
    assert plain.summary["difference_mw"] == pytest.approx(0.0, abs=1e-9)
    lossy = run_linear_flow(net)
    assert_balanced(net, lossy)
    # Kirchhoff at every bus of a network without switches.
    surplus: dict[str, float] = {}
    for r in rows(lossy).values():
        ends = net[r["id"]].buses()  # type: ignore[attr-defined]
        surplus[ends[0]] = surplus.get(ends[0], 0.0) - r["from_mw"]
        surplus[ends[1]] = surplus.get(ends[1], 0.0) - r["to_mw"]
    for e in net.elements():
        p = {"load": -1.0, "generator": 1.0}.get(e.kind)
        if p:
            surplus[e.bus] = surplus.get(e.bus, 0.0) + p * e.active_power_mw  # type: ignore[attr-defined]
    at_source = {e.bus for e in net.elements() if e.kind == "source"}  # type: ignore[attr-defined]
    assert all(abs(v) < 1e-8 for b, v in surplus.items() if b not in at_source)


def test_the_estimate_brings_the_flow_nearer_to_the_ac_one(demo: Network) -> None:
    plain, lossy = run_linear_flow(demo, LinearFlowOptions(losses="none")), run_linear_flow(demo)
    assert_balanced(demo, lossy)

    def error(result: Result) -> float:
        return float(np.nansum(np.abs(result.tables["branches"]["difference_mw"])))

    assert error(lossy) < 0.6 * error(plain)
    assert "added as demand at each sending end" in lossy.statement
    assert f"exceeds demand by {lossy.summary['difference_mw']:.4g} MW" in lossy.statement


def test_it_says_when_there_is_no_ac_solution_or_nothing_to_solve() -> None:
    heavy = network(bus("a"), bus("b"), source("a"), line("a", "b", length_km=50.0), load("b", 90.0))
    result = run_linear_flow(heavy)
    assert "no AC solution to take losses from" in result.statement
    assert rows(result)["a-b"]["lossless_mw"] == pytest.approx(90.0)
    empty = run_linear_flow(network(bus("a"), load("a", 1.0)))
    assert empty.account.ending is Ending.NOTHING_TO_SOLVE


def test_a_source_angle_and_a_vector_group_turn_the_angles() -> None:
    net = network(bus("h", 33), source("h", angle_deg=10.0), bus("l"), transformer("h", "l", vector_group="Dyn11"))
    found = rows(run_linear_flow(net), "buses")
    assert found["h"]["angle_deg"] == pytest.approx(10.0)
    assert found["l"]["angle_deg"] == pytest.approx(40.0)
    assert found["l"]["ac_angle_deg"] == pytest.approx(40.0)


# Sensitivities, against the difference of two solutions


def grid(**more: float) -> Network:
    return network(
        bus("a", 33), source("a", voltage_pu=1.01), bus("b", 33), bus("c", 33), bus("d"), line("a", "b", length_km=4.0),
        line("b", "c", length_km=6.0), line("a", "c", length_km=9.0), transformer("c", "d", vector_group="Dyn11"),
        load("b", 5.0, 1.0), load("d", 4.0, 1.5, constant_power_pct=40.0, constant_impedance_pct=60.0),
        {"kind": "generator", "id": "g", "bus": "b", "active_power_mw": 1.0, "control": "voltage", "voltage_pu": 1.0},
    )  # fmt: skip


@pytest.mark.parametrize(("part", "field"), [("mw", "active_power_mw"), ("mvar", "reactive_power_mvar")])
@pytest.mark.parametrize("at", ["c", "d"])
def test_sensitivities_are_the_slope_between_two_solutions(at: str, part: str, field: str) -> None:
    net, step = grid(), 1e-3
    result = run_sensitivities(net, SensitivityOptions(bus=at, branch="b-c"))
    values = {"active_power_mw": 0.0, "reactive_power_mvar": 0.0}
    net.apply([Add(item={"kind": "generator", "id": "more", "bus": at, **values})])
    net.apply([Update(id="more", values={field: -step})])
    low = run_load_flow(net, TIGHT)
    net.apply([Update(id="more", values={field: step})])
    high = run_load_flow(net, TIGHT)
    buses = rows(result, "buses")
    for b in "abcd":
        slope = (abs(volts(high)[b]) - abs(volts(low)[b])) / (2 * step) * 100
        assert buses[b][f"voltage_by_{part}"] == pytest.approx(slope, abs=1e-6)
    assert buses["b"][f"voltage_by_{part}"] == pytest.approx(0.0, abs=1e-9)  # held by the machine
    losses = [r.summary["active_loss_mw"] for r in (low, high)]
    assert buses[at][f"loss_by_{part}"] == pytest.approx((losses[1] - losses[0]) / (2 * step), abs=1e-6)  # type: ignore[operator]
    for ident, row in rows(result).items():
        flows = [column(r, "branches", "from_active_power_mw")[ident] for r in (low, high)]
        slope = (flows[1] - flows[0]) / (2 * step)
        assert row[f"flow_by_{part}"] == pytest.approx(slope, abs=1e-6)
        if ident == "b-c":
            assert buses[at][f"flow_by_{part}"] == pytest.approx(slope, abs=1e-6)


def test_a_lossless_flow_factor_is_that_of_the_linear_flow() -> None:
    """Reactances alone and no demand: one MW from c to a takes two thirds of the direct of two equal ways."""
    x = {"r_ohm_per_km": 1e-9, "x_ohm_per_km": 0.3}
    net = network(
        bus("a"), bus("b"), bus("c"), source("a"), line("a", "b", **x), line("b", "c", **x), line("a", "c", **x)
    )
    found = rows(run_sensitivities(net, SensitivityOptions(bus="c")))
    assert found["a-c"]["flow_by_mw"] == pytest.approx(-2 / 3, abs=1e-6)
    assert found["a-b"]["flow_by_mw"] == pytest.approx(-1 / 3, abs=1e-6)


def test_sensitivities_refuse_what_has_none() -> None:
    net = network(bus("a"), source("a"), bus("b"), bus("off"), line("a", "b"), load("b", 1.0))
    with pytest.raises(InvalidFields, match="a bus that has a supply"):
        run_sensitivities(net, SensitivityOptions(bus="off"))
    with pytest.raises(InvalidFields, match="carries current"):
        run_sensitivities(net, SensitivityOptions(branch="load-b"))
    heavy = network(bus("a"), source("a"), bus("b"), line("a", "b", length_km=50.0), load("b", 90.0))
    assert not run_sensitivities(heavy, SensitivityOptions(bus="b")).tables


def resistive(options: LinearFlowOptions) -> dict[str, dict[str, float]]:
    """Two ways of unequal r and x between a source and a load, and a shunt with conductance."""
    net = network(
        bus("a"), bus("b"), source("a"), line("a", "b", length_km=2.0, r_ohm_per_km=0.6, x_ohm_per_km=0.3),
        {**line("a", "b", length_km=3.0, r_ohm_per_km=0.05, x_ohm_per_km=0.3), "id": "second"}, load("b", 3.0),
        {"kind": "shunt", "id": "s", "bus": "b", "step_mvar": 0.5, "step_loss_kw": 400.0},
    )  # fmt: skip
    return {r["id"]: r for r in run_linear_flow(net, options).tables["branches"].records()}


def test_shunt_conductance_counts_as_demand_and_susceptance_by_choice() -> None:
    """Parallel ways share 3.4 MW by 1 / x, or by x / (r² + x²)."""
    by_x = resistive(LinearFlowOptions(losses="none"))
    assert by_x["a-b"]["lossless_mw"] + by_x["second"]["lossless_mw"] == pytest.approx(3.4, abs=1e-9)
    assert by_x["a-b"]["lossless_mw"] / by_x["second"]["lossless_mw"] == pytest.approx(0.9 / 0.6)
    by_both = resistive(LinearFlowOptions(losses="none", susceptance="r_and_x"))
    b1, b2 = 0.6 / (1.2**2 + 0.6**2), 0.9 / (0.15**2 + 0.9**2)
    assert by_both["a-b"]["lossless_mw"] / by_both["second"]["lossless_mw"] == pytest.approx(b1 / b2)


def test_losses_are_put_at_the_end_that_is_chosen() -> None:
    """Radial: at the sending end the line carries what leaves it, at the receiving end what enters it."""
    net = network(bus("a"), bus("b"), source("a"), line("a", "b", length_km=4.0), load("b", 3.0))
    rows = {}
    for at in ("sending", "receiving"):
        result = run_linear_flow(net, LinearFlowOptions(losses_at=at))  # type: ignore[arg-type]
        rows[at] = result.tables["branches"].records()[0]
        assert f"at each {at} end" in result.statement
    for row in rows.values():
        assert row["from_mw"] == pytest.approx(row["ac_from_mw"], abs=1e-6)
    angle = {at: run_linear_flow(net, LinearFlowOptions(losses_at=at)).tables["buses"]["angle_deg"][1] for at in rows}  # type: ignore[arg-type]
    loss = rows["sending"]["loss_mw"]
    assert angle["receiving"] / angle["sending"] == pytest.approx((3.0 + loss) / 3.0, rel=1e-6)


def test_reactive_power_where_the_voltage_is_held_changes_nothing() -> None:
    """The machine gives a Mvar less for a Mvar more: no voltage, flow or loss moves; elsewhere they do as by differences."""
    machine = {"kind": "generator", "id": "g", "bus": "b", "active_power_mw": 1.0, "control": "voltage", "voltage_pu": 1.01,
               "q_min_mvar": -20.0, "q_max_mvar": 20.0}  # fmt: skip
    items = [bus("a"), bus("b"), bus("c"), source("a"), line("a", "b"), line("b", "c"), load("c", 2.0, 0.5), machine]
    net = network(*items)
    found = run_sensitivities(net, SensitivityOptions(bus="b", branch="a-b"))
    table = found.tables["buses"]
    row = {b: k for k, b in enumerate(table["id"])}
    assert np.max(np.abs(table["voltage_by_mvar"])) == 0.0
    assert table["loss_by_mvar"][row["b"]] == 0.0
    assert table["flow_by_mvar"][row["b"]] == 0.0
    assert np.max(np.abs(found.tables["branches"]["flow_by_mvar"])) == 0.0
    at_c = run_sensitivities(net, SensitivityOptions(bus="c")).tables["buses"]["voltage_by_mvar"]
    tight = LoadFlowOptions(tolerance_pu=1e-12)
    step = 1e-4
    more, less = (
        column(run_load_flow(network(*items[:6], load("c", 2.0, 0.5 + s), machine), tight), "buses", "voltage_pu")
        for s in (-step, step)
    )
    for b in "abc":
        assert at_c[row[b]] == pytest.approx(100 * (more[b] - less[b]) / (2 * step), abs=1e-6)
