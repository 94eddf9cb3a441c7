"""Equipment of any rating against linear circuits solved by hand, and what physics asks of every geometry."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from tests.helpers import assert_balanced, bus, line, load, network, source, transformer, volts
from vastmesh.core.electrical.line_constants import kron, line_constants
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import LineGeometry, ThreeWinding
from vastmesh.core.results.state import run_load_flow

TIGHT = LoadFlowOptions(tolerance_pu=1e-12)
PER_CENT = st.floats(4.0, 20.0)


@settings(max_examples=60, deadline=None)
@given(PER_CENT, PER_CENT, PER_CENT, st.floats(5, 60), st.floats(0.5, 20), st.floats(0.5, 8), st.integers(0, 11))
def test_a_three_winding_transformer_is_a_linear_star(
    hm: float, ml: float, hl: float, ratio: float, mw_m: float, mw_l: float, clock: int
) -> None:
    """Impedance loads on both lower windings: a divider that can be written down."""
    plate = {"id": "T", "hv_bus": "h", "mv_bus": "m", "lv_bus": "l", "hv_mva": 60, "mv_mva": 60, "lv_mva": 20, "hv_kv": 132,
             "mv_kv": 33, "lv_kv": 11, "z_hm_pct": hm, "z_ml_pct": ml, "z_hl_pct": hl, "x_over_r": ratio,
             "mv_clock": 0, "lv_clock": clock}  # fmt: skip
    # Three plates that contradict each other by far describe no transformer that could be built.
    assume(max(hm, ml, hl) < 0.9 * (hm + ml + hl - max(hm, ml, hl)) + 4)
    # Nor does one with a winding of no impedance at all, which is refused.
    assume(min(abs(hm + ml - hl), abs(hm + hl - ml), abs(hl + ml - hm)) > 1e-3)
    unit = ThreeWinding.model_validate(plate)
    assume(all(abs(z) > 1e-3 for z in unit.star_pu()))
    heat = {"constant_power_pct": 0, "constant_impedance_pct": 100}
    net = network(bus("h", 132), source("h", voltage_pu=1.02), bus("m", 33), bus("l", 11), {"kind": "three_winding", **plate},
                  load("m", mw_m, mw_m / 3, **heat), load("l", mw_l, 0.0, **heat))  # fmt: skip
    result = run_load_flow(net, TIGHT)
    assert_balanced(net, result)
    z_h, z_m, z_l = unit.star_pu()
    own_m, own_l = 60 / complex(mw_m, -mw_m / 3), 60 / complex(mw_l, 0)
    y_m, y_l = 1 / (z_m + own_m), 1 / (z_l + own_l)
    star = 1.02 / z_h / (1 / z_h + y_m + y_l)
    found = volts(result)
    assert found["m"] == pytest.approx(star * own_m * y_m, abs=1e-8)
    assert found["l"] == pytest.approx(star * own_l * y_l * np.exp(-1j * np.radians(30 * clock)), abs=1e-8)


@settings(max_examples=30, deadline=None)
@given(PER_CENT, st.floats(3, 50), st.floats(0.5, 25))
def test_an_auto_transformer_loads_like_a_two_winding_one(z: float, ratio: float, mw: float) -> None:
    """Seen from outside only the windings' own size differs, not voltages and flows."""
    plate = {"rated_mva": 40.0, "impedance_pct": z, "x_over_r": ratio}
    ends = (bus("a", 132), source("a"), bus("b", 66), load("b", mw, mw / 4))
    auto = transformer("a", "b", 132.0, 66.0, windings="auto", vector_group="YNa0", **plate)
    two = transformer("a", "b", 132.0, 66.0, vector_group="YNyn0", **plate)
    mine, theirs = run_load_flow(network(*ends, auto), TIGHT), run_load_flow(network(*ends, two), TIGHT)
    assert volts(mine) == pytest.approx(volts(theirs), abs=1e-10)


@settings(max_examples=40, deadline=None)
@given(st.integers(-16, 16), st.floats(0.0, 4.0))
def test_a_regulator_lets_the_power_through_that_it_takes(tap: int, mw: float) -> None:
    item = {"kind": "regulator", "id": "R", "from_bus": "b", "to_bus": "c", "tap_position": tap, "automatic": False}
    net = network(bus("a"), source("a"), bus("b"), line("a", "b"), bus("c"), item, load("c", mw, mw / 5))
    result = run_load_flow(net, TIGHT)
    assert_balanced(net, result)
    row = next(r for r in result.tables["branches"].records() if r["id"] == "R")
    assert row["active_loss_mw"] == pytest.approx(0.0, abs=1e-9), "its impedance is a reactance alone"
    assert row["tap_position"] == tap


@st.composite
def geometries(draw: st.DrawFn) -> LineGeometry:
    spread, height = draw(st.floats(0.6, 6.0)), draw(st.floats(6.0, 25.0))
    raised = draw(st.floats(0.0, 3.0))
    values = {
        "id": "g", "r20_ohm_per_km": draw(st.floats(0.03, 1.0)), "gmr_mm": draw(st.floats(2.0, 10.0)), "diameter_mm": 20.0,
        "a_x_m": -spread, "b_x_m": 0.0, "c_x_m": spread, "a_y_m": height, "b_y_m": height + raised, "c_y_m": height,
        "neutral": draw(st.sampled_from(["none", "reduced", "kept"])), "n_y_m": height - 2.0,
        "earth_wires": draw(st.integers(0, 2)), "w_x_m": 1.0, "w_y_m": height + 5.0, "bundle": draw(st.integers(1, 4)),
        "transposed": draw(st.booleans()), "earth_ohm_m": draw(st.floats(10.0, 5000.0)),
    }  # fmt: skip
    return LineGeometry.model_validate(values)


@settings(max_examples=80, deadline=None)
@given(geometries(), st.sampled_from([50.0, 60.0]))
def test_every_geometry_is_passive_symmetric_and_in_the_usual_range(geometry: LineGeometry, hz: float) -> None:
    found = line_constants(geometry, hz)
    for matrix in (found.primitive, found.z, found.y):
        np.testing.assert_allclose(matrix, matrix.T, atol=1e-12)
    assert np.linalg.eigvalsh(found.z.real).min() > 0, "no conductor gives power"
    charge = kron(found.y, 3).imag if len(found.y) == 3 else found.y[:3, :3].imag
    assert np.linalg.eigvalsh(charge).min() > 0
    assert found.z0.real > found.z1.real
    assert found.z0.imag > found.z1.imag > 0
    assert 0 < found.b0 < found.b1
    # The field inside the conductors only slows the waves down.
    omega = 2 * np.pi * hz
    assert omega / np.sqrt(found.z1.imag * found.b1 * 1e-6) < 1.001 * 299_792
