"""Losses of transformers limb by limb: written down where that can be done, and adding up everywhere."""

from __future__ import annotations

from math import sqrt
from typing import Any

import numpy as np
import pytest

from tests.core.test_balanced_equals_per_phase import GROUPS
from tests.helpers import Item, bus, column, line, load, network, source, transformer
from vastmesh.core.flow.phases import Reading
from vastmesh.core.network import Network
from vastmesh.core.results.state import LiveUnbalanced, LoadFlowResult, run_unbalanced

PARTS = ("phase_a", "phase_b", "phase_c", "neutral", "earth")


def parts_kw(result: LoadFlowResult, ident: str) -> list[float]:
    return [column(result, "branches", f"{p}_loss_kw")[ident] for p in PARTS]


def total_kw(result: LoadFlowResult, ident: str) -> float:
    return 1e3 * float(column(result, "branches", "active_loss_mw")[ident])


def reading(net: Network) -> Reading:
    found = LiveUnbalanced(net).reading()
    assert found is not None
    return found


def behind(group: str, *loads: Item, **more: Any) -> Network:
    """A unit of 200 kVA on an 11 kV source, with loads on its four-wire LV bus."""
    plate = {
        "rated_mva": 0.2,
        "impedance_pct": 4.0,
        "x_over_r": 3.0,
        "vector_group": group,
        "lv_neutral": "solid",
        **more,
    }
    return network(bus("m", 11.0), source("m", fault_max_mva=200.0, fault_min_mva=150.0), bus("a", 0.4, conductors="ABCN"),
                   transformer("m", "a", 11.0, 0.4, **plate), *loads)  # fmt: skip


UNEVEN = (load("a", 0.03, 0.01, id="on A", conductors="AN"), load("a", 0.012, 0.002, id="on B", conductors="BN"),
          load("a", 0.01, 0.004, id="between", conductors="BC"))  # fmt: skip


@pytest.mark.parametrize("core", ["bank", "three_limb"])
def test_copper_is_lost_in_the_limb_that_carries_the_current(core: str) -> None:
    net = behind("Dyn11", *UNEVEN, core=core)
    result, r = run_unbalanced(net), reading(net)
    amps = np.abs(r.element_current[r.arrays.element_id.index("m/a"), 1, :3])
    ohm = 0.04 / sqrt(1 + 3.0**2) * 400.0**2 / 200e3
    for phase, i in zip(PARTS, amps, strict=False):
        assert column(result, "branches", f"{phase}_loss_kw")["m/a"] == pytest.approx(ohm * i**2 / 1e3, rel=1e-9)
    shared = parts_kw(result, "m/a")[-1]
    assert sum(parts_kw(result, "m/a")) == pytest.approx(total_kw(result, "m/a"), rel=1e-9)
    # The zero-sequence impedance of a bank is that of a limb; three limbs share a little less.
    assert shared == pytest.approx(0, abs=1e-9) if core == "bank" else shared < -1e-4


def test_iron_is_lost_in_three_equal_limbs_at_no_load_and_less_where_the_voltage_is_low() -> None:
    idle = behind("Dyn11", iron_loss_kw=0.6, no_load_current_pct=1.0)
    result = run_unbalanced(idle)
    v = column(result, "buses", "positive_voltage_pu")["m"]
    a, b, c, _, earth = parts_kw(result, "m/a")
    copper = total_kw(result, "m/a") - 0.6 * v**2
    assert (a, b, c) == pytest.approx([0.2 * v**2] * 3, rel=1e-5)
    assert copper == pytest.approx(0, abs=1e-4)
    assert earth == pytest.approx(0, abs=1e-9)
    loaded = behind(
        "YNyn0", load("a", 0.15, id="heavy", conductors="AN"), hv_neutral="solid", iron_loss_kw=0.6, core="bank"
    )
    found, r = run_unbalanced(loaded), reading(loaded)
    amps = abs(r.element_current[r.arrays.element_id.index("m/a"), 1, 0])
    volts = np.abs(r.to_neutral[r.arrays.bus_id.index("m")]) / (11e3 / sqrt(3))
    copper = 0.04 / sqrt(10) * 400.0**2 / 200e3 * amps**2 / 1e3
    assert parts_kw(found, "m/a")[:3] == pytest.approx(
        [copper + 0.2 * volts[0] ** 2, 0.2 * volts[1] ** 2, 0.2 * volts[2] ** 2], rel=1e-4
    )


@pytest.mark.parametrize("group", GROUPS)
def test_limbs_and_what_they_share_add_up_in_every_vector_group(group: str) -> None:
    star = group.endswith(("yn0", "yn11", "yn1", "yn5", "yn7", "yn6", "yn4", "yn8", "zn11", "zn5", "zn1", "zn0"))
    more = {"hv_neutral": "solid"} if group.startswith(("YN", "ZN")) else {}
    loads = (
        UNEVEN if star else (load("a", 0.03, 0.01, id="ab", conductors="AB"), load("a", 0.01, id="bc", conductors="BC"))
    )
    net = behind(group, *loads, iron_loss_kw=0.5, tap_step_pct=2.5, tap_min=-2, tap_max=2, taps="per_phase", tap_a=1, tap_b=-2,
                 tap_c=0, **more)  # fmt: skip
    result = run_unbalanced(net)
    assert result.account.converged
    a, b, c, neutral, earth = parts_kw(result, "m/a")
    assert a + b + c + neutral + earth == pytest.approx(total_kw(result, "m/a"), rel=1e-9)
    assert neutral == 0
    assert min(a, b, c) > 0.1
    assert max(a, b, c) > 1.25 * min(a, b, c), "the heavy limb loses more"


