"""The four-wire feeder whose figures three independent methods agree on, and what must hold whatever the figures."""

from __future__ import annotations

from itertools import pairwise, permutations
from typing import Any

import numpy as np
import pytest

from tests.core import four_wire
from vastmesh.core.flow.phases import Reading
from vastmesh.core.network import Network, Update, to_phases
from vastmesh.core.results.state import LiveUnbalanced, LoadFlowResult, run_unbalanced

EXPECTED = four_wire.expected()
VOLTS = 1e-6  # relative
AMPS = 1e-4
WATTS = 0.01


def phasor(pair: list[float]) -> complex:
    return complex(pair[0] * np.exp(1j * np.radians(pair[1])))


@pytest.fixture(scope="module")
def live() -> LiveUnbalanced:
    return LiveUnbalanced(four_wire.network())


@pytest.fixture(scope="module")
def reading(live: LiveUnbalanced) -> Reading:
    found = live.reading()
    assert found is not None
    return found


@pytest.fixture(scope="module")
def result(live: LiveUnbalanced) -> LoadFlowResult:
    return live.solve()


def row(reading: Reading, bus: str) -> int:
    return reading.arrays.bus_id.index(bus)


def test_nothing_is_missing_in_the_model(result: LoadFlowResult) -> None:
    assert result.account.converged
    assert [f.text for f in result.findings if f.limit_name == "Model"] == []


@pytest.mark.parametrize(
    ("name", "attribute"), [("phase_to_earth_v_deg", "bus_v"), ("phase_to_neutral_v_deg", "to_neutral")]
)
def test_phase_voltages(reading: Reading, name: str, attribute: str) -> None:
    volts = getattr(reading, attribute)
    for bus, phases in EXPECTED[name].items():
        for letter, pair in phases.items():
            found = volts[row(reading, bus), "abc".index(letter)]
            assert abs(found - phasor(pair)) < VOLTS * pair[0], (bus, letter)


def test_neutral_to_earth(reading: Reading) -> None:
    for bus, pair in EXPECTED["neutral_to_earth_v_deg"].items():
        assert abs(reading.bus_v[row(reading, bus), 3] - phasor(pair)) < VOLTS * 230, bus


def test_line_to_line(reading: Reading) -> None:
    for bus, pairs in EXPECTED["line_to_line_v_deg"].items():
        for name, pair in pairs.items():
            found = reading.between[row(reading, bus), ("ab", "bc", "ca").index(name)]
            assert abs(found - phasor(pair)) < VOLTS * pair[0], (bus, name)


def test_sequences(reading: Reading, result: LoadFlowResult) -> None:
    table = result.tables["buses"]
    for bus, want in EXPECTED["sequence"].items():
        k = list(table["id"]).index(bus)
        assert abs(reading.bus_sequences[row(reading, bus), 1]) == pytest.approx(want["v1_v"], rel=VOLTS)
        assert table["negative_voltage_pct"][k] == pytest.approx(want["v2_over_v1_pct"], abs=1e-4)
        assert table["zero_voltage_pct"][k] == pytest.approx(want["v0_over_v1_pct_phase_to_neutral"], abs=1e-4)


def test_currents_of_every_conductor(reading: Reading) -> None:
    for line, conductors in EXPECTED["line_currents_a_deg"].items():
        element = reading.arrays.element_id.index(line)
        for letter, pair in conductors.items():
            found = reading.element_current[element, 0, "abcn".index(letter)]
            assert abs(found - phasor(pair)) < AMPS, (line, letter)


def test_currents_into_earth(reading: Reading, result: LoadFlowResult) -> None:
    table = result.tables["injections"]
    for bus, want in EXPECTED["earth_electrodes"].items():
        k = list(table["id"]).index(f"Rod {bus}")
        assert table["current_a"][k] == pytest.approx(want["current_into_earth_a_deg"][0], abs=AMPS)
        assert table["active_power_mw"][k] * 1e6 == pytest.approx(want["loss_w"], abs=WATTS)


def test_transformer(reading: Reading, result: LoadFlowResult) -> None:
    element = reading.arrays.element_id.index("T")
    for letter, pair in EXPECTED["transformer"]["hv_line_current_a_deg"].items():
        assert abs(reading.element_current[element, 0, "abc".index(letter)] - phasor(pair)) < AMPS
    for letter, pair in EXPECTED["transformer"]["lv_winding_current_a_deg"].items():
        assert abs(-reading.element_current[element, 1, "abc".index(letter)] - phasor(pair)) < AMPS
    branches = result.tables["branches"]
    loss = branches["active_loss_mw"][list(branches["id"]).index("T")] * 1e6
    assert loss == pytest.approx(EXPECTED["transformer"]["losses_w"], abs=WATTS)


