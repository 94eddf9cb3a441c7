"""What the tables per phase say of one element agrees with itself and with what it was entered as."""

from __future__ import annotations

from math import radians, sqrt
from typing import Any

import numpy as np
import pytest

from tests.core.test_per_phase_findings import TURN, fortescue, found_at, street
from tests.helpers import Item, bus, column, line, load, network, source, transformer
from vastmesh.core.network import Load, Network, Update
from vastmesh.core.results.state import LiveUnbalanced, LoadFlowResult, run_load_flow, run_unbalanced
from vastmesh.core.results.state import phase_options as live_options
from vastmesh.core.studies.load_flow import explain_phases
from vastmesh.core.studies.sweep import SweepOptions, run_sweep
from vastmesh.core.workings import explain


def row(result: LoadFlowResult, table: str, ident: str) -> dict[str, Any]:
    return next(r for r in result.tables[table].records() if r["id"] == ident)


def phasors(found: dict[str, Any], stem: str, size: str, angle: str) -> np.ndarray:
    return np.array([found[f"{stem}{p}_{size}"] * np.exp(1j * radians(found[f"{stem}{p}_{angle}"])) for p in "abc"])


# One end stands for a branch


def test_sizes_angles_and_sequences_of_a_branch_belong_together() -> None:
    result = run_unbalanced(street())
    for ident in ("a-b", "m/a"):
        found = row(result, "branches", ident)
        i = phasors(found, "phase_", "current_a", "current_deg")
        zero, positive, negative = fortescue(i)
        for word, value in (("positive", positive), ("negative", negative), ("zero", zero)):
            assert found[f"{word}_current_a"] == pytest.approx(abs(value), abs=2e-9)
            turn = np.exp(1j * radians(found[f"{word}_current_deg"]))
            assert value / abs(value) == pytest.approx(turn, abs=1e-9)


def test_a_transformer_is_told_by_the_currents_of_its_heavier_side() -> None:
    """The LV phases carry what the cable behind them takes; the star-delta winding turns and spreads it at the other."""
    result = run_unbalanced(street())
    unit, cable = (phasors(row(result, "branches", i), "phase_", "current_a", "current_deg") for i in ("m/a", "a-b"))
    np.testing.assert_allclose(unit, cable, rtol=1e-9)
    assert row(result, "branches", "m/a")["neutral_current_a"] == pytest.approx(abs(unit.sum()), rel=1e-6)


@pytest.mark.parametrize("criterion", ["worst", "positive"])
def test_loading_is_told_by_phase_and_by_positive_sequence(criterion: str) -> None:
    found = row(run_unbalanced(street(loading_criterion=criterion)), "branches", "a-b")
    by_phase = [found[f"phase_{p}_loading_pct"] for p in "abc"]
    np.testing.assert_allclose(by_phase, [100 * found[f"phase_{p}_current_a"] / 120 for p in "abc"], rtol=1e-9)
    assert found["positive_loading_pct"] == pytest.approx(100 * found["positive_current_a"] / 120)
    assert found["loading_pct"] == pytest.approx(
        max(by_phase) if criterion == "worst" else found["positive_loading_pct"]
    )


def test_angles_of_sequences_rebuild_the_voltages() -> None:
    net = street()
    found = row(run_unbalanced(net), "buses", "b")
    v = phasors(found, "phase_", "voltage_pu", "angle_deg")
    one = found["positive_voltage_pu"] * np.exp(1j * radians(found["angle_deg"]))
    two, zero = (
        found["positive_voltage_pu"] * found[f"{w}_voltage_pct"] / 100 * np.exp(1j * radians(found[f"{w}_angle_deg"]))
        for w in ("negative", "zero")
    )
    rebuilt = [zero + one + two, zero + TURN**2 * one + TURN * two, zero + TURN * one + TURN**2 * two]
    np.testing.assert_allclose(rebuilt, v, atol=1e-9)


