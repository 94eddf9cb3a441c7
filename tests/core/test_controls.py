"""Automatic control: taps end in their band, capacitors switch, inverters end on their curve, hunting is said."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.helpers import Item, assert_balanced, bus, column, line, load, network, source, transformer, volts
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Network, Update
from vastmesh.core.results.state import LiveLoadFlow, run_load_flow


def station(mw: float, **more: object) -> Network:
    auto = {"regulates": True, "tap_step_pct": 1.25, "tap_min": -8, "tap_max": 8, "rated_mva": 20.0, **more}
    return network(bus("h", 33), source("h"), bus("l"), transformer("h", "l", **auto), load("l", mw, mw / 3))


@settings(max_examples=30, deadline=None)
@given(st.floats(0.1, 18.0), st.sampled_from([0.98, 1.0, 1.02]))
def test_taps_end_inside_their_band_or_at_their_end(mw: float, target: float) -> None:
    net = station(mw, target_pu=target)
    result = run_load_flow(net)
    assert result.account.converged
    tap = column(result, "branches", "tap_position")["h/l"]
    inside = abs(abs(volts(result)["l"]) - target) <= 0.0125 + 1e-9
    assert inside or tap in (-8, 8)
    assert_balanced(net, result)
    # The same tap entered by hand gives the same answer.
    net.apply([Update(id="h/l", values={"tap_position": int(tap), "regulates": False})])
    assert volts(run_load_flow(net))["l"] == pytest.approx(volts(result)["l"], abs=1e-8)


def test_the_account_says_what_moved_and_why() -> None:
    result = run_load_flow(station(15.0))
    assert any("h/l went from tap 0 to -" in n and "to hold 1.000 p.u." in n for n in result.account.notes)
    stuck = run_load_flow(station(15.0, tap_min=-1, tap_max=1))
    assert any("at its last tap" in n for n in stuck.account.notes)


def test_control_can_be_switched_off() -> None:
    off = run_load_flow(station(15.0), LoadFlowOptions(automatic=False))
    assert column(off, "branches", "tap_position")["h/l"] == 0
    assert abs(volts(off)["l"]) < 0.98


def test_upstream_taps_settle_before_those_below() -> None:
    net = network(
        bus("h", 132), source("h", voltage_pu=0.95), bus("m", 33), bus("l"),
        transformer("h", "m", 132.0, 33.0, rated_mva=60.0, regulates=True, tap_step_pct=1.25, tap_min=-8, tap_max=8),
        transformer("m", "l", rated_mva=20.0, regulates=True, tap_step_pct=1.25, tap_min=-8, tap_max=8), load("l", 12.0, 4.0),
    )  # fmt: skip
    result = run_load_flow(net)
    assert all(abs(abs(volts(result)[b]) - 1) <= 0.0125 + 1e-9 for b in "ml")
    tap = column(result, "branches", "tap_position")
    assert tap["h/m"] < 0


def test_a_regulator_holds_its_bus() -> None:
    reg: Item = {"kind": "regulator", "id": "R", "from_bus": "b", "to_bus": "c", "target_pu": 1.01}
    net = network(bus("a"), source("a"), bus("b"), line("a", "b", length_km=8.0), bus("c"), reg, load("c", 2.0, 0.7))
    result = run_load_flow(net)
    assert abs(volts(result)["c"]) == pytest.approx(1.01, abs=0.0075)
    assert abs(volts(result)["b"]) < 0.99


def test_capacitor_steps_come_on_at_low_voltage_and_go_at_high() -> None:
    bank: Item = {"kind": "shunt", "id": "C", "bus": "b", "step_mvar": 0.6, "steps": 4, "steps_on": 0, "automatic": True,
                  "on_below_pu": 0.97, "off_above_pu": 1.03}  # fmt: skip
    items = [bus("a"), source("a"), bus("b"), line("a", "b", length_km=6.0), bank]
    low = run_load_flow(network(*items, load("b", 2.4, 1.5)))
    assert abs(volts(low)["b"]) >= 0.97
    assert any("C switched from 0 to" in n for n in low.account.notes)
    high = network(bus("a"), source("a", voltage_pu=1.035), bus("b"), line("a", "b"), {**bank, "steps_on": 4})
    off = run_load_flow(high)
    assert abs(volts(off)["b"]) <= 1.036
    assert column(off, "injections", "reactive_power_mvar")["C"] == pytest.approx(0, abs=1e-9)


def plant(**more: object) -> Item:
    return {"kind": "inverter", "id": "PV", "bus": "b", "rated_mva": 2.0, "active_power_mw": 1.9, "control": "voltage_curve",
            **more}  # fmt: skip


def on_curve(v: float, q_max: float) -> float:
    return float(np.interp(v, [0.94, 0.98, 1.02, 1.06], [q_max, 0.0, 0.0, -q_max]))


@settings(max_examples=40, deadline=None)
@given(st.floats(0.90, 1.09), st.floats(0.0, 1.9), st.floats(0.5, 15.0))
def test_an_inverter_ends_on_its_curve(v0: float, mw: float, km: float) -> None:
    net = network(
        bus("a"), source("a", voltage_pu=v0), bus("b"), line("a", "b", length_km=km), plant(active_power_mw=mw)
    )
    result = run_load_flow(net)
    v = abs(volts(result)["b"])
    q = column(result, "injections", "reactive_power_mvar")["PV"]
    assert q == pytest.approx(on_curve(v, 0.44 * 2.0), abs=1e-6)
    assert_balanced(net, result)


def test_two_inverters_on_one_bus_share_their_curve() -> None:
    net = network(bus("a"), source("a", voltage_pu=1.05), bus("b"), line("a", "b", length_km=3.0), plant(),
                  plant(id="PV2", rated_mva=1.0, active_power_mw=0.5))  # fmt: skip
    q = column(run_load_flow(net), "injections", "reactive_power_mvar")
    assert q["PV"] == pytest.approx(2 * q["PV2"])
    assert q["PV"] < 0


def test_edits_and_live_solutions_follow_control() -> None:
    net = station(15.0)
    live = LiveLoadFlow(net)
    live.solve()
    previous = {"h/l": net["h/l"]}
    net.apply([Update(id="h/l", values={"target_pu": 1.02})])
    live.changed(["h/l"], previous)
    assert volts(live.solve())["l"] == pytest.approx(volts(run_load_flow(net))["l"], abs=1e-7)
    previous = {"h/l": net["h/l"]}
    net.apply([Update(id="h/l", values={"regulates": False})])
    live.changed(["h/l"], previous)
    assert column(live.solve(), "branches", "tap_position")["h/l"] == 0
