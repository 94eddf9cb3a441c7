"""The load flow per phase against closed forms: single phases, open conductors, centre taps, motors, bad input."""

from __future__ import annotations

from math import sqrt
from typing import Any

import numpy as np
import pytest

from tests.helpers import Item, bus, line, load, source, transformer
from vastmesh.core.flow.phases import Reading, UnbalancedOptions
from vastmesh.core.network import Network
from vastmesh.core.results.state import LiveUnbalanced, LoadFlowResult, run_unbalanced
from vastmesh.core.severity import Severity

LV = {"nominal_kv": 0.4}


def net(*items: Item, base_mva: float = 1.0) -> Network:
    return Network.from_items([{"kind": "settings", "id": "settings", "name": "s", "base_mva": base_mva}, *items])


def read(network: Network) -> Reading:
    found = LiveUnbalanced(network).reading()
    assert found is not None
    return found


def at(result: LoadFlowResult, table: str, ident: str, column: str) -> Any:
    found = result.tables[table]
    return found[column][list(found["id"]).index(ident)]


def model_findings(result: LoadFlowResult) -> list[str]:
    return [f"{f.element}: {f.text}" for f in result.findings if f.limit_name == "Model"]


def stiff(at_bus: str = "a") -> Item:
    return source(at_bus, fault_max_mva=1e6, fault_min_mva=1e6)


def four_wire_line(frm: str, to: str, **more: Any) -> Item:
    """0.3 + j0.1 Ω in each phase and in the neutral, no coupling: the earth return cancels out of a loop."""
    return line(frm, to, r_ohm_per_km=0.3, x_ohm_per_km=0.1, conductors="ABCN", **more)


def test_impedance_between_phase_and_neutral_by_hand() -> None:
    """One loop: 230.94 V over the load's impedance and twice the conductor's."""
    items = [bus("a", 0.4, conductors="ABCN"), stiff(), bus("b", 0.4, conductors="ABCN"), four_wire_line("a", "b"),
             load("b", 0.01, 0.002, conductors="AN", constant_power_pct=0.0, constant_impedance_pct=100.0)]  # fmt: skip
    r = read(net(*items))
    volts = 400 / sqrt(3)
    z = volts**2 / complex(10e3, -2e3)
    current = volts / (z + 2 * complex(0.3, 0.1))
    assert r.element_current[r.arrays.element_id.index("a-b"), 0, 0] == pytest.approx(current, rel=1e-4)
    assert r.element_current[r.arrays.element_id.index("a-b"), 0, 3] == pytest.approx(-current, rel=1e-4)
    assert r.bus_v[1, 3] == pytest.approx(current * complex(0.3, 0.1), rel=2e-3)


def test_two_phases_carry_the_current_between_them() -> None:
    items = [bus("a", 0.4, conductors="ABCN"), stiff(), bus("b", 0.4, conductors="ABCN"), four_wire_line("a", "b"),
             load("b", 0.008, conductors="BC", constant_power_pct=0.0, constant_impedance_pct=100.0)]  # fmt: skip
    r = read(net(*items))
    i = r.element_current[r.arrays.element_id.index("a-b"), 0]
    assert i[1] == pytest.approx(-i[2], rel=1e-9)
    assert abs(i[0]) < 1e-9
    assert abs(i[3]) < 1e-9
    assert abs(i[1]) == pytest.approx(400 / (400**2 / 8e3 + 2 * abs(complex(0.3, 0.1)) * 0.948683), rel=2e-3)


def test_three_different_powers_are_drawn_phase_by_phase() -> None:
    shop = {"kind": "load", "id": "shop", "bus": "b", "conductors": "ABCN", "p_a_mw": 0.006, "q_a_mvar": 0.002,
            "p_b_mw": 0.003, "q_b_mvar": 0.001, "p_c_mw": 0.008, "q_c_mvar": 0.0025}  # fmt: skip
    network = net(
        bus("a", 0.4, conductors="ABCN"), stiff(), bus("b", 0.4, conductors="ABCN"), four_wire_line("a", "b"), shop
    )
    r = read(network)
    np.testing.assert_allclose(r.demand_power, [6e3 + 2e3j, 3e3 + 1e3j, 8e3 + 2.5e3j], rtol=1e-9)