def test_losses_of_lines_and_of_their_parts(result: LoadFlowResult) -> None:
    table = result.tables["branches"]
    for line, watts in EXPECTED["line_losses_w"].items():
        k = list(table["id"]).index(line)
        assert table["active_loss_mw"][k] * 1e6 == pytest.approx(watts, abs=WATTS)
        parts = [table[f"{p}_loss_kw"][k] for p in ("phase_a", "phase_b", "phase_c", "neutral", "earth")]
        assert sum(parts) * 1e3 == pytest.approx(watts, abs=WATTS)
        assert min(parts) >= -1e-9


def test_energy_balance(result: LoadFlowResult) -> None:
    total = result.summary
    want = EXPECTED["power"]
    assert total["demand_mw"] * 1e3 == pytest.approx(want["load_kw"], abs=1e-5)
    left = total["generation_mw"] - total["demand_mw"] - total["active_loss_mw"] - total["shunt_mw"]
    assert abs(left) < 1e-9


def test_kirchhoff_at_every_conductor(reading: Reading) -> None:
    assert reading.kirchhoff.max() < 1e-8


TURNS = [dict(zip("ABC", p, strict=True)) for p in permutations("ABC")]


@pytest.mark.parametrize("turn", TURNS, ids=lambda t: "".join(t.values()))
def test_permuting_all_phases_permutes_the_results(turn: dict[str, str], result: LoadFlowResult) -> None:
    """Cyclic permutations turn the source as well: every figure moves with its phase.

    The others reverse the rotation that the loads see. The network is then another one, in which the currents must
    still add up; its source in sequence A, C, B would be the old network again.
    """
    other = LiveUnbalanced(four_wire.network(turn))
    answer = other.solve()
    assert answer.account.converged
    reading = other.reading()
    assert reading is not None
    assert reading.kirchhoff.max() < 1e-8
    if "".join(turn.values()) not in "ABCABC":
        return
    found, base = answer.tables["buses"], result.tables["buses"]
    for letter, new in turn.items():
        before, after = base[f"phase_{letter.lower()}_voltage_pu"], found[f"phase_{new.lower()}_voltage_pu"]
        np.testing.assert_allclose(after, before, atol=1e-9)
    np.testing.assert_allclose(found["neutral_voltage_v"], base["neutral_voltage_v"], atol=1e-6)
    np.testing.assert_allclose(found["unbalance_pct"], base["unbalance_pct"], atol=1e-6)
    before, after = result.tables["branches"], answer.tables["branches"]
    for letter, new in turn.items():
        np.testing.assert_allclose(
            after[f"phase_{new.lower()}_current_a"], before[f"phase_{letter.lower()}_current_a"], atol=1e-6
        )


def test_a_neutral_without_impedance_is_a_three_wire_reduction() -> None:
    """With its N joined to earth everywhere the feeder has the same phase voltages as with N eliminated from its matrices."""
    kept = four_wire.items()
    reduced = four_wire.items()
    for i in kept:
        if i["kind"] == "bus" and i["id"].startswith("N"):
            i["neutral"] = "earthed"
    for i in reduced:
        if i["kind"] == "line" and "matrix" in i:
            i["neutral"] = "reduced"
    tables = [run_unbalanced(Network.from_items(x)).tables["buses"] for x in (kept, reduced)]
    for letter in "abc":
        np.testing.assert_allclose(
            tables[0][f"phase_{letter}_voltage_pu"], tables[1][f"phase_{letter}_voltage_pu"], atol=1e-10
        )


