"""Every kind of equipment against its circuit, solved by hand or by another model."""

from __future__ import annotations

from math import sqrt

import numpy as np
import pytest

from tests.helpers import Item, assert_balanced, bus, column, line, load, network, source, switch, volts
from vastmesh.core.errors import InvalidFields
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import ThreeWinding
from vastmesh.core.results.state import run_load_flow

TIGHT = LoadFlowOptions(tolerance_pu=1e-11)


def unit(**more: object) -> Item:
    return {"kind": "three_winding", "id": "T", "hv_bus": "h", "mv_bus": "m", "lv_bus": "l", "hv_mva": 60, "mv_mva": 60,
            "lv_mva": 20, "hv_kv": 132, "mv_kv": 33, "lv_kv": 11, "z_hm_pct": 12, "z_ml_pct": 10, "z_hl_pct": 20,
            "x_over_r": 30, "mv_clock": 0, "lv_clock": 1, **more}  # fmt: skip


STATION = [bus("h", 132), source("h"), bus("m", 33), bus("l", 11)]


def test_a_three_winding_transformer_is_its_star() -> None:
    """Star of three two-winding branches about a bus of its own, built from lines and compared."""
    net = network(*STATION, unit(), load("m", 40.0, 12.0), load("l", 10.0, 3.0))
    result = run_load_flow(net, TIGHT)
    assert_balanced(net, result)
    star = [z * 132**2 / 60 for z in net["T"].star_pu()]  # type: ignore[attr-defined]
    lines = [line(b, "s", id=f"leg-{b}", r_ohm_per_km=z.real, x_ohm_per_km=z.imag) for b, z in zip("hml", star, strict=True)
             if z.real >= 0]  # fmt: skip
    assert len(lines) == 3, "chosen so that no leg is negative"
    twin = network(bus("h", 132), source("h"), bus("m", 132), bus("l", 132), bus("s", 132), *lines, load("m", 40.0, 12.0),
                   load("l", 10.0, 3.0))  # fmt: skip
    mine, other = volts(result), volts(run_load_flow(twin, TIGHT))
    for b, turn in (("m", 0.0), ("l", 30.0)):
        assert mine[b] == pytest.approx(other[b] * np.exp(-1j * np.radians(turn)), abs=1e-8)


def test_short_circuiting_two_windings_gives_the_plate_impedance() -> None:
    for pair, z in ((("h", "m"), 12.0), (("m", "l"), 10.0), (("h", "l"), 20.0)):
        legs = dict(zip("hml", ThreeWinding.model_validate(unit()).star_pu(), strict=True))
        assert abs(legs[pair[0]] + legs[pair[1]]) * 100 == pytest.approx(z)


def test_taps_of_a_three_winding_transformer_move_both_lower_voltages() -> None:
    plain = volts(run_load_flow(network(*STATION, unit())))
    raised = volts(run_load_flow(network(*STATION, unit(tap_step_pct=1.25, tap_min=-8, tap_max=8, tap_position=-8))))
    for b in "ml":
        assert abs(raised[b]) == pytest.approx(abs(plain[b]) / 0.9, rel=1e-9)


def test_windings_are_reported_and_overloads_found() -> None:
    net = network(*STATION, unit(), load("l", 25.0, 8.0))
    result = run_load_flow(net)
    row = result.tables["windings"].records()[0]
    assert row["lv_active_power_mw"] == pytest.approx(-25.0, abs=1e-6)
    assert row["hv_active_power_mw"] == pytest.approx(25.0 + row["active_loss_mw"], abs=1e-6)
    finding = next(f for f in result.findings if f.element == "T")
    expected = 100 * abs(complex(25, 8)) / abs(volts(result)["l"]) / 20
    assert finding.value == pytest.approx(expected, rel=1e-6)
    assert result.summary["live_buses"] == 3, "the star point inside is nobody's bus"


def test_an_auto_transformer_has_its_group() -> None:
    two = {"kind": "transformer", "id": "A", "hv_bus": "h", "lv_bus": "m", "windings": "auto", "hv_kv": 132, "lv_kv": 33,
           "rated_mva": 60, "impedance_pct": 8, "x_over_r": 30}  # fmt: skip
    with pytest.raises(InvalidFields, match="YNa0"):
        network(bus("h", 132), bus("m", 33), {**two, "vector_group": "Dyn11"})
    net = network(bus("h", 132), source("h"), bus("m", 33), {**two, "vector_group": "YNa0"}, load("m", 30.0))
    angle = column(run_load_flow(net), "buses", "angle_deg")
    assert abs(angle["m"]) < 5, "no shift of its own"