@pytest.mark.parametrize("share", [(100.0, 0.0, 0.0), (0.0, 100.0, 0.0), (0.0, 0.0, 100.0)])
def test_power_follows_the_voltage_as_it_is_said(share: tuple[float, float, float]) -> None:
    demand = load("b", 0.012, 0.004, conductors="CN", constant_power_pct=share[0], constant_current_pct=share[1],
                  constant_impedance_pct=share[2])  # fmt: skip
    r = read(
        net(
            bus("a", 0.4, conductors="ABCN"),
            stiff(),
            bus("b", 0.4, conductors="ABCN"),
            four_wire_line("a", "b"),
            demand,
        )
    )
    u = abs(r.to_neutral[1, 2]) / (400 / sqrt(3))
    exponent = share.index(100.0)
    assert u < 0.97
    assert r.demand_power[0] == pytest.approx(complex(12e3, 4e3) * u**exponent, rel=1e-9)


def test_a_delta_of_equal_powers_is_a_star_of_equal_powers() -> None:
    base = [bus("a", 0.4), stiff(), bus("b", 0.4), line("a", "b")]
    star, delta = (run_unbalanced(net(*base, load("b", 0.02, 0.005, connection=c))) for c in ("wye", "delta"))
    np.testing.assert_allclose(star.tables["buses"]["voltage_pu"], delta.tables["buses"]["voltage_pu"], atol=1e-12)


def test_negative_sequence_of_a_motor_is_its_locked_rotor() -> None:
    """A load between two phases makes negative sequence; the motor's current of it is V2 over its locked-rotor impedance."""
    items = [bus("a", 0.4), source("a", fault_max_mva=5, fault_min_mva=5), load("a", 0.05, conductors="AB"),
             {"kind": "induction_motor", "id": "M", "bus": "a", "rated_kw": 90.0, "starting_current_x": 6.0}]  # fmt: skip
    r = read(net(*items))
    v2 = r.bus_sequences[0, 2]
    z = 1 / 6.0 * 0.4**2 * 1e6 / (90e3 / 0.93 / 0.87)
    a = np.exp(2j * np.pi / 3)
    element = r.arrays.element_id.index("M")
    phases = r.injection_phase_current[element, :3]
    i2 = phases @ np.array([1, a**2, a]) / 3
    assert abs(v2) > 0.5
    assert abs(i2) == pytest.approx(abs(v2) / z, rel=1e-6)
    assert abs(phases.sum()) < 1e-9


def test_an_inverter_in_one_phase_raises_that_phase() -> None:
    items = [bus("a", 0.4, conductors="ABCN"), stiff(), bus("b", 0.4, conductors="ABCN"), four_wire_line("a", "b"),
             {"kind": "inverter", "id": "PV", "bus": "b", "rated_mva": 0.005, "active_power_mw": 0.005,
              "conductors": "BN"}]  # fmt: skip
    result = run_unbalanced(net(*items))
    assert at(result, "buses", "b", "phase_b_voltage_pu") > 1.005
    assert at(result, "injections", "PV", "active_power_mw") == pytest.approx(0.005, rel=1e-9)


def test_positive_sequence_inverter_has_equal_currents() -> None:
    items = [bus("a", 0.4, conductors="ABCN"), stiff(), bus("b", 0.4, conductors="ABCN"), four_wire_line("a", "b"),
             load("b", 0.01, conductors="AN"),
             {"kind": "inverter", "id": "PV", "bus": "b", "rated_mva": 0.02, "active_power_mw": 0.015}]  # fmt: skip
    r = read(net(*items))
    amps = np.abs(r.injection_phase_current[r.arrays.element_id.index("PV"), :3])
    np.testing.assert_allclose(amps, amps[0], rtol=1e-12)


