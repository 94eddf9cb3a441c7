"""Line constants against printed matrices and closed forms."""

from __future__ import annotations

from math import log, pi

import numpy as np
import pytest

from tests.helpers import bus, load, network, source, volts
from vastmesh.core.electrical.line_constants import (
    Wire,
    bundle_radius,
    depth_of_return_m,
    distances,
    kron,
    line_constants,
    primitive_impedance,
    sequence,
    transposed,
)
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import LineGeometry, Update
from vastmesh.core.results.state import run_load_flow

FOOT, MILE, INCH = 0.3048, 1.609344, 25.4

# A four-wire overhead line at 60 Hz: W. H. Kersting, "Distribution System Modeling and Analysis", examples 4.1
# and 5.1 (the configuration of the IEEE four-node test feeder). Phases 336,400 circular mils, neutral 4/0.
FOUR_WIRE = {
    "id": "four-wire", "transposed": False, "temperature_c": 20, "r20_ohm_per_km": 0.306 / MILE,
    "gmr_mm": 0.0244 * 304.8, "diameter_mm": 0.721 * INCH, "a_x_m": 0, "a_y_m": 29 * FOOT, "b_x_m": 2.5 * FOOT,
    "b_y_m": 29 * FOOT, "c_x_m": 7 * FOOT, "c_y_m": 29 * FOOT, "neutral": "reduced", "n_x_m": 4 * FOOT, "n_y_m": 25 * FOOT,
    "n_r20_ohm_per_km": 0.592 / MILE, "n_gmr_mm": 0.00814 * 304.8, "n_diameter_mm": 0.563 * INCH,
}  # fmt: skip
PRINTED_PRIMITIVE = [
    [0.4013 + 1.4133j, 0.0953 + 0.8515j, 0.0953 + 0.7266j, 0.0953 + 0.7524j],
    [0.0953 + 0.8515j, 0.4013 + 1.4133j, 0.0953 + 0.7802j, 0.0953 + 0.7865j],
    [0.0953 + 0.7266j, 0.0953 + 0.7802j, 0.4013 + 1.4133j, 0.0953 + 0.7674j],
    [0.0953 + 0.7524j, 0.0953 + 0.7865j, 0.0953 + 0.7674j, 0.6873 + 1.5465j],
]
PRINTED_PHASE = [
    [0.4576 + 1.0780j, 0.1560 + 0.5017j, 0.1535 + 0.3849j],
    [0.1560 + 0.5017j, 0.4666 + 1.0482j, 0.1580 + 0.4236j],
    [0.1535 + 0.3849j, 0.1580 + 0.4236j, 0.4615 + 1.0651j],
]
PRINTED_SUSCEPTANCE = [[5.6712, -1.8362, -0.7034], [-1.8362, 5.9774, -1.169], [-0.7034, -1.169, 5.3911]]


def geometry(**more: object) -> LineGeometry:
    return LineGeometry.model_validate({**FOUR_WIRE, **more})


def within(found: np.ndarray, printed: list[list[complex]], share: float) -> None:
    assert np.abs(np.asarray(found) - np.array(printed)).max() <= share * np.abs(np.array(printed)).max()
    np.testing.assert_allclose(np.abs(found), np.abs(np.array(printed)), rtol=share)


def test_the_primitive_matrix_is_the_printed_one() -> None:
    within(line_constants(geometry(), 60).primitive * MILE, PRINTED_PRIMITIVE, 1e-3)


def test_the_phase_matrix_after_reduction_is_the_printed_one() -> None:
    within(line_constants(geometry(), 60).z * MILE, PRINTED_PHASE, 1e-3)


def test_the_shunt_admittance_is_the_printed_one() -> None:
    found = line_constants(geometry(), 60).y * MILE * 1e6
    assert np.abs(found.real).max() == 0
    np.testing.assert_allclose(found.imag, PRINTED_SUSCEPTANCE, rtol=1e-3)