def test_a_regulator_raises_what_is_behind_it() -> None:
    reg: Item = {"kind": "regulator", "id": "R", "from_bus": "a", "to_bus": "b", "tap_position": 8, "automatic": False}
    net = network(bus("a"), source("a"), bus("b"), reg)
    assert abs(volts(run_load_flow(net))["b"]) == pytest.approx(1 + 8 * 0.00625, abs=1e-9)


def test_a_series_reactor_drops_its_voltage() -> None:
    """A constant-impedance load behind a reactor is a divider."""
    reactor: Item = {
        "kind": "series_reactor",
        "id": "X",
        "from_bus": "a",
        "to_bus": "b",
        "x_ohm": 2.0,
        "x_over_r": 40.0,
    }
    heater = load("b", 10.0, 0.0, constant_power_pct=0, constant_impedance_pct=100)
    net = network(bus("a"), source("a"), bus("b"), reactor, heater)
    z = 11.0**2 / 10.0
    assert volts(run_load_flow(net, TIGHT))["b"] == pytest.approx(z / (z + complex(0.05, 2.0)), abs=1e-9)


def test_motors_draw_what_their_plates_say() -> None:
    induction = {"kind": "induction_motor", "id": "M", "bus": "a", "rated_kw": 500, "efficiency_pct": 95,
                 "power_factor": 0.88, "load_factor_pct": 80, "count": 3}  # fmt: skip
    synchronous = {"kind": "synchronous_motor", "id": "S", "bus": "a", "rated_kw": 1000, "efficiency_pct": 96,
                   "power_factor": -0.9}  # fmt: skip
    result = run_load_flow(network(bus("a"), source("a"), induction, synchronous))
    p, q = column(result, "injections", "active_power_mw"), column(result, "injections", "reactive_power_mvar")
    drawn = 0.5 * 3 * 0.8 / 0.95
    assert (p["M"], q["M"]) == pytest.approx((drawn, drawn * sqrt(1 / 0.88**2 - 1)))
    assert q["S"] == pytest.approx(-1 / 0.96 * sqrt(1 / 0.81 - 1)), "over-excited: it delivers reactive power"


def test_a_lumped_demand_follows_its_mix() -> None:
    item: Item = {"kind": "lumped", "id": "D", "bus": "a", "active_power_mw": 2.0, "reactive_power_mvar": 1.0, "motor_pct": 65,
                  "impedance_pct": 25, "current_pct": 10}  # fmt: skip
    result = run_load_flow(network(bus("a"), source("a", voltage_pu=0.9), item))
    mix = 0.65 + 0.25 * 0.81 + 0.10 * 0.9
    assert column(result, "injections", "active_power_mw")["D"] == pytest.approx(2.0 * mix)
    with pytest.raises(InvalidFields, match="add up to 110 %"):
        network(bus("a"), {**item, "impedance_pct": 35})


def plant(**more: object) -> Item:
    return {"kind": "inverter", "id": "PV", "bus": "b", "rated_mva": 2.0, "active_power_mw": 1.8, **more}


def test_an_inverter_keeps_its_power_factor() -> None:
    net = network(bus("a"), source("a"), bus("b"), line("a", "b"), plant(power_factor=-0.95))
    q = column(run_load_flow(net), "injections", "reactive_power_mvar")["PV"]
    assert q == pytest.approx(-1.8 * sqrt(1 / 0.95**2 - 1))


def test_switchgear_limits_what_a_bay_may_carry() -> None:
    net = network(
        bus("a"), source("a"), bus("b"), switch("a", "b", rating_a=630.0), load("b", 5.0),
        {"kind": "current_transformer", "id": "CT", "at": "a|b", "primary_a": 200, "continuous_x": 1.2},
    )  # fmt: skip
    amps = 5e3 / sqrt(3) / 11
    assert column(run_load_flow(net), "branches", "loading_pct")["a|b"] == pytest.approx(100 * amps / 240)