def single_phase(**more: Any) -> Item:
    return {"kind": "transformer", "id": "T", "hv_bus": "a", "lv_bus": "b", "rated_mva": 0.025, "hv_kv": 11 / sqrt(3),
            "lv_kv": 0.4 / sqrt(3), "impedance_pct": 4.0, "x_over_r": 3.0, "vector_group": "Ii0", "lv_neutral": "solid",
            **more}  # fmt: skip


def test_single_phase_transformer_by_hand() -> None:
    items = [bus("a", 11.0, conductors="ABCN", neutral="earthed"), stiff(), bus("b", 0.4, conductors="AN"),
             single_phase(conductors="AN", lv_conductors="AN"),
             load("b", 0.02, conductors="AN", constant_power_pct=0.0, constant_impedance_pct=100.0)]  # fmt: skip
    r = read(net(*items))
    v = 400 / sqrt(3)
    z_load, z_t = v**2 / 20e3, 0.04 * v**2 / 25e3
    z = complex(z_t / sqrt(10), 3 * z_t / sqrt(10))
    assert abs(r.to_neutral[1, 0]) == pytest.approx(v * z_load / abs(z_load + z), rel=1e-6)
    assert not np.isfinite(r.to_neutral[1, 1:].real).any()


def test_single_phase_transformer_between_two_phases_reversed() -> None:
    items = [bus("a", 11.0), stiff(), bus("b", 0.4, conductors="AN"),
             single_phase(conductors="BC", lv_conductors="AN", hv_kv=11.0, vector_group="Ii6"),
             load("b", 0.001, conductors="AN")]  # fmt: skip
    r = read(net(*items))
    primary = r.between[0, 1]
    assert np.angle(r.to_neutral[1, 0] / -primary) == pytest.approx(0.0, abs=2e-3)


def test_centre_tap_halves_stand_against_each_other() -> None:
    service = single_phase(conductors="AN", lv_conductors="ABN", lv_kv=0.24, vector_group="Iii0")
    items = [bus("a", 11.0, conductors="ABCN", neutral="earthed"), stiff(),
             bus("b", 0.24, conductors="ABN", split_phase=True), service,
             load("b", 0.006, conductors="AN"), {**load("b", 0.003, conductors="BN"), "id": "second"},
             {**load("b", 0.004, conductors="AB"), "id": "stove"}]  # fmt: skip
    r = read(net(*items))
    a, b = r.to_neutral[1, :2]
    assert abs(a + b) < 0.02 * abs(a)
    assert abs(r.between[1, 0]) == pytest.approx(240, rel=0.02)
    i = r.element_current[r.arrays.element_id.index("T")]
    # Ampere-turns: the HV current times its turns is the sum of both halves'.
    assert i[0, 0] * (11 / sqrt(3)) / 0.12 == pytest.approx(-(i[1, 0] - i[1, 1]), rel=1e-6)
    result = run_unbalanced(net(*items))
    assert at(result, "buses", "b", "phase_a_voltage_pu") == pytest.approx(abs(a) / 120, rel=1e-9)


def test_open_delta_feeds_three_phases_from_two_limbs() -> None:
    items = [bus("a", 11.0), stiff(), bus("b", 0.4),
             transformer("a", "b", 11.0, 0.4, vector_group="Vv0", rated_mva=0.1, impedance_pct=4.0),
             load("b", 0.03, 0.01)]  # fmt: skip
    r = read(net(*items))
    currents = r.element_current[r.arrays.element_id.index("a/b")]
    assert np.abs(currents[1, :3]).min() > 40
    assert abs(currents[1, :3].sum()) < 1e-9
    assert np.abs(r.between[1]).max() - np.abs(r.between[1]).min() > 0.2