# Loads and plants


def shop(connection: str = "wye", conductors: str = "ABCN") -> Item:
    return {"kind": "load", "id": "shop", "bus": "b", "conductors": conductors, "connection": connection, "p_a_mw": 0.006,
            "q_a_mvar": 0.002, "p_b_mw": 0.003, "q_b_mvar": 0.001, "p_c_mw": 0.001, "q_c_mvar": 0.0}  # fmt: skip


def test_powers_of_phases_of_a_load_are_those_entered_and_its_currents_carry_them() -> None:
    net = street(shop())
    result = run_unbalanced(net)
    found = row(result, "injections", "shop")
    np.testing.assert_allclose([found[f"phase_{p}_power_mw"] for p in "abc"], [0.006, 0.003, 0.001], rtol=1e-9)
    np.testing.assert_allclose([found[f"phase_{p}_power_mvar"] for p in "abc"], [0.002, 0.001, 0.0], atol=1e-12)
    v = phasors(row(result, "buses", "b"), "phase_", "voltage_pu", "angle_deg") * 400 / sqrt(3)
    i = phasors(found, "phase_", "current_a", "current_deg")
    np.testing.assert_allclose(v * np.conj(i) / 1e6, [0.006 + 0.002j, 0.003 + 0.001j, 0.001], rtol=1e-8)
    assert found["neutral_current_a"] == pytest.approx(abs(i.sum()), rel=1e-9)
    assert found["phases"] == "ABCN"
    steps = {s.symbol: s.value for w in explain_phases(net, result.tables, "shop") for s in w.steps}
    assert steps["IA"] == pytest.approx(found["phase_a_current_a"], rel=1e-9)
    assert steps["IN"] == pytest.approx(found["neutral_current_a"], rel=1e-9)


def test_a_plant_delivers_and_its_currents_point_out_of_it() -> None:
    roof = {
        "kind": "inverter",
        "id": "roof",
        "bus": "b",
        "rated_mva": 0.006,
        "active_power_mw": 0.005,
        "conductors": "BN",
    }
    result = run_unbalanced(street(roof))
    found = row(result, "injections", "roof")
    assert found["phase_b_power_mw"] == pytest.approx(0.005)
    assert found["phase_a_power_mw"] is None
    turn = found["phase_b_current_deg"] - row(result, "buses", "b")["phase_b_angle_deg"]
    assert turn == pytest.approx(0.0, abs=1e-6), "in phase with its voltage"


@pytest.mark.parametrize(
    ("conductors", "connection", "mva"),
    [("AN", "wye", 16 * 230.94e-6), ("AB", "wye", 16 * 400e-6), ("ABN", "wye", 2 * 16 * 230.94e-6),
     ("ABN", "delta", 16 * 400e-6), ("ABC", "wye", sqrt(3) * 16 * 400e-6)],
)  # fmt: skip
def test_a_current_counts_in_the_phases_that_a_load_has(conductors: str, connection: str, mva: float) -> None:
    """16 A at 400 V: 3.7 kVA of one phase, 6.4 between two, 11 of three; and the solved current is 16 A again."""
    items = [bus("b", 0.4, conductors="ABCN"), source("b", fault_max_mva=1e5, fault_min_mva=9e4),
             {"kind": "load", "id": "l", "bus": "b", "conductors": conductors, "connection": connection, "current_a": 16.0,
              "power_factor": 1.0, "rated_kv": 0.4}]  # fmt: skip
    net = network(*items)
    item = net["l"]
    assert isinstance(item, Load)
    assert abs(item.power_mva()) == pytest.approx(mva, rel=1e-4)
    if connection == "wye" or conductors == "ABN":
        assert column(run_unbalanced(net), "injections", "current_a")["l"] == pytest.approx(16.0, rel=1e-3)
    net.apply([Update(id="l", values={"active_power_mw": abs(item.power_mva()), "current_a": None})])
    step = next(s for w in explain(net, "l") for s in w.steps if s.field == "current_a")
    assert step.value == pytest.approx(16.0, rel=1e-4)