@pytest.mark.parametrize(
    ("pieces", "charging"),
    [
        ((0.25, 0.25, 0.25, 0.25), False),
        ((0.25, 0.25, 0.25, 0.25), True),
        ((0.3, 0.3, 0.3, 0.1), True),
        ((0.7, 0.3), True),
        ((1.0,), True),
    ],
)
def test_electrodes_along_the_route_equal_short_lines_with_electrodes(
    pieces: tuple[float, ...], charging: bool
) -> None:
    """Every so many km from the from end; what is left is the last piece, and each piece has its share of the charging."""
    base: list[dict[str, Any]] = [i for i in four_wire.items() if i["id"] != "L36"]
    line = next(i for i in four_wire.items() if i["id"] == "L36")
    if charging:  # of its own instead of a matrix: enough that the neutral carries some of it
        line = {k: v for k, v in line.items() if k != "matrix"} | {
            "r_ohm_per_km": 0.3, "x_ohm_per_km": 0.1, "b_us_per_km": 40_000.0, "b0_us_per_km": 15_000.0, "length_km": 0.8,
        }  # fmt: skip
    whole_km = line["length_km"]
    along = {**line, "earthing_every_km": pieces[0] * whole_km * (1 if len(pieces) > 1 else 1.5), "earthing_ohm": 12.0}
    split_up: list[dict[str, Any]] = []
    nodes = ["N3", *(f"p{k}" for k in range(len(pieces) - 1)), "N6"]
    for k, (a, b) in enumerate(pairwise(nodes)):
        split_up.append({**line, "id": f"piece {k}", "from_bus": a, "to_bus": b, "length_km": pieces[k] * whole_km})
        if b.startswith("p"):
            split_up += [{"kind": "bus", "id": b, "nominal_kv": 0.4, "conductors": "ABCN"},
                         {"kind": "electrode", "id": f"rod {b}", "bus": b, "resistance_ohm": 12.0}]  # fmt: skip
    whole = LiveUnbalanced(Network.from_items([*base, along])).reading()
    split = LiveUnbalanced(Network.from_items([*base, *split_up])).reading()
    without = LiveUnbalanced(Network.from_items([*base, along | {"b_us_per_km": 0.0, "b0_us_per_km": 0.0}])).reading()
    assert whole is not None
    assert split is not None
    assert without is not None
    for bus in ("N6", "N3", "N5"):
        np.testing.assert_allclose(whole.bus_v[row(whole, bus)], split.bus_v[row(split, bus)], rtol=1e-9)
    if charging:
        assert np.abs(whole.bus_v[row(whole, "N6")] - without.bus_v[row(without, "N6")]).max() > 1e-3


def test_what_a_line_charges_is_there_with_electrodes_along_it() -> None:
    """80 uS/km over 10 km draw half of them at each end: so they do with electrodes along the way."""
    drawn = []
    for more in ({}, {"earthing_every_km": 1.0, "earthing_ohm": 20.0}):
        net = Network.from_items([
            {"kind": "bus", "id": "a", "nominal_kv": 11.0, "conductors": "ABCN"},
            {"kind": "bus", "id": "b", "nominal_kv": 11.0, "conductors": "ABCN"},
            {"kind": "source", "id": "s", "bus": "a", "fault_max_mva": 1e6, "fault_min_mva": 1e6, "neutral": "solid"},
            {"kind": "line", "id": "l", "from_bus": "a", "to_bus": "b", "length_km": 10.0, "conductors": "ABCN",
             "r_ohm_per_km": 0.2, "x_ohm_per_km": 0.3, "b_us_per_km": 80.0, **more},
        ])  # fmt: skip
        table = run_unbalanced(net).tables["branches"]
        drawn.append(float(table["from_current_a"][0]))
    assert drawn[0] == pytest.approx(80e-6 * 10 * 11e3 / 3**0.5, rel=0.1)
    assert drawn[1] == pytest.approx(drawn[0], rel=0.02)


def test_another_phase_is_one_change_and_follows_at_once(live: LiveUnbalanced) -> None:
    network = four_wire.network()
    mine = LiveUnbalanced(network)
    before = mine.solve().tables["buses"]
    previous = dict(network.items)
    network.apply([Update(id="D7", values={"conductors": "AN"})])
    mine.changed(["D7"], previous)
    after = mine.solve().tables["buses"]
    at = list(after["id"]).index("N6")
    assert after["phase_c_voltage_pu"][at] > before["phase_c_voltage_pu"][at] + 0.01
    assert after["phase_a_voltage_pu"][at] < before["phase_a_voltage_pu"][at] - 0.01


def test_a_lateral_with_a_matrix_of_its_own_moves_to_another_phase() -> None:
    """A two-wire matrix says nothing about letters: moved from B to A the lateral has the same impedance there."""
    network = four_wire.network()
    network.apply(to_phases(network, "L47", "A"))
    mine = LiveUnbalanced(network)
    result = mine.solve()
    assert [f.text for f in result.findings if f.limit_name == "Model"] == []
    table = result.tables["buses"]
    at = list(table["id"]).index("N8")
    assert 0.85 < table["phase_a_voltage_pu"][at] < 0.95
    assert not np.isfinite(table["phase_b_voltage_pu"][at])
    branches = result.tables["branches"]
    row_ = list(branches["id"]).index("L78")
    resistance = 1.2303 - 0.0493
    amps = branches["phase_a_current_a"][row_]
    assert branches["phase_a_loss_kw"][row_] * 1e3 == pytest.approx(resistance * 0.06 * amps**2, rel=1e-6)