@pytest.mark.parametrize("ohm", [0.0, 5.0, 50.0])
def test_earth_fault_like_load_through_a_neutral_impedance(ohm: float) -> None:
    """A resistance from phase A to earth on an impedance-earthed star: the neutral takes its share of the voltage."""
    neutral = {"lv_neutral": "solid"} if ohm == 0 else {"lv_neutral": "resistor", "lv_neutral_ohm": ohm}
    items = [bus("a", 33.0), stiff(), bus("b", 11.0),
             transformer("a", "b", 33.0, 11.0, vector_group="Dyn11", z0_pct=8.0, x_over_r=1e6, **neutral),
             load("b", 2.0, conductors="A", constant_power_pct=0.0, constant_impedance_pct=100.0)]  # fmt: skip
    r = read(net(*items, base_mva=10.0))
    v = 11e3 / sqrt(3)
    fault = v**2 / 2e6
    x = 0.08 * 11**2 / 10
    current = v / abs(complex(fault + ohm, x))  # three equal sequence impedances in series: x, x, x + 3 R over three
    assert abs(r.element_current[r.arrays.element_id.index("a/b"), 1, 0]) == pytest.approx(current, rel=2e-4)


def test_per_phase_regulators_bring_each_phase_to_its_target() -> None:
    regulator = {"kind": "regulator", "id": "R", "from_bus": "b", "to_bus": "c", "taps": "per_phase", "target_pu": 1.0,
                 "band_pct": 1.5, "conductors": "ABCN"}  # fmt: skip

    def chain(**more: Any) -> Network:
        return net(
            bus("a", 11.0, conductors="ABCN", neutral="earthed"), stiff(), bus("b", 11.0, conductors="ABCN"),
            line("a", "b", length_km=8.0, conductors="ABCN"), bus("c", 11.0, conductors="ABCN", neutral="earthed"),
            {**regulator, **more}, load("c", 0.9, 0.3, conductors="AN"), {**load("c", 0.3, 0.1, conductors="BN"), "id": "l2"},
            {**load("c", 0.6, 0.2, conductors="CN"), "id": "l3"},
        )  # fmt: skip

    result = run_unbalanced(chain())
    taps = [at(result, "branches", "R", f"tap_{p}") for p in "abc"]
    assert len(set(taps)) == 3
    for p in "abc":
        assert at(result, "buses", "c", f"phase_{p}_voltage_pu") == pytest.approx(1.0, abs=0.0076)
    ganged = run_unbalanced(chain(taps="ganged"))
    volts = [at(ganged, "buses", "c", f"phase_{p}_voltage_pu") for p in "abc"]
    assert max(volts) - min(volts) > 0.02
    assert np.isfinite(at(ganged, "branches", "R", "tap_position"))


def test_capacitor_of_one_phase_delivers_there_only() -> None:
    items = [bus("a", 11.0, conductors="ABCN", neutral="earthed"), source("a", fault_max_mva=60, fault_min_mva=60),
             {"kind": "shunt", "id": "C", "bus": "a", "step_mvar": 0.3, "conductors": "CN"}]  # fmt: skip
    result = run_unbalanced(net(*items))
    assert at(result, "injections", "C", "phase_c_current_a") == pytest.approx(0.3e6 / (11e3 / sqrt(3)), rel=0.02)
    assert at(result, "injections", "C", "phase_a_current_a") == pytest.approx(0.0, abs=1e-9)
    assert at(result, "injections", "C", "reactive_power_mvar") > 0.29


def test_a_switch_carries_each_conductor() -> None:
    items = [bus("a", 0.4, conductors="ABCN"), stiff(), bus("b", 0.4, conductors="ABCN"),
             {"kind": "switch", "id": "S", "from_bus": "a", "to_bus": "b", "conductors": "ABCN"},
             {**load("b", 0.01, conductors="AN")}, {**load("b", 0.004, conductors="CN"), "id": "l2"}]  # fmt: skip
    result = run_unbalanced(net(*items))
    volts = 400 / sqrt(3)
    assert at(result, "branches", "S", "phase_a_current_a") == pytest.approx(10e3 / volts, rel=1e-4)
    assert at(result, "branches", "S", "phase_b_current_a") == pytest.approx(0.0, abs=1e-9)
    assert at(result, "branches", "S", "phase_c_current_a") == pytest.approx(4e3 / volts, rel=1e-4)