# Three windings


def three_windings(*loads: Item) -> Network:
    return network(
        bus("h", 132), source("h"), bus("m", 33), bus("l", 11),
        {"kind": "three_winding", "id": "tw", "hv_bus": "h", "mv_bus": "m", "lv_bus": "l", "hv_mva": 40.0, "mv_mva": 30.0,
         "lv_mva": 10.0, "hv_kv": 132.0, "mv_kv": 33.0, "lv_kv": 11.0, "z_hm_pct": 12.0, "z_ml_pct": 7.0, "z_hl_pct": 18.0,
         "iron_loss_kw": 20.0, "hv_neutral": "solid", "mv_neutral": "solid"}, *loads,
    )  # fmt: skip


def test_windings_of_a_balanced_unit_are_those_of_the_balanced_flow() -> None:
    net = three_windings(load("m", 20.0, 5.0), load("l", 12.0, 2.0))
    one, other = run_load_flow(net), run_unbalanced(net)
    for c in one.tables["windings"].columns:
        values = other.tables["windings"][c.name]
        if c.unit is None:
            assert list(values) == list(c.values)
        else:
            np.testing.assert_allclose(np.asarray(values, float), np.asarray(c.values, float), rtol=1e-7, atol=1e-7)
    assert found_at(other, "loading_pct", "tw") is not None


def test_the_winding_and_phase_loaded_most_are_named() -> None:
    net = three_windings(load("m", 20.0, 5.0), load("l", 4.0, 1.0), load("l", 5.0, 1.0, id="x", conductors="AB"))
    result = run_unbalanced(net)
    found = row(result, "windings", "tw")
    powers = found["hv_active_power_mw"] + found["mv_active_power_mw"] + found["lv_active_power_mw"]
    assert powers == pytest.approx(found["active_loss_mw"], abs=1e-9)
    amps = {p: found[f"lv_phase_{p}_current_a"] for p in "abc"}
    worst = max(amps, key=lambda p: amps[p])
    assert found["worst_phase"] == f"LV {worst.upper()}"
    assert found["loading_pct"] == pytest.approx(100 * amps[worst] / (10e3 / sqrt(3) / 11), rel=1e-9)
    finding = found_at(result, "loading_pct", "tw")
    assert finding is not None
    assert finding.text.startswith(f"winding LV {worst.upper()}")


# Settings and sweeps


def test_every_setting_of_the_load_flow_counts_per_phase_too() -> None:
    net = street(slack_shared=True, interchange=True, max_iterations=5000, low_voltage_pu=0.7, reactive_limits=False)
    options = live_options(net.settings)
    assert (options.slack_shared, options.interchange, options.reactive_limits) == (True, True, False)
    assert options.max_iterations == 1000, "as many as the method takes"
    assert options.low_voltage_pu == 0.7


def test_the_slack_shared_by_the_settings_is_shared_live_and_per_phase() -> None:
    items = [
        {"kind": "settings", "id": "settings", "name": "s", "study": "per_phase", "slack_shared": True},
        bus("s"), source("s", scheduled_mw=4.0, participation=1.0), bus("a"), line("s", "a", length_km=3.0),
        {"kind": "generator", "id": "g", "bus": "a", "active_power_mw": 2.0, "rated_mva": 10.0, "participation": 3.0},
        load("a", 10.0, 2.0),
    ]  # fmt: skip
    power = column(LiveUnbalanced(Network.from_items(items)).solve(), "injections", "active_power_mw")
    assert power["g"] - 2.0 == pytest.approx(3 * (power["source-s"] - 4.0), rel=1e-6)