def test_a_cable_with_screen_wires_is_the_printed_one() -> None:
    """Three single-core cables, 6 inches apart, 13 screen wires each: the same book, example 4.2."""
    cable = LineGeometry(
        id="c", construction="cable", transposed=False, temperature_c=20, r20_ohm_per_km=0.41 / MILE,
        gmr_mm=0.0171 * 304.8, diameter_mm=0.567 * INCH, formation="flat", spacing_m=0.1524, screen="wires",
        screen_wires=13, screen_wire_mm=0.0641 * INCH, screen_r_ohm_per_km=14.8722 / MILE, screen_over_mm=1.29 * INCH,
    )  # fmt: skip
    printed = [
        [0.7981 + 0.4463j, 0.3191 + 0.0328j, 0.2849 - 0.0143j],
        [0.3191 + 0.0328j, 0.7891 + 0.4041j, 0.3191 + 0.0328j],
        [0.2849 - 0.0143j, 0.3191 + 0.0328j, 0.7981 + 0.4463j],
    ]
    within(line_constants(cable, 60).z * MILE, printed, 1e-3)


def test_without_screens_only_the_three_conductors_count() -> None:
    cable = LineGeometry(id="c", construction="cable", screen="none", r20_ohm_per_km=0.1, gmr_mm=8, diameter_mm=20,
                         spacing_m=0.05, temperature_c=20)  # fmt: skip
    found = line_constants(cable, 50)
    assert found.z1 == pytest.approx(complex(0.1, 2 * pi * 50 * 2e-4 * log(50 / 8)))
    c = 2 * pi * 8.854187817e-9 * 2.4 / log(13.4 / 10)
    assert found.b1 == pytest.approx(2 * pi * 50 * c * 1e6)


def test_closing_a_screen_at_both_ends_adds_resistance_and_takes_reactance() -> None:
    base = {"id": "c", "construction": "cable", "r20_ohm_per_km": 0.1, "gmr_mm": 8, "diameter_mm": 20, "spacing_m": 0.08,
            "screen_over_mm": 40}  # fmt: skip
    open_ = line_constants(LineGeometry.model_validate({**base, "screen": "none"}), 50).z1
    for screen in ("wires", "tape"):
        closed = line_constants(LineGeometry.model_validate({**base, "screen": screen}), 50).z1
        assert closed.real > open_.real
        assert closed.imag < open_.imag


def test_depth_of_return_and_positive_sequence_in_closed_form() -> None:
    """658.87 √(ρ/f); for a transposed line Z1 = r + jω 2·10⁻⁴ ln(GMD/GMR), free of the earth."""
    assert depth_of_return_m(50, 100) == pytest.approx(658.87 * 2**0.5, rel=1e-4)
    line = geometry(neutral="none", transposed=True)
    found = line_constants(line, 50)
    d = [2.5 * FOOT, 4.5 * FOOT, 7 * FOOT]
    gmd = float(np.prod(d)) ** (1 / 3)
    assert found.z1 == pytest.approx(complex(0.306 / MILE, 2 * pi * 50 * 2e-4 * log(gmd / (0.0244 * FOOT))))
    for earth in (10.0, 1000.0):
        other = line_constants(geometry(neutral="none", earth_ohm_m=earth), 50)
        assert other.z1 == pytest.approx(found.z1)
        assert (other.z0.imag > found.z0.imag) == (earth > 100)


def test_reduction_keeps_what_the_terminals_see() -> None:
    """With the eliminated conductors held at zero, full and reduced matrix give the same phase voltages."""
    full = line_constants(geometry(neutral="kept"), 60).primitive
    current = np.array([1.0, -0.4 + 0.3j, 0.2j])
    earthed = np.linalg.solve(full[3:, 3:], -full[3:, :3] @ current)
    drop = full[:3, :3] @ current + full[:3, 3:] @ earthed
    np.testing.assert_allclose(kron(full, 3) @ current, drop, atol=1e-12)
    np.testing.assert_array_equal(kron(full, 4), full)


def test_a_kept_neutral_is_a_conductor_of_its_own() -> None:
    found = line_constants(geometry(neutral="kept"), 60)
    assert found.phases == ("A", "B", "C", "N")
    assert found.z.shape == found.y.shape == (4, 4)
    np.testing.assert_allclose(kron(found.z, 3), line_constants(geometry(), 60).z, atol=1e-12)