# Broken, missing and unearthed


def street(**main: Any) -> list[Item]:
    return [
        bus("m", 11.0), stiff("m"), bus("a", 0.4, conductors="ABCN"),
        transformer("m", "a", 11.0, 0.4, vector_group="Dyn11", rated_mva=0.2, impedance_pct=4.0),
        bus("b", 0.4, conductors="ABCN"), four_wire_line("a", "b", length_km=0.1), bus("c", 0.4, conductors="ABCN"),
        {**four_wire_line("b", "c", length_km=0.1), **main}, load("c", 0.002, conductors="AN"),
        {**load("c", 0.006, conductors="BN"), "id": "l2"}, {**load("c", 0.004, conductors="CN"), "id": "l3"},
    ]  # fmt: skip


def test_broken_neutral_shifts_and_says_so() -> None:
    """Without a neutral the star point of three resistances stands where Millman's theorem puts it."""
    whole = run_unbalanced(net(*street()))
    broken = net(*street(conductors="ABC"))
    result = run_unbalanced(broken)
    assert result.account.converged
    assert at(whole, "buses", "c", "neutral_voltage_v") < 3
    r = read(broken)
    g = np.array([2e3, 6e3, 4e3])
    c = r.arrays.bus_id.index("c")
    phases = r.bus_v[c, :3]
    assert r.bus_v[c, 3] == pytest.approx((g * phases).sum() / g.sum(), rel=1e-6)
    assert at(result, "buses", "c", "neutral_voltage_v") > 50
    assert at(result, "buses", "c", "phase_a_voltage_pu") > 1.2
    assert any("carries no neutral" in text for text in model_findings(result))
    assert any("constant impedances" in note for note in result.account.notes)


def test_broken_neutral_with_an_electrode_has_its_return_through_earth() -> None:
    rod = {"kind": "electrode", "id": "rod", "bus": "c", "resistance_ohm": 10.0}
    result = run_unbalanced(net(*street(conductors="ABC"), rod))
    assert result.account.converged
    into_earth = at(result, "injections", "rod", "current_a")
    assert into_earth * 10.0 == pytest.approx(at(result, "buses", "c", "neutral_voltage_v"), rel=1e-9)
    assert at(result, "branches", "b-c", "earth_current_a") == pytest.approx(into_earth, rel=1e-6)


def test_broken_phase_leaves_its_loads_without_voltage() -> None:
    result = run_unbalanced(net(*street(conductors="ACN")))
    assert result.account.converged
    assert at(result, "buses", "c", "phase_b_voltage_pu") == pytest.approx(0.0, abs=1e-6)
    assert at(result, "injections", "l2", "active_power_mw") == pytest.approx(0.0, abs=1e-9)


def test_load_on_a_missing_phase_is_a_finding() -> None:
    items = [*street(), bus("d", 0.4, conductors="BN"), line("c", "d", conductors="BN", length_km=0.05),
             {**load("d", 0.001, conductors="AN"), "id": "lost"}]  # fmt: skip
    result = run_unbalanced(net(*items))
    assert result.account.converged
    found = [f for f in result.findings if f.element == "lost"]
    assert [f.severity for f in found] == [Severity.BREACH]
    assert "conductor A" in found[0].text
    assert at(result, "injections", "lost", "active_power_mw") == pytest.approx(0.0, abs=1e-12)


def test_delta_on_a_single_phase_lateral_is_a_finding() -> None:
    items = [*street(), bus("d", 0.4, conductors="BN"), line("c", "d", conductors="BN", length_km=0.05),
             {**load("d", 0.001, conductors="ABC", connection="delta"), "id": "pump"}]  # fmt: skip
    result = run_unbalanced(net(*items))
    assert result.account.converged
    assert any(t.startswith("pump: asks for conductor AC") for t in model_findings(result))


