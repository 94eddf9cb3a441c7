"""Spectra in rows, operating points, source models, background, and resistance against order."""

from __future__ import annotations

from math import pi
from typing import Any

import numpy as np
import pytest

from tests.helpers import at
from vastmesh.core.catalogue import find_type, types_of
from vastmesh.core.catalogue._spectra import bridge_current
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Add, Network, OwnType, Update
from vastmesh.core.results import Result
from vastmesh.core.results.state import solve_as_set
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.harmonics._sources import spectrum

QUIET = {"demand": "none", "lines": "nominal"}


def run(network: Network, **options: Any) -> Result:
    kind = STUDIES["distortion"]
    return kind.run(Inputs(network), kind.options(**{**QUIET, **options}), lambda share, words: None)


def own(**values: Any) -> dict[str, Any]:
    return {"kind": "own_type", "id": "mine", "family": "spectrum", **values}


def net(*more: dict[str, Any], **of_line: Any) -> Network:
    return Network.from_items([
        {"kind": "bus", "id": "s", "nominal_kv": 11}, {"kind": "bus", "id": "a", "nominal_kv": 11},
        {"kind": "source", "id": "g", "bus": "s", "fault_max_mva": 150, "fault_min_mva": 150, "x_over_r": 8},
        {"kind": "line", "id": "l", "from_bus": "s", "to_bus": "a", "length_km": 3, "r_ohm_per_km": 0.2, "x_ohm_per_km": 0.35,
         "b_us_per_km": 0.0, "skin_exponent": 0.5, **of_line}, *more,
    ])  # fmt: skip


def drive(**values: Any) -> dict[str, Any]:
    return {
        "kind": "load",
        "id": "d",
        "bus": "a",
        "active_power_mw": 2.0,
        "reactive_power_mvar": 0.6,
        "spectrum": "mine",
        **values,
    }


def z_of(h: float, skin: float = 0.5) -> complex:
    """Source and line as seen from the end."""
    z = 11**2 / 150
    r = z / 65**0.5
    return complex(r + 0.6 * h**skin, h * (8 * r + 1.05))


def amps(network: Network) -> tuple[float, float]:
    flow = solve_as_set(network)
    return at(flow, "injections", "d", "current_a"), at(flow, "buses", "a", "voltage_pu")


def test_rows_are_read_as_they_come_from_a_spreadsheet() -> None:
    e = OwnType(id="x", name="x", family="spectrum", orders="5\t38,5 %\t180°\n7\t14\n\n11.5 2; 1 50")
    assert e.spectra() == {1.0: {5.0: (0.77, 180.0), 7.0: (0.28, None), 11.5: (0.04, None)}}


@pytest.mark.parametrize(
    ("rows", "words"),
    [
        ("0 5", "order 0"), ("-3 5", "order -3"), ("1 120; 5 20", "fundamental is 120 %"), ("5 20; 5 10", "twice"),
        ("5", "2 to 3 numbers"),
        ("5 twenty", "apart by blanks"), ("5 -2", "-2 %"), ("5 20 0 1", "2 to 3 numbers"), ("1 0; 5 3", "fundamental is 0 %"),
    ],
)  # fmt: skip
def test_a_spectrum_that_can_t_be_is_refused_with_its_row(rows: str, words: str) -> None:
    network = net(own(orders="5 20"), drive())
    with pytest.raises(InvalidFields) as refused:
        network.apply([Update(id="mine", values={"orders": rows})])
    assert words in str(refused.value)
    assert "orders" in str(refused.value)
    assert network["mine"].orders == "5 20"  # type: ignore[attr-defined]


def test_own_orders_and_those_between_whole_ones_are_injected() -> None:
    network = net(own(orders="5 20 180; 6.4 3; 11 4"), drive())
    result = run(network)
    i, v = amps(network)
    for h, share, name in ((5.0, 0.2, "order_5_pct"), (6.4, 0.03, "order_6_4_pct"), (11.0, 0.04, "order_11_pct")):
        expected = 100 * abs(z_of(h)) * i * share * 3**0.5 / (v * 11e3)
        assert at(result, "buses", "a", name) == pytest.approx(expected, rel=1e-9)
    assert any("6.4" in f.text for f in result.findings) or at(result, "buses", "a", "order_6_4_pct") < 0.16