def test_earth_wires_lower_the_zero_sequence() -> None:
    bare = line_constants(geometry(neutral="none", transposed=True), 50)
    one = line_constants(geometry(neutral="none", transposed=True, earth_wires=1, w_r20_ohm_per_km=0.3, w_gmr_mm=4), 50)
    two = line_constants(
        geometry(neutral="none", transposed=True, earth_wires=2, w_x_m=1.5, w_r20_ohm_per_km=0.3, w_gmr_mm=4), 50
    )
    assert bare.z0.imag > one.z0.imag > two.z0.imag
    assert two.wires == ("A", "B", "C", "W1", "W2")


def test_bundles_act_like_a_thicker_conductor() -> None:
    assert bundle_radius(0.01, 1, 0.4) == 0.01
    assert bundle_radius(0.01, 2, 0.4) == pytest.approx((0.01 * 0.4) ** 0.5)
    assert bundle_radius(0.01, 3, 0.4) == pytest.approx((0.01 * 0.4**2) ** (1 / 3))
    single, double = (
        line_constants(geometry(neutral="none"), 50),
        line_constants(geometry(neutral="none", bundle=2), 50),
    )
    assert double.z1.real == pytest.approx(single.z1.real / 2)
    assert double.z1.imag < single.z1.imag
    assert double.b1 > single.b1


def test_transposition_evens_the_phases_and_keeps_the_sequences() -> None:
    z = line_constants(geometry(), 60).z
    even = transposed(z)
    assert np.ptp(np.diag(even).real) == pytest.approx(0, abs=1e-12)
    np.testing.assert_allclose(sequence(even), sequence(z), atol=1e-12)


def test_matrices_are_symmetric_and_passive() -> None:
    wires = [
        Wire("A", 0, 10, 0.1, 0.01, 0.013),
        Wire("B", 1, 10, 0.1, 0.01, 0.013),
        Wire("C", 2.5, 11, 0.1, 0.01, 0.013),
    ]
    z = primitive_impedance(wires, 50, 100)
    np.testing.assert_allclose(z, z.T)
    assert np.linalg.eigvalsh(z.real).min() > 0
    assert distances(wires)[0, 1] == 1.0


@pytest.mark.parametrize(
    ("values", "field", "words"),
    [({"b_x_m": 0.0}, "b_x_m", "conductors A and B touch"), ({"a_y_m": 0.0}, "a_y_m", "above 0"),
     ({"construction": "cable", "spacing_m": 0.02}, "spacing_m", "diameter over the screen"),
     ({"gmr_mm": -1.0}, "gmr_mm", "from 0.0001")],
)  # fmt: skip
def test_impossible_geometries_are_refused(values: dict[str, float], field: str, words: str) -> None:
    with pytest.raises(InvalidFields, match=words) as caught:
        network({"kind": "line_geometry", **FOUR_WIRE, **values})
    assert caught.value.problems[0].field == field


def test_a_line_follows_its_geometry() -> None:
    line = {"kind": "line", "id": "l", "from_bus": "a", "to_bus": "b", "length_km": 6.0, "geometry": "four-wire"}
    net = network(
        {"kind": "line_geometry", **FOUR_WIRE}, bus("a", 33), source("a"), bus("b", 33), line, load("b", 8.0, 3.0)
    )
    assert not net["l"].missing()  # type: ignore[attr-defined]
    constants = line_constants(net["four-wire"], 50)  # type: ignore[arg-type]
    entered = network(
        bus("a", 33), source("a"), bus("b", 33), load("b", 8.0, 3.0),
        {**line, "geometry": None, "r_ohm_per_km": constants.z1.real, "x_ohm_per_km": constants.z1.imag,
         "b_us_per_km": constants.b1},
    )  # fmt: skip
    assert volts(run_load_flow(net))["b"] == pytest.approx(volts(run_load_flow(entered))["b"], abs=1e-9)
    before = volts(run_load_flow(net))["b"]
    net.apply([Update(id="four-wire", values={"temperature_c": 80.0})])
    assert abs(volts(run_load_flow(net))["b"]) < abs(before)