def test_nothing_earths_a_part_and_it_says_so() -> None:
    items = [bus("a", 33.0), source("a"), bus("b", 11.0), transformer("a", "b", vector_group="YNd1"), bus("c", 11.0),
             line("b", "c"), load("c", 1.0, 0.2, conductors="AB")]  # fmt: skip
    result = run_unbalanced(net(*items, base_mva=10.0))
    assert result.account.converged
    assert any("nothing earths this part (2 buses" in t for t in model_findings(result))
    r = read(net(*items, base_mva=10.0))
    assert abs(r.bus_v[1, :3].sum()) < 1e-6  # its mean to earth is put at zero
    assert r.kirchhoff.max() < 1e-8


def test_a_lone_neutral_is_no_singular_matrix() -> None:
    items = [bus("a", 0.4), source("a"), bus("b", 0.4, conductors="ABCN"), line("a", "b"), bus("c", 0.4, conductors="ABCN"),
             four_wire_line("b", "c"), load("c", 0.01)]  # fmt: skip
    result = run_unbalanced(net(*items))
    assert result.account.converged
    assert any("joined to nothing" in t for t in model_findings(result))


def test_no_source_and_no_bus() -> None:
    dead = run_unbalanced(net(bus("a", 0.4), load("a", 0.1)))
    assert dead.account.ending == "nothing_to_solve"
    assert "no supply" in " ".join(model_findings(dead))
    assert run_unbalanced(net()).account.ending == "nothing_to_solve"


def test_too_much_demand_ends_in_words_not_in_an_error() -> None:
    items = [bus("a", 0.4, conductors="ABCN"), stiff(), bus("b", 0.4, conductors="ABCN"), four_wire_line("a", "b"),
             load("b", 0.2, conductors="AN")]  # fmt: skip
    result = run_unbalanced(net(*items), UnbalancedOptions())
    if result.account.converged:  # only with demand that gives way, and then it says so
        assert any("follows the voltage squared" in n for n in result.account.notes)
    else:
        assert "conductor" in result.account.explanation


def test_heavily_loaded_and_badly_unbalanced_street_converges() -> None:
    items: list[Item] = [
        bus("n0", 0.4, conductors="ABCN"),
        source("n0", voltage_pu=1.04, fault_max_mva=6, fault_min_mva=6),
    ]
    for k in range(1, 31):
        items += [bus(f"n{k}", 0.4, conductors="ABCN"), four_wire_line(f"n{k - 1}", f"n{k}", length_km=0.02)]
        items.append({**load(f"n{k}", 0.0019, 0.0004, conductors="AN"), "id": f"l{k}"})
        if k % 6 == 0:
            items.append({**load(f"n{k}", 0.001, conductors="BN"), "id": f"m{k}"})
    result = run_unbalanced(net(*items))
    assert result.account.converged
    assert result.account.method.endswith("linear start")
    assert at(result, "buses", "n30", "phase_a_voltage_pu") < 0.85
    assert at(result, "buses", "n30", "phase_c_voltage_pu") > 1.04


def test_two_sources_in_a_meshed_four_wire_network() -> None:
    items = [bus("a", 0.4, conductors="ABCN"), source("a"), bus("b", 0.4, conductors="ABCN"), source("b", voltage_pu=0.99),
             bus("c", 0.4, conductors="ABCN"), four_wire_line("a", "b"), four_wire_line("b", "c"), four_wire_line("c", "a"),
             load("c", 0.02, conductors="AN"), {**load("c", 0.01, conductors="BC"), "id": "l2"}]  # fmt: skip
    result = run_unbalanced(net(*items))
    assert at(result, "buses", "b", "positive_voltage_pu") == pytest.approx(0.99, abs=1e-12)
    left = (
        (result.summary["generation_mw"] or 0)
        - (result.summary["demand_mw"] or 0)
        - (result.summary["active_loss_mw"] or 0)
    )
    sources = sum(x for k, x in zip(result.tables["injections"]["kind"], result.tables["injections"]["active_power_mw"],
                                    strict=True) if k == "source")  # fmt: skip
    assert sources == pytest.approx(result.summary["generation_mw"])
    assert abs(left) < 1e-8