def test_the_limbs_follow_taps_and_phase_shifters_that_moved_by_themselves() -> None:
    net = behind("Dyn11", *UNEVEN, regulates=True, target_pu=1.02, band_pct=1.0, tap_step_pct=1.25, tap_min=-8, tap_max=8,
                 taps="per_phase")  # fmt: skip
    result = run_unbalanced(net)
    assert len({column(result, "branches", f"tap_{p}")["m/a"] for p in "abc"}) > 1
    assert sum(parts_kw(result, "m/a")) == pytest.approx(total_kw(result, "m/a"), rel=1e-9)
    shifter = {"holds_flow": True, "flow_mw": 1.0, "flow_band_mw": 0.2, "shift_step_deg": 0.2, "shift_most_deg": 20.0}
    ring = network(
        bus("s", 33), source("s"), bus("a", 33), bus("b", 33), line("s", "a", length_km=5.0), line("s", "b", length_km=5.0),
        transformer("a", "b", 33.0, 33.0, vector_group="YNyn0", rated_mva=30.0, hv_neutral="solid", lv_neutral="solid",
                    **shifter),
        load("b", 5.0), load("b", 2.0, 0.4, id="one", conductors="BC"),
    )  # fmt: skip
    found = run_unbalanced(ring)
    assert any("of shift because" in n for n in found.account.notes)
    assert sum(parts_kw(found, "a/b")) == pytest.approx(total_kw(found, "a/b"), rel=1e-6)
    assert parts_kw(found, "a/b")[4] == pytest.approx(0, abs=1e-6 + abs(total_kw(found, "a/b")))


def test_single_phase_centre_tapped_and_open_units_lose_in_the_phase_they_hang_on() -> None:
    plate = {"rated_mva": 0.05, "impedance_pct": 2.5, "x_over_r": 1.5, "iron_loss_kw": 0.1}
    net = network(
        bus("m", 12.47, conductors="ABCN", neutral="earthed"), source("m", fault_max_mva=300.0, fault_min_mva=200.0),
        bus("p", 0.24, conductors="BN", neutral="earthed"),
        transformer("m", "p", 12.47 / sqrt(3), 0.24 / sqrt(3), vector_group="Ii0", conductors="BN", lv_conductors="BN", **plate),
        bus("q", 0.24, conductors="ABN", neutral="earthed", split_phase=True),
        transformer("m", "q", 12.47 / sqrt(3), 0.24, vector_group="Iii0", conductors="CN", lv_conductors="ABN", **plate),
        bus("o", 0.4), transformer("m", "o", 12.47, 0.4, vector_group="Vv0", **plate),
        load("p", 0.02, 0.005, conductors="BN"), load("q", 0.01, id="q1", conductors="AN"),
        load("q", 0.018, id="q2", conductors="BN"), load("o", 0.02, 0.01),
    )  # fmt: skip
    result = run_unbalanced(net)
    assert result.account.converged
    for ident, used in (("m/p", {1}), ("m/q", {2}), ("m/o", {0, 1})):
        parts = parts_kw(result, ident)
        assert sum(parts) == pytest.approx(total_kw(result, ident), rel=1e-9)
        assert {k for k, x in enumerate(parts) if x > 1e-6} == used
    # Both halves by hand: each has the unit's impedance on half the power, at half the voltage.
    r = reading(net)
    i = r.element_current[r.arrays.element_id.index("m/q"), 1]
    ohm = 0.025 / sqrt(1 + 1.5**2) * 120.0**2 / 25e3
    v = abs(r.to_neutral[r.arrays.bus_id.index("m"), 2]) / (12470 / sqrt(3))
    assert parts_kw(result, "m/q")[2] == pytest.approx(
        ohm * (abs(i[0]) ** 2 + abs(i[1]) ** 2) / 1e3 + 0.1 * v**2, rel=1e-9
    )


def test_three_windings_and_regulators() -> None:
    unit = {"kind": "three_winding", "id": "T", "hv_bus": "h", "mv_bus": "m", "lv_bus": "l", "hv_mva": 40, "mv_mva": 40,
            "lv_mva": 10, "hv_kv": 132, "mv_kv": 33, "lv_kv": 11, "z_hm_pct": 10, "z_ml_pct": 7, "z_hl_pct": 18, "x_over_r": 20,
            "iron_loss_kw": 30.0, "mv_clock": 0, "lv_clock": 11, "hv_neutral": "solid", "mv_neutral": "solid"}  # fmt: skip
    regulator = {"kind": "regulator", "id": "R", "from_bus": "m", "to_bus": "r", "rating_a": 400.0, "target_pu": 1.0}
    net = network(bus("h", 132.0), source("h"), bus("m", 33.0), bus("l", 11.0), bus("r", 33.0), unit, regulator,
                  load("r", 6.0, 1.0, id="x", conductors="AB"), load("r", 8.0, 2.0), load("l", 2.0, 1.0))  # fmt: skip
    result = run_unbalanced(net)
    # The table of branches has the unit under its windings: the sum is held against the reading itself.
    r = reading(net)
    at = r.arrays.element_id.index("T")
    lost = r.losses[at]
    assert lost.sum() == pytest.approx(r.element_power[at].sum().real, rel=1e-9)
    assert lost[:3].min() > 10e3 * 0.9
    assert lost[:2].min() > lost[2], "C carries less"
    assert total_kw(result, "R") == pytest.approx(0, abs=1e-6)
    assert parts_kw(result, "R") == pytest.approx([0] * 5, abs=1e-6)