@pytest.mark.parametrize(
    ("loading", "five"), [(1.0, 20.0), (0.9, 22.0), (0.75, 25.0), (0.6, 31.0), (0.3, 35.0), (0.05, 35.0)]
)
def test_between_operating_points_by_straight_lines(loading: float, five: float) -> None:
    network = net(own(orders="5 20", orders_75="5 25", orders_50="5 35"))
    assert spectrum(network, "mine", loading)[5.0][0] == pytest.approx(five / 100)


def test_a_load_at_half_its_power_has_the_spectrum_of_half_load() -> None:
    condition = {"kind": "condition", "id": "half", "demand_factor": 0.5}
    settings = {"kind": "settings", "id": "settings", "condition": "half"}
    network = net(own(orders="5 20", orders_50="5 35"), drive(), condition, settings)
    assert at(run(network), "injections", "d", "order_5_a") == pytest.approx(0.35 * amps(network)[0], rel=1e-6)


@pytest.mark.parametrize("detail", ["balanced", "per_phase"])
def test_a_current_with_its_own_impedance_beside_it(detail: str) -> None:
    network = net(own(orders="5 20 180; 7 10 0"), drive(source_model="parallel", own_x_pct=20.0, own_r_pct=2.0))
    result = run(network, detail=detail)
    i, v = amps(network)
    base = 11**2 / abs(complex(2.0, 0.6))
    for h, share in ((5, 0.2), (7, 0.1)):
        beside = complex(0.02, 0.2 * h) * base
        z = 1 / (1 / z_of(h) + 1 / beside)
        expected = 100 * abs(z) * i * share * 3**0.5 / (v * 11e3)
        assert at(result, "buses", "a", f"order_{h}_pct") == pytest.approx(expected, rel=1e-6)


@pytest.mark.parametrize("detail", ["balanced", "per_phase"])
def test_a_voltage_behind_its_impedance(detail: str) -> None:
    network = net(own(orders="5 8; 7 4"), drive(source_model="voltage", own_x_pct=25.0, own_r_pct=0.0))
    result = run(network, detail=detail)
    base = 11**2 / abs(complex(2.0, 0.6))
    for h, share in ((5, 8.0), (7, 4.0)):
        behind = complex(0.0, 0.25 * h) * base
        expected = share * abs(z_of(h) / (z_of(h) + behind))  # a divider
        assert at(result, "buses", "a", f"order_{h}_pct") == pytest.approx(expected, rel=1e-6)
    assert np.isnan(at(result, "injections", "d", "fundamental_a"))


OWN = [
    # By a starting current of five times at 0.4: of the rating, 11 kV and 2 + j0.6 MVA.
    ({"own_by": "locked_rotor", "own_starting_x": 5.0, "own_starting_cos": 0.4},
     lambda h: complex(0.4, h * 0.84**0.5) / 5 * 121 / abs(complex(2.0, 0.6))),
    ({"own_by": "locked_rotor"}, lambda h: complex(0.3, h * 0.91**0.5) / 6 * 121 / abs(complex(2.0, 0.6))),
    # A reactor of 40 mH with 3 ohms, behind it 2 microfarad: open towards what switches.
    ({"own_by": "filter", "own_filter_mh": 40.0, "own_filter_ohm": 3.0, "own_filter_uf": 2.0},
     lambda h: complex(3.0, 100 * np.pi * h * 0.04 - 1 / (100 * np.pi * h * 2e-6))),
    ({"own_by": "filter", "own_filter_mh": 40.0}, lambda h: 4 * np.pi * complex(0.02, h)),
    ({"own_by": "filter"}, lambda h: complex(0.003, 0.15 * h) * 121 / abs(complex(2.0, 0.6))),
]  # fmt: skip


@pytest.mark.parametrize("detail", ["balanced", "per_phase"])
@pytest.mark.parametrize(("plate", "ohm"), OWN)
def test_its_own_impedance_from_what_is_known_of_it(plate: dict[str, Any], ohm: Any, detail: str) -> None:
    network = net(own(orders="5 20 180; 7 10 0"), drive(source_model="parallel", **plate))
    result = run(network, detail=detail)
    i, v = amps(network)
    for h, share in ((5, 0.2), (7, 0.1)):
        z = 1 / (1 / z_of(h) + 1 / ohm(h))
        expected = 100 * abs(z) * i * share * 3**0.5 / (v * 11e3)
        assert at(result, "buses", "a", f"order_{h}_pct") == pytest.approx(expected, rel=1e-6)


