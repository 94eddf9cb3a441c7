"""On balanced networks the load flow per phase and the balanced one are two ways to one answer."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_joint_control import areas, machine, remote, two_ways
from tests.helpers import bus, column, line, load, network, networks, source, transformer
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.flow.phases import UnbalancedOptions
from vastmesh.core.network import Network
from vastmesh.core.results.state import LiveUnbalanced, LoadFlowResult, run_load_flow, run_unbalanced

GROUPS = ["Dyn11", "Dyn1", "Dyn5", "Dyn7", "Dy11", "Yyn0", "YNyn0", "YNyn6", "Yy0", "YNd1", "YNd11", "YNd5", "Yd11", "Yd5",
          "Dd0", "Dd6", "Dd2", "Yzn11", "Yzn5", "YNzn1", "Yz11", "Dzn0", "Dz6", "ZNyn11", "ZNd0", "YNyn4", "Yyn8"]  # fmt: skip


def assert_same(net: Network, *, within: float = 1e-8, **options: bool) -> LoadFlowResult:
    balanced = run_load_flow(net, LoadFlowOptions.model_validate(options))
    per_phase = run_unbalanced(net, UnbalancedOptions.model_validate(options))
    assert balanced.account.converged
    assert per_phase.account.converged, per_phase.account.explanation
    a, b = balanced.tables["buses"], per_phase.tables["buses"]
    np.testing.assert_allclose(b["positive_voltage_pu"], a["voltage_pu"], atol=within)
    turn = np.exp(1j * np.radians(a["angle_deg"] - b["angle_deg"]))
    live = np.isfinite(turn.real)
    np.testing.assert_allclose(turn[live], 1.0, atol=within)
    for pair in ("ab", "bc", "ca"):
        np.testing.assert_allclose(b[f"line_{pair}_voltage_pu"], a["voltage_pu"], atol=within)
    old, new = balanced.tables["branches"], per_phase.tables["branches"]
    for name in ("from_active_power_mw", "from_reactive_power_mvar", "to_active_power_mw", "active_loss_mw"):
        np.testing.assert_allclose(new[name], old[name], atol=within * 100)
    np.testing.assert_allclose(new["loading_pct"], old["loading_pct"], atol=1e-5)
    np.testing.assert_allclose(np.nan_to_num(new["tap_position"]), np.nan_to_num(old["tap_position"]))
    for name in ("generation_mw", "generation_mvar", "demand_mw", "active_loss_mw"):
        assert per_phase.summary[name] == pytest.approx(balanced.summary[name], abs=1e-6)
    return per_phase


def two_windings(group: str, **more: Any) -> Network:
    return network(
        bus("a", 33.0), source("a", voltage_pu=1.02), bus("b", 33.0), line("a", "b", length_km=3.0), bus("c", 11.0),
        transformer("b", "c", vector_group=group, iron_loss_kw=12.0, no_load_current_pct=0.8, **more), bus("d", 11.0),
        line("c", "d", length_km=2.0, b_us_per_km=60.0), load("d", 4.0, 1.5, constant_current_pct=30.0, constant_power_pct=50.0,
                                                              constant_impedance_pct=20.0),
    )  # fmt: skip


@pytest.mark.parametrize("group", GROUPS)
def test_every_vector_group(group: str) -> None:
    assert_same(two_windings(group))


@pytest.mark.parametrize("group", ["Dyn11", "YNd1", "Yyn0", "YNzn1"])
@pytest.mark.parametrize("side", ["hv", "lv"])
def test_taps_and_further_shifts(group: str, side: str) -> None:
    net = two_windings(
        group, tap_side=side, tap_step_pct=1.25, tap_min=-8, tap_max=8, tap_position=-5, phase_shift_deg=7.5
    )
    assert_same(net)


def test_auto_and_three_winding_transformers() -> None:
    three = {
        "kind": "three_winding", "id": "T3", "hv_bus": "a", "mv_bus": "m", "lv_bus": "l", "hv_mva": 60.0, "mv_mva": 60.0,
        "lv_mva": 20.0, "hv_kv": 132.0, "mv_kv": 33.0, "lv_kv": 11.0, "z_hm_pct": 12.0, "z_ml_pct": 7.0, "z_hl_pct": 20.0,
        "iron_loss_kw": 36.0, "no_load_current_pct": 0.4, "tap_step_pct": 1.25, "tap_min": -8, "tap_max": 8, "tap_position": -3,
    }  # fmt: skip
    auto = transformer("a", "u", 132.0, 66.0, windings="auto", vector_group="YNa0", rated_mva=90.0)
    assert_same(
        network(bus("a", 132.0), source("a"), bus("m", 33.0), bus("l", 11.0), three, load("m", 30.0, 8.0), load("l", 9.0, 2.0),
                bus("u", 66.0), auto, load("u", 40.0, 10.0))
    )  # fmt: skip


def test_voltage_held_up_to_a_reactive_limit() -> None:
    machine = {"kind": "generator", "id": "G", "bus": "b", "active_power_mw": 6.0, "rated_mva": 10.0, "control": "voltage",
               "voltage_pu": 1.03}  # fmt: skip
    base = [bus("a", 33.0), source("a"), bus("b", 33.0), line("a", "b", length_km=12.0), load("b", 9.0, 4.0)]
    free = assert_same(network(*base, machine))
    assert free.tables["buses"]["positive_voltage_pu"][1] == pytest.approx(1.03, abs=1e-9)
    bound = assert_same(network(*base, {**machine, "q_max_mvar": 2.0}))
    assert bound.tables["buses"]["positive_voltage_pu"][1] < 1.03
    assert any("highest reactive power" in n for n in bound.account.notes)


def test_motors_inverters_shunts_and_reactors() -> None:
    items = [
        bus("a", 11.0), source("a"), bus("b", 11.0), line("a", "b", length_km=3.0), bus("c", 11.0),
        {"kind": "series_reactor", "id": "X", "from_bus": "b", "to_bus": "c", "x_ohm": 0.4, "x_over_r": 30.0},
        {"kind": "induction_motor", "id": "M1", "bus": "c", "rated_kw": 800.0},
        {"kind": "synchronous_motor", "id": "M2", "bus": "c", "rated_kw": 1600.0, "power_factor": -0.9},
        {"kind": "shunt", "id": "C1", "bus": "c", "step_mvar": 0.6, "steps": 3, "steps_on": 2, "step_loss_kw": 1.0},
        {"kind": "inverter", "id": "S1", "bus": "b", "rated_mva": 1.5, "active_power_mw": 1.2, "power_factor": -0.95},
        {"kind": "lumped", "id": "D1", "bus": "b", "apparent_power_mva": 1.0, "power_factor": 0.9},
    ]  # fmt: skip
    assert_same(network(*items))
    items[-2] |= {"control": "voltage_curve", "phase_control": "each_phase"}
    assert_same(network(*items))
    items[-2] |= {"phase_control": "positive_sequence"}
    assert_same(network(*items))


@pytest.mark.parametrize("ldc", [0.0, 0.8])
def test_regulators_and_automatic_taps_end_where_the_balanced_ones_do(ldc: float) -> None:
    regulator = {"kind": "regulator", "id": "R", "from_bus": "b", "to_bus": "c", "rating_a": 300.0, "target_pu": 1.01,
                 "ldc_r_ohm": ldc, "ldc_x_ohm": ldc}  # fmt: skip
    net = network(
        bus("g", 33.0), source("g"), bus("a", 11.0),
        transformer("g", "a", vector_group="Dyn11", regulates=True, target_pu=1.0, tap_step_pct=1.25, tap_min=-8, tap_max=8),
        bus("b", 11.0), line("a", "b", length_km=7.0), bus("c", 11.0), regulator, bus("d", 11.0), line("c", "d", length_km=4.0),
        load("d", 2.6, 1.1),
        {"kind": "shunt", "id": "K", "bus": "d", "step_mvar": 0.2, "steps": 4, "steps_on": 0, "automatic": True,
         "on_below_pu": 0.97},
    )  # fmt: skip
    found = assert_same(net)
    assert any("went from tap" in n for n in found.account.notes)


def notes_of(result: LoadFlowResult, words: str) -> list[str]:
    return [n for n in result.account.notes if words in n]


def test_machines_that_hold_another_bus_share_as_the_balanced_ones_do() -> None:
    common = {"control": "voltage", "held_bus": "t", "voltage_pu": 1.0, "q_min_mvar": -5.0}
    for most in (20.0, 0.1):
        machines = machine("a", 0.5, **common, q_max_mvar=most), machine("b", 0.5, **common, q_max_mvar=0.2)
        found = assert_same(remote(*machines), within=1e-6)  # the voltage is held to 1e-7
        assert notes_of(found, "share: they hold t" if most > 1 else "can't hold t at")


def test_the_slack_is_shared_and_exchanges_are_held_as_in_the_balanced_flow() -> None:
    shared = network(bus("s"), source("s", scheduled_mw=4.0, participation=1.0), bus("a"), line("s", "a", length_km=3.0),
                     machine("a", 2.0, participation=3.0), load("a", 10.0, 2.0))  # fmt: skip
    assert notes_of(assert_same(shared, slack_shared=True), "its share of what the slack is short of")
    held = assert_same(areas(-3.0), interchange=True)
    rows = {r["id"]: r for r in held.tables["branches"].records()}
    assert sum(rows[i]["to_active_power_mw"] for i in ("s-a", "s-b")) == pytest.approx(-3.0, abs=1e-5)
    assert notes_of(held, "for the exchange of its area")


@pytest.mark.parametrize("wanted", [2.0, 6.0])
def test_phase_shifters_end_where_the_balanced_ones_do(wanted: float) -> None:
    net = two_ways(wanted)
    found = assert_same(net)
    rows = {r["id"]: r for r in found.tables["branches"].records()}
    assert rows["a/b"]["from_active_power_mw"] == pytest.approx(wanted, abs=0.15)
    assert notes_of(found, "of shift because")


def test_what_acts_together_acts_on_an_unbalanced_network_too() -> None:
    """One heavy phase: the held positive-sequence voltage, the shared slack and the flow held are met all the same."""
    uneven = load("t", 2.0, 0.5, id="uneven", name="uneven", conductors="A")
    common = {"control": "voltage", "held_bus": "t", "voltage_pu": 1.0, "q_min_mvar": -20.0, "q_max_mvar": 20.0}
    net = remote(machine("a", 0.5, participation=2.0, **common), machine("b", 0.5, **common), uneven)
    net = network(*(i | ({"participation": 1.0} if i["kind"] == "source" else {}) for i in net.to_items()))
    result = run_unbalanced(net, UnbalancedOptions(slack_shared=True))
    assert result.account.converged
    assert column(result, "buses", "positive_voltage_pu")["t"] == pytest.approx(1.0, abs=1e-6)
    assert column(result, "buses", "unbalance_pct")["t"] > 0.5
    power = column(result, "injections", "active_power_mw")
    assert power["gen-a"] - 0.5 == pytest.approx(2 * power["source-s"], rel=1e-4)
    shifter = two_ways(3.0)
    uneven_load = load("b", 3.0, 0.4, id="one", name="one", conductors="BC")
    held = run_unbalanced(network(*shifter.to_items(), uneven_load))
    assert column(held, "branches", "from_active_power_mw")["a/b"] == pytest.approx(3.0, abs=0.15)


@settings(max_examples=40, deadline=None)
@given(networks(most_buses=9), st.sampled_from([0.4, 1.0, 1.3]))
def test_random_balanced_networks(net: Network, demand: float) -> None:
    condition = net.condition.model_copy(update={"demand_factor": demand})
    balanced = run_load_flow(net, None, condition)
    live = LiveUnbalanced(net)
    per_phase = live.solve(condition)
    assert balanced.account.converged == per_phase.account.converged
    if not balanced.account.converged:
        return
    a, b = balanced.tables["buses"], per_phase.tables["buses"]
    np.testing.assert_allclose(b["positive_voltage_pu"], a["voltage_pu"], atol=1e-8)
    assert np.nanmax(b["unbalance_pct"]) < 1e-5
    reading = live.reading(condition)
    assert reading is not None
    assert reading.kirchhoff.max() < 1e-8
