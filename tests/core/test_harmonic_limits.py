"""Levels of one's own, currents at a point of coupling, weights, emission limits, and the sheet by hand."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from tests.helpers import run_study as run
from vastmesh.core.electrical.fault import fault_current_ka
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Add, Condition, Network, Update
from vastmesh.core.studies import STUDIES
from vastmesh.core.studies.harmonics import picture_spectrum
from vastmesh.core.studies.harmonics._currents import current_limits, limit_of, limits_at
from vastmesh.core.studies.harmonics._limits import generic_pct, level_of
from vastmesh.core.studies.harmonics._weights import psophometric, tif

DRIVE = "Six-pulse drive with choke"


def works(*more: dict[str, Any]) -> Network:
    return Network.from_items([
        {"kind": "bus", "id": "s", "nominal_kv": 11}, {"kind": "bus", "id": "w", "nominal_kv": 11},
        {"kind": "source", "id": "g", "bus": "s", "fault_max_mva": 120, "fault_min_mva": 100, "x_over_r": 10},
        {"kind": "line", "id": "l", "from_bus": "s", "to_bus": "w", "length_km": 1.5, "r_ohm_per_km": 0.2, "x_ohm_per_km": 0.3,
         "b_us_per_km": 0.0, "skin_exponent": 0.0},
        {"kind": "load", "id": "d", "bus": "w", "active_power_mw": 1.6, "reactive_power_mvar": 0.7, "spectrum": DRIVE}, *more,
    ])  # fmt: skip


def test_levels_of_ones_own_go_before_the_generic_ones() -> None:
    network = works(
        {"kind": "harmonic_levels", "id": "works levels", "up_to_kv": 20, "orders": "5 1.5; 7 1", "total_pct": 2.0}
    )
    level = level_of(network, 11.0, "planning")
    assert (level.limit_pct(5), level.limit_pct(11), level.total_pct) == (1.5, generic_pct("medium", 11), 2.0)
    assert level_of(network, 33.0, "planning").limit_pct(5) == generic_pct("medium", 5)
    assert level_of(network, 11.0, "compatibility").limit_pct(5) == generic_pct("low", 5)
    found = {f.quantity: f for f in run("distortion", network).findings}
    assert found["order_5_pct"].limit == 1.5
    assert "works levels" in found["order_5_pct"].text
    network.apply([Update(id="works levels", values={"others_pct": 0.2})])
    assert level_of(network, 11.0, "planning").limit_pct(13) == 0.2


@pytest.mark.parametrize(
    "values", [{"orders": "5 0"}, {"orders": "0 5"}, {"orders": "5"}, {"above_kv": 20.0, "up_to_kv": 10.0}]
)
def test_levels_that_can_t_be_are_refused(values: dict[str, Any]) -> None:
    network = works()
    with pytest.raises(InvalidFields):
        network.apply([Add(item={"kind": "harmonic_levels", "id": "x", **values})])
    assert "x" not in network


@pytest.mark.parametrize(
    ("kv", "ratio", "order", "limit", "total"),
    [
        (11, 12, 5, 4.0, 5.0), (11, 30, 5, 7.0, 8.0), (11, 30, 11, 3.5, 8.0), (33, 70, 17, 4.0, 12.0), (11, 500, 23, 2.0, 15.0),
        (11, 2000, 37, 1.4, 20.0), (132, 30, 5, 3.5, 4.0), (220, 30, 5, 2.0, 2.5), (11, 30, 6, 1.75, 8.0), (11, 30, 2, 1.75, 8.0),
    ],
)  # fmt: skip
def test_current_limits_by_short_circuit_ratio(kv: float, ratio: float, order: int, limit: float, total: float) -> None:
    bands, whole = current_limits(kv, ratio)
    assert limit_of(order, bands) == pytest.approx(limit)
    assert whole == pytest.approx(total)


def test_currents_at_the_point_of_coupling_are_shares_of_the_demand() -> None:
    network = works()
    result = run("distortion", network, coupling="l", demand_a=120.0)
    table = result.tables["coupling"]
    branch = result.tables["branches"]
    fifth = float(branch["order_5_a"][list(branch["id"]).index("l")])
    assert table["share_pct"][0] == pytest.approx(100 * fifth / 120.0)
    assert table["limit_pct"][0] == limit_of(
        5, current_limits(11.0, 1e3 * fault_current_ka(network, ["s"])["s"] / 120.0)[0]
    )
    assert any(f.kind == "coupling" and f.element == "l" and f.severity == "breach" for f in result.findings)
    with pytest.raises(InvalidFields, match="coupling"):
        run("distortion", network, coupling="d")


def test_current_limits_of_ones_own_go_before_the_generic_ones() -> None:
    own = {"kind": "current_limits", "id": "works limits", "up_to_kv": 20, "ratio_from": 40, "ratio_below": 80,
           "orders": "5 2.5; 7 1", "total_pct": 3.0}  # fmt: skip
    network = works(own)
    orders = [5.0, 7.0, 11.0]
    assert limits_at(network, 11.0, 50.0, orders) == (
        [2.5, 1.0, limit_of(11, current_limits(11, 50)[0])],
        3.0,
        "works limits",
    )
    generic = [limit_of(h, current_limits(11, 80)[0]) for h in orders]
    assert limits_at(network, 11.0, 80.0, orders) == (generic, 12.0, "IEEE 519")
    assert limits_at(network, 33.0, 50.0, orders)[2] == "IEEE 519"
    network.apply([Update(id="works limits", values={"others_pct": 0.3, "total_pct": None})])
    assert limits_at(network, 11.0, 79.9, orders) == ([2.5, 1.0, 0.3], 12.0, "works limits")
    level = 1e3 * fault_current_ka(network, ["s"])["s"]
    result = run("distortion", network, coupling="l", demand_a=level / 60)
    assert list(result.tables["coupling"]["limit_pct"])[:2] == [2.5, 1.0]
    assert any("works limits" in f.text for f in result.findings if f.kind == "coupling")


@pytest.mark.parametrize(
    "values", [{"orders": "5 0"}, {"ratio_from": 50.0, "ratio_below": 20.0}, {"above_kv": 20.0, "up_to_kv": 10.0}]
)
def test_current_limits_that_can_t_be_are_refused(values: dict[str, Any]) -> None:
    with pytest.raises(InvalidFields):
        works().apply([Add(item={"kind": "current_limits", "id": "x", **values})])


def test_weights_pass_through_their_tables_and_between_them() -> None:
    assert tif(np.array([60.0, 300.0, 1000.0])) == pytest.approx([0.5, 225.0, 5000.0])
    assert psophometric(np.array([800.0, 50.0, 1000.0])) == pytest.approx([1.0, 0.00071, 1.122])
    assert 225 < tif(np.array([330.0]))[0] < 400


def test_telephone_figures_are_weighted_roots_of_squares() -> None:
    branch = run("distortion", works()).tables["branches"]
    n = list(branch["id"]).index("l")
    orders = [(int(c.name.split("_")[1]), float(c.values[n])) for c in branch.columns if c.name.startswith("order_")]
    amps = [(1, float(branch["fundamental_a"][n])), *orders]
    for column, weight, scale in (("it_ka", tif, 1e-3), ("psophometric_a", psophometric, 1.0)):
        expected = sum((i * float(weight(np.array([50.0 * h]))[0])) ** 2 for h, i in amps) ** 0.5
        assert branch[column][n] == pytest.approx(scale * expected)


def test_emission_limits_by_the_two_stages() -> None:
    network = works()
    result = run("emission_limits", network, bus="w", agreed_mva=2.0, capacity_mva=8.0, transfer=0.8, above_kv=33.0)
    z = complex(11**2 / 120 / 101**0.5 + 0.3, 10 * 11**2 / 120 / 101**0.5 + 0.45)
    assert result.summary["short_circuit_mva"] == pytest.approx(121 / abs(z), rel=1e-9)
    assert result.summary["first_stage_pct"] == pytest.approx(200 / (121 / abs(z)), rel=1e-9)
    table = result.tables["emission"]
    for h, a in ((3, 1.0), (5, 1.4), (7, 1.4), (13, 2.0)):
        n = list(table["order"]).index(h)
        own = generic_pct("medium", h)
        left = (own**a - (0.8 * generic_pct("medium", h)) ** a) ** (1 / a)
        share = left * 0.25 ** (1 / a)
        assert table["share_pct"][n] == pytest.approx(share, rel=1e-9)
        assert table["amps"][n] == pytest.approx(share / 100 * 11e3 / 3**0.5 / table["ohm"][n], rel=1e-9)
    assert "second stage" in result.statement
    small = run("emission_limits", network, bus="w", agreed_mva=0.1)
    assert "without more" in small.statement


def test_what_a_sheet_by_hand_says_is_the_network_where_nothing_is_left_out() -> None:
    """One source, one line, one drive: the hand's figure is the program's."""
    network = works()
    study = STUDIES["distortion"]
    asked = {"demand": "none", "lines": "nominal"}
    result = run("distortion", network, **asked)
    assert study.explain is not None
    condition = Condition(id="now", name="now")
    by_hand = study.explain(network, result, condition, "w", asked)[1]
    cells = {c.symbol: c for c in by_hand.ledger}
    assert abs(cells["D"].value) < 1e-9
    for h in (5, 7, 11):
        assert cells[f"u{h}"].value == pytest.approx(cells[f"p{h}"].value, rel=1e-9)
    # A bank makes them differ, and the sheet says so.
    network.apply([Add(item={"kind": "shunt", "id": "bank", "bus": "w", "step_mvar": 2.0})])
    result = run("distortion", network, **asked)
    by_hand = study.explain(network, result, condition, "w", asked)[1]
    cells = {c.symbol: c for c in by_hand.ledger}
    assert abs(cells["D"].value) > 1
    assert "capacitance, most of it bank (100 %)" in by_hand.note


def test_a_further_bus_and_the_current_of_a_branch_are_drawn() -> None:
    network = works()
    network.apply([Update(id="d", values={"spectrum": "Six-pulse rectifier, ideal"})])
    result = run("distortion", network, bus="w", beside="s", branch="l")
    figures = {f.name: f for f in result.figures}
    assert [s.label for s in figures["spectrum"].series] == ["w", "s", "level"]
    assert [s.drawn for s in figures["spectrum"].series] == ["bars", "bars", "levels"]
    branch = result.tables["branches"]
    n = list(branch["id"]).index("l")
    share = 100 * float(branch["order_5_a"][n]) / float(branch["fundamental_a"][n])
    assert figures["current_spectrum"].series[0].y[0] == pytest.approx(share)
    # The waveform holds the energy of its spectrum, and the ideal bridge draws blocks: flat between their edges.
    wave = np.asarray(figures["current_waveform"].series[0].y, float)[:-1]
    assert np.sqrt(np.mean(wave**2)) == pytest.approx(float(branch["rms_a"][n]), rel=1e-9)
    # From the rise of the fundamental through zero: nothing for 30°, then the block of 120°, then nothing again.
    time, size = np.asarray(figures["current_waveform"].series[0].x, float)[:-1], np.pi / np.sqrt(6)
    block = float(branch["fundamental_a"][n]) * size
    degrees = time * 0.05 * 360 % 360
    top, gap = (degrees > 40) & (degrees < 140), (degrees < 20) | (abs(degrees - 180) < 20)
    assert np.abs(wave[top] / block - 1).max() < 0.2, "but for the orders that are not there"
    assert np.abs(wave[gap] / block).max() < 0.2
    phasors = result.tables["phasors"]
    assert phasors["known_pct"] == pytest.approx(phasors["voltage_pct"])
    with pytest.raises(InvalidFields, match="branch"):
        run("distortion", network, branch="d")
    with pytest.raises(InvalidFields, match="beside"):
        run("distortion", network, beside="nowhere")


def test_the_picture_of_a_spectrum_is_the_current_it_stands_for() -> None:
    network = works()
    bars, wave = picture_spectrum(network, "Six-pulse rectifier, controlled")
    assert bars.series[0].y[0] == pytest.approx(18.69)
    y = np.asarray(wave.series[0].y, float)
    # Two edges of overlap and a flat top, alike in both halves.
    assert y[:200] == pytest.approx(-y[100:300], abs=1e-9) or y[:100] == pytest.approx(-y[100:200], abs=1e-9)
    top = y[int(100 * 0.42) : int(100 * 0.55)]
    assert np.ptp(top) < 0.12
    unknown = picture_spectrum(network, "LED lighting")[1]
    assert "unknown angles as 0" in unknown.series[0].label
    assert picture_spectrum(network, "no such spectrum") == []