@pytest.mark.parametrize("sources", ["current", "parallel", "voltage"])
def test_the_study_may_have_one_model_for_all(sources: str) -> None:
    asked = net(own(orders="5 20"), drive(source_model=sources))
    other = net(own(orders="5 20"), drive())
    assert at(run(asked), "buses", "a", "order_5_pct") == pytest.approx(
        at(run(other, sources=sources), "buses", "a", "order_5_pct"), rel=1e-12
    )


@pytest.mark.parametrize("detail", ["balanced", "per_phase"])
def test_background_stands_at_an_open_end_as_it_is_outside(detail: str) -> None:
    network = net(own(orders="3 1.5; 5 2.5; 7 1.2"))
    network.apply([Update(id="g", values={"background": "mine"})])
    result = run(network, detail=detail)
    for h, share in ((5, 2.5), (7, 1.2)):
        assert at(result, "buses", "a", f"order_{h}_pct") == pytest.approx(share, rel=1e-6)
        assert at(result, "branches", "l", f"order_{h}_a") < 1e-6
    assert at(result, "buses", "a", "order_3_pct") == pytest.approx(1.5, rel=1e-6)


def test_background_is_divided_between_the_source_and_a_bank() -> None:
    network = net(own(orders="5 2.0"), {"kind": "shunt", "id": "c", "bus": "a", "step_mvar": 1.0})
    network.apply([Update(id="g", values={"background": "mine"})])
    capacitor = complex(0, -(11**2) / 1.0 / 5)
    flow = solve_as_set(network)
    outside = at(flow, "buses", "s", "voltage_pu")
    expected = 2.0 * outside / at(flow, "buses", "a", "voltage_pu") * abs(capacitor / (capacitor + z_of(5)))
    assert at(run(network), "buses", "a", "order_5_pct") == pytest.approx(expected, rel=1e-9)


@pytest.mark.parametrize("detail", ["balanced", "per_phase"])
def test_resistance_by_a_table(detail: str) -> None:
    network = net(own(orders="5 20; 9.5 5"), drive(), resistance_table="1 1; 7 2.5; 13 4")
    result = run(network, detail=detail)
    i, v = amps(network)
    for h, share, factor in ((5.0, 0.2, 2.0), (9.5, 0.05, 3.125)):
        z = z_of(h, 0.0) + 0.6 * (factor - 1)
        name = f"order_{h:g}_pct".replace(".", "_")
        assert at(result, "buses", "a", name) == pytest.approx(100 * abs(z) * i * share * 3**0.5 / (v * 11e3), rel=1e-6)


def test_eddy_losses_grow_with_the_square_of_the_order() -> None:
    unit = {"kind": "transformer", "id": "t", "hv_bus": "a", "lv_bus": "b", "rated_mva": 4, "hv_kv": 11, "lv_kv": 3.3,
            "impedance_pct": 6, "x_over_r": 10, "vector_group": "Yy0", "eddy_pct": 12.0}  # fmt: skip
    network = net(own(orders="7 10"), {"kind": "bus", "id": "b", "nominal_kv": 3.3}, unit, drive(bus="b"))
    result = run(network)
    flow = solve_as_set(network)
    i, v = at(flow, "injections", "d", "current_a"), at(flow, "buses", "b", "voltage_pu")
    base = 3.3**2 / 4
    r = 0.06 * base / 101**0.5
    z = z_of(7) * (3.3 / 11) ** 2 + complex(r * (1 + 0.12 * 48), 70 * r)
    expected = 100 * abs(z) * i * 0.1 * 3**0.5 / (v * 3.3e3)
    assert at(result, "buses", "b", "order_7_pct") == pytest.approx(expected, rel=1e-6)


@pytest.mark.parametrize("rows", ["5 1.4; 1 1", "0 1", "5 -1", "5", "x y"])
def test_a_table_that_can_t_be_read_is_refused(rows: str) -> None:
    network = net()
    with pytest.raises(InvalidFields, match="resistance_table"):
        network.apply([Update(id="l", values={"resistance_table": rows})])