def test_a_sweep_is_per_phase_where_the_settings_say_so() -> None:
    net = street()
    options = SweepOptions(start=0.5, stop=1.0, steps=2, automatic="off")
    swept = run_sweep(net, options, lambda share, words: None)
    assert "per phase" in swept.account.method
    whole = run_unbalanced(net).summary
    last = swept.tables["points"].records()[-1]
    for name in ("lowest_voltage_pu", "highest_neutral_v", "highest_unbalance_pct"):
        assert last[name] == pytest.approx(whole[name], rel=1e-6), name
    net.apply([Update(id="settings", values={"study": "balanced"})])
    balanced = run_sweep(net, options, lambda share, words: None).tables["points"]
    assert "highest_neutral_v" not in [c.name for c in balanced.columns]
    assert balanced.records()[-1]["lowest_voltage_pu"] > last["lowest_voltage_pu"]


def test_a_unit_without_load_has_no_sequences_to_tell() -> None:
    net = network(bus("a", 33), source("a"), bus("b", 11), transformer("a", "b"))
    found = row(run_unbalanced(net), "branches", "a/b")
    assert found["negative_current_deg"] is None


@pytest.mark.parametrize(("conductors", "expected"), [("AN", None), ("ABN", 100.0), ("ABCN", 200.0)])
def test_an_empty_phase_counts_in_the_power_unbalance(conductors: str, expected: float | None) -> None:
    """All power in one of two phases is the whole mean away from it; in one of three twice the mean; alone there is nothing to
    compare with."""
    net = network(
        bus("a", 0.4, conductors="ABCN", neutral="earthed"), source("a", fault_max_mva=1e4, fault_min_mva=9e3),
        bus("b", 0.4, conductors=conductors),
        line("a", "b", length_km=0.05, r_ohm_per_km=0.3, x_ohm_per_km=0.08, conductors=conductors),
        load("b", 0.004, 0.001, id="one", conductors="AN"),
    )  # fmt: skip
    found = row(run_unbalanced(net), "branches", "a-b")["power_unbalance_pct"]
    assert found is None if expected is None else found == pytest.approx(expected, abs=1e-6)


def test_nothing_flowing_is_no_unbalance() -> None:
    net = network(
        bus("a", 0.4, conductors="ABCN", neutral="earthed"), source("a", fault_max_mva=1e4, fault_min_mva=9e3),
        bus("b", 0.4, conductors="ABCN"), line("a", "b", length_km=0.05, r_ohm_per_km=0.3, conductors="ABCN"),
    )  # fmt: skip
    found = row(run_unbalanced(net), "branches", "a-b")
    assert found["power_unbalance_pct"] is None
    assert found["phase_a_loading_pct"] is None


@pytest.mark.parametrize("kind", ["load", "inverter", "electrode"])
def test_what_hangs_at_one_bus_says_what_it_is_connected_to(kind: str) -> None:
    items: dict[str, Item] = {
        "load": load("b", 0.001, id="x", conductors="CN"),
        "electrode": {"kind": "electrode", "id": "x", "bus": "b", "resistance_ohm": 9.0},
        "inverter": {"kind": "inverter", "id": "x", "bus": "b", "rated_mva": 0.003, "active_power_mw": 0.002, "conductors": "AN"},
    }  # fmt: skip
    found = row(run_unbalanced(street(items[kind])), "injections", "x")
    assert found["phases"] == {"load": "CN", "inverter": "AN", "electrode": "N"}[kind]


def test_the_shares_of_a_current_add_up_to_its_sequences() -> None:
    """A load on one phase draws the same positive, negative and zero sequence: a third of its current each."""
    net = street()
    net.apply([Update(id=i, values={"in_service": False}) for i in ("on B", "on C")])
    found = row(run_unbalanced(net), "branches", "a-b")
    for word in ("positive", "negative", "zero"):
        assert found[f"{word}_current_a"] == pytest.approx(found["phase_a_current_a"] / 3, rel=1e-9)
    assert found["neutral_current_a"] == pytest.approx(found["phase_a_current_a"], rel=1e-9)