@pytest.mark.parametrize(("firing", "overlap"), [(10.0, 25.0), (30.0, 8.0), (20.0, 15.0)])
def test_a_bridge_with_overlap_agrees_with_its_closed_form(firing: float, overlap: float) -> None:
    """E. W. Kimbark, "Direct Current Transmission", 1971, 8-4: magnitudes by two sines; the blocks without overlap by 1/h."""
    a, u = firing * pi / 180, overlap * pi / 180
    found = bridge_current(firing, overlap, (5, 7, 11, 13, 17, 19))

    def size(h: int) -> float:
        f = np.sin((h - 1) * u / 2) / (h - 1) if h > 1 else u / 2
        g = np.sin((h + 1) * u / 2) / (h + 1)
        whole = f * f + g * g - 2 * f * g * np.cos(2 * a + u)
        return float(np.sqrt(whole) / (np.cos(a) - np.cos(a + u)) / h)

    for h, (pct, _) in found.items():
        assert pct == pytest.approx(100 * size(h) / size(1), rel=2e-3, abs=1e-3)
    for h, (pct, degrees) in bridge_current(firing, 0.0, (5, 7, 11, 13)).items():
        assert pct == pytest.approx(100 / h, rel=1e-3)
        assert abs(abs(degrees) - (180 if h % 6 == 5 else 0)) < 0.5


def test_every_spectrum_of_the_catalogue_can_be_injected() -> None:
    for name in types_of("spectrum"):
        assert find_type("spectrum", name) is not None
        network = net(drive(spectrum=name))
        result = run(network, detail="per_phase")
        assert result.account.converged, name
        assert any(c.name.startswith("order_") for c in result.tables["buses"].columns)


def test_a_new_own_spectrum_is_taken_by_what_names_it() -> None:
    network = net(drive(spectrum="LED lighting"))
    network.apply([Add(item=own(orders="5 50")), Update(id="d", values={"spectrum": "mine"})])
    assert list(spectrum(network, "mine")) == [5.0]


@pytest.mark.parametrize("detail", ["balanced", "per_phase"])
@pytest.mark.parametrize("exponent", [0.0, 0.5, 1.3])
def test_the_resistance_of_a_sources_own_impedance_grows_with_the_order(detail: str, exponent: float) -> None:
    """Beside the network seen from its bus stands R h^k + j h X."""
    network = net(own(orders="5 20 180; 7 10 0"),
                  drive(source_model="parallel", own_x_pct=20.0, own_r_pct=8.0, own_exponent=exponent))  # fmt: skip
    current, volts = amps(network)
    base = 11**2 / abs(complex(2.0, 0.6))
    result = run(network, detail=detail)
    for h, share in ((5, 0.2), (7, 0.1)):
        beside = complex(0.08 * base * h**exponent, 0.2 * base * h)
        z = 1 / (1 / z_of(h) + 1 / beside)
        expected = 100 * abs(z) * current * share / (volts * 11e3 / 3**0.5)
        assert at(result, "buses", "a", f"order_{h}_pct") == pytest.approx(expected, rel=1e-6)


@pytest.mark.parametrize("detail", ["balanced", "per_phase"])
@pytest.mark.parametrize(
    ("given", "factor"), [({"skin_exponent": 0.7}, 5**0.7), ({"resistance_table": "1 1; 5 3"}, 3.0), ({}, 1.0)]
)
def test_the_resistance_of_a_reactor_grows_with_the_order(detail: str, given: dict[str, Any], factor: float) -> None:
    network = net(
        own(orders="5 20 180"),
        drive(bus="b"),
        {"kind": "bus", "id": "b", "nominal_kv": 11},
        {"kind": "series_reactor", "id": "x", "from_bus": "a", "to_bus": "b", "x_ohm": 0.6, "x_over_r": 1.5, **given},
    )
    flow = solve_as_set(network)
    current, volts = at(flow, "injections", "d", "current_a"), at(flow, "buses", "b", "voltage_pu")
    z = z_of(5) + complex(0.4 * factor, 5 * 0.6)
    found = at(run(network, detail=detail), "buses", "b", "order_5_pct")
    assert found == pytest.approx(100 * abs(z) * current * 0.2 / (volts * 11e3 / 3**0.5), rel=1e-6)
