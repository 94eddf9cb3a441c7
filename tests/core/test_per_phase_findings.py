"""What a load flow per phase is judged by: criteria, definitions of unbalance, limits; and its workings."""

from __future__ import annotations

from collections.abc import Mapping
from math import sqrt
from typing import Any

import numpy as np
import pytest

from tests.helpers import Item, bus, column, line, load, source, switch, transformer
from vastmesh.core.flow.phases import Reading
from vastmesh.core.network import Network, Trace, Update
from vastmesh.core.results import Finding
from vastmesh.core.results.state import LiveUnbalanced, LoadFlowResult, run_unbalanced
from vastmesh.core.severity import Severity
from vastmesh.core.studies.load_flow import explain_phases, find_cause

TURN = np.exp(2j * np.pi / 3)


def street(*more: Item, rating_a: float = 120.0, **settings: Any) -> Network:
    """A transformer, 300 m of four-wire cable, and three unequal single-phase loads at its end."""
    return Network.from_items([
        {"kind": "settings", "id": "settings", "name": "s", "base_mva": 1.0, "study": "per_phase", **settings},
        bus("m", 11.0), source("m", fault_max_mva=150.0, fault_min_mva=100.0), bus("a", 0.4, conductors="ABCN"),
        transformer("m", "a", 11.0, 0.4, rated_mva=0.2, impedance_pct=4.0, x_over_r=3.0, vector_group="Dyn11",
                    tap_min=-2, tap_max=2, lv_neutral="solid"),
        bus("b", 0.4, conductors="ABCN"),
        line("a", "b", length_km=0.3, r_ohm_per_km=0.25, x_ohm_per_km=0.08, conductors="ABCN", rating_a=rating_a,
             neutral_rating_a=rating_a / 2),
        load("b", 0.018, 0.004, id="on A", conductors="AN"), load("b", 0.008, 0.002, id="on B", conductors="BN"),
        load("b", 0.004, 0.001, id="on C", conductors="CN"), *more,
    ])  # fmt: skip


def read(net: Network) -> Reading:
    found = LiveUnbalanced(net).reading()
    assert found is not None
    return found


def at_b(net: Network) -> np.ndarray:
    """Voltages of A, B, C and N to earth at the end of the street, V."""
    r = read(net)
    return r.bus_v[r.arrays.bus_id.index("b")]


def fortescue(v: np.ndarray) -> np.ndarray:
    """Zero, positive and negative sequence, written out."""
    a, b, c = v[:3]
    return np.array([a + b + c, a + TURN * b + TURN**2 * c, a + TURN**2 * b + TURN * c]) / 3


def found_at(result: LoadFlowResult, quantity: str, element: str = "b") -> Finding | None:
    return next((f for f in result.findings if (f.element, f.quantity) == (element, quantity)), None)


# What stands for the voltage


@pytest.mark.parametrize("criterion", ["phase", "line", "positive"])
def test_voltage_shown_and_judged_by_the_criterion_chosen(criterion: str) -> None:
    limits = {"kind": "voltage_limits", "id": "tight", "name": "Tight", "low_breach_pu": 0.999, "low_watch_pu": 0.9995,
              "high_watch_pu": 1.2, "high_breach_pu": 1.3}  # fmt: skip
    net = street(limits, voltage_criterion=criterion)
    v = at_b(net)
    to_neutral = v[:3] - v[3]
    values = {
        "phase": np.abs(to_neutral) / (400 / sqrt(3)),
        "line": np.abs(v[:3] - np.roll(v[:3], -1)) / 400,
        "positive": np.abs(fortescue(to_neutral)[1:2]) / (400 / sqrt(3)),
    }[criterion]
    farthest = int(np.abs(values - 1).argmax())
    result = run_unbalanced(net)
    assert column(result, "buses", "voltage_pu")["b"] == pytest.approx(values[farthest], rel=1e-9)
    finding = found_at(result, "voltage_pu")
    assert finding is not None
    assert finding.severity is Severity.BREACH
    assert finding.direction == "below"
    assert finding.value == pytest.approx(values.min(), rel=1e-9)
    words = {"phase": "phase A", "line": ("A to B", "B to C", "C to A")[int(values.argmin())],
             "positive": "positive sequence"}[criterion]  # fmt: skip
    assert words.replace(" to ", "") in finding.text.replace(" to ", "")


def test_a_bus_of_one_phase_is_judged_by_that_phase_whatever_the_criterion() -> None:
    home = [bus("x", 0.4, conductors="BN"), line("b", "x", length_km=0.2, r_ohm_per_km=0.6, x_ohm_per_km=0.1, conductors="BN"),
            load("x", 0.012, 0.002, conductors="BN")]  # fmt: skip
    values = set()
    for criterion in ("phase", "line", "positive"):
        result = run_unbalanced(street(*home, voltage_criterion=criterion))
        values.add(round(column(result, "buses", "voltage_pu")["x"], 9))
        finding = found_at(result, "voltage_pu", "x")
        assert finding is not None
        assert "phase B" in finding.text
    assert len(values) == 1


# Unbalance


def unbalance(v: np.ndarray, definition: str) -> float:
    if definition == "negative":
        _zero, positive, negative = np.abs(fortescue(v[:3] - v[3]))
        return float(100 * negative / positive)
    sizes = np.abs(v[:3] - np.roll(v[:3], -1)) if definition == "line" else np.abs(v[:3] - v[3])
    mean = sizes.sum() / 3
    return float(100 * max(abs(s - mean) for s in sizes) / mean)


@pytest.mark.parametrize("definition", ["negative", "line", "phase"])
def test_unbalance_by_each_definition(definition: str) -> None:
    net = street(unbalance_definition=definition)
    expected = unbalance(at_b(net), definition)
    assert expected > 0.3
    result = run_unbalanced(net)
    assert column(result, "buses", "unbalance_pct")["b"] == pytest.approx(expected, rel=1e-9)
    assert result.summary["highest_unbalance_pct"] == pytest.approx(expected, rel=1e-9)


@pytest.mark.parametrize("definition", ["negative", "line", "phase"])
@pytest.mark.parametrize(
    ("share", "severity"), [(0.99, Severity.BREACH), (1.01, Severity.WATCH), (1.24, Severity.WATCH), (1.26, None)]
)
def test_unbalance_is_a_breach_above_its_limit_and_watched_from_eighty_per_cent(
    definition: str, share: float, severity: Severity | None
) -> None:
    value = unbalance(at_b(street()), definition)
    net = street(unbalance_definition=definition, unbalance_limit_pct=value * share, negative_limit_pct=100.0)
    finding = found_at(run_unbalanced(net), "unbalance_pct")
    assert (finding.severity if finding else None) is severity
    if finding is not None:
        assert finding.value == pytest.approx(value, rel=1e-9)
        assert finding.limit == pytest.approx(value * share * (1.0 if severity is Severity.BREACH else 0.8))


def test_the_lower_of_two_limits_of_the_negative_sequence_counts_once() -> None:
    value = unbalance(at_b(street()), "negative")
    result = run_unbalanced(street(unbalance_limit_pct=value * 3, negative_limit_pct=value / 2))
    finding = found_at(result, "negative_voltage_pct")
    assert finding is not None
    assert finding.severity is Severity.BREACH
    assert found_at(result, "unbalance_pct") is None
    other = run_unbalanced(street(unbalance_definition="line", unbalance_limit_pct=100.0, negative_limit_pct=value / 2))
    assert found_at(other, "negative_voltage_pct") is not None


def test_zero_sequence_is_judged_only_where_a_limit_is_given() -> None:
    zero, positive, _ = np.abs(fortescue(at_b(street())[:3] - at_b(street())[3]))
    value = float(100 * zero / positive)
    assert found_at(run_unbalanced(street()), "zero_voltage_pct") is None
    finding = found_at(run_unbalanced(street(zero_limit_pct=value / 1.5)), "zero_voltage_pct")
    assert finding is not None
    assert finding.value == pytest.approx(value, rel=1e-9)
    assert finding.excess == pytest.approx(0.5, rel=1e-6)


def test_neutral_to_earth_is_judged_in_volts() -> None:
    volts = abs(at_b(street())[3])
    assert volts > 2
    for limit, severity in ((volts * 0.99, Severity.BREACH), (volts * 1.1, Severity.WATCH), (volts * 1.3, None)):
        finding = found_at(run_unbalanced(street(neutral_limit_v=limit)), "neutral_voltage_v")
        assert (finding.severity if finding else None) is severity


def test_a_cause_of_unbalance_names_the_branch_and_its_phases() -> None:
    net = street(neutral_limit_v=1.0)
    result = run_unbalanced(net)
    found = find_cause(net, result, Trace(net), "b", "neutral_voltage_v")
    assert found.elements == ["a-b"]
    powers = [1e3 * column(result, "branches", f"phase_{p}_power_mw")["a-b"] for p in "abc"]
    assert all(f"{name} {p:.0f} kW" in found.text for name, p in zip("ABC", powers, strict=True))


def test_unequal_phases_are_named_as_a_cause_of_low_voltage_and_of_overload() -> None:
    """18, 8 and 4 kW are unequal; three equal loads of the same sum are not, whatever else is wrong."""
    net = street(rating_a=60.0)
    result = run_unbalanced(net)
    for ident, quantity in (("b", "voltage_pu"), ("a-b", "loading_pct"), ("b", "unbalance_pct")):
        found = find_cause(net, result, Trace(net), ident, quantity, LiveUnbalanced)
        assert found.uneven == "a-b"
        assert "its phases are loaded unequally" in found.text
    even = net.copy()
    even.apply([Update(id=f"on {p}", values={"active_power_mw": 0.01, "reactive_power_mvar": 0.0023}) for p in "ABC"])
    result = run_unbalanced(even)
    for ident, quantity in (("b", "voltage_pu"), ("a-b", "loading_pct")):
        found = find_cause(even, result, Trace(even), ident, quantity, LiveUnbalanced)
        assert found.uneven is None
        assert "unequally" not in found.text


# Loading


@pytest.mark.parametrize("criterion", ["worst", "positive"])
def test_loading_by_the_phase_loaded_most_or_the_positive_sequence(criterion: str) -> None:
    net = street(loading_criterion=criterion, rating_a=40.0)
    r = read(net)
    i = r.element_current[r.arrays.element_id.index("a-b"), 0]
    amps = np.abs(i[:3]).max() if criterion == "worst" else abs(fortescue(i)[1])
    result = run_unbalanced(net)
    assert column(result, "branches", "loading_pct")["a-b"] == pytest.approx(100 * amps / 40, rel=1e-6)
    finding = found_at(result, "loading_pct", "a-b")
    assert (finding is not None) == (100 * amps / 40 > 80)
    if finding is not None:
        assert ("phase A" in finding.text) == (criterion == "worst")


def test_the_neutral_is_loaded_against_its_own_rating() -> None:
    net = street(rating_a=60.0)
    r = read(net)
    amps = abs(r.element_current[r.arrays.element_id.index("a-b"), 0, 3])
    result = run_unbalanced(net)
    assert column(result, "branches", "neutral_loading_pct")["a-b"] == pytest.approx(100 * amps / 30, rel=1e-6)
    finding = found_at(result, "neutral_loading_pct", "a-b")
    assert finding is not None
    assert finding.severity is Severity.BREACH
    assert finding.text.startswith("neutral:")


def test_a_transformer_is_loaded_by_its_power() -> None:
    """A balanced load of known power: the loading is apparent power over rated power at rated voltage."""
    items = [bus("m", 11.0), source("m", fault_max_mva=1e6, fault_min_mva=1e6), bus("a", 0.4, conductors="ABCN"),
             transformer("m", "a", 11.0, 0.4, rated_mva=0.1, impedance_pct=0.01, x_over_r=3.0, vector_group="Dyn11"),
             load("a", 0.06, 0.0, conductors="ABCN")]  # fmt: skip
    settings = {"kind": "settings", "id": "settings", "name": "s", "base_mva": 1.0}
    result = run_unbalanced(Network.from_items([settings, *items]))
    assert column(result, "branches", "loading_pct")["m/a"] == pytest.approx(60.0, rel=1e-3)


# Repeated solutions


def test_a_live_solution_is_that_of_a_fresh_start_after_every_change() -> None:
    """What is kept between solutions (factors, admittances, rows) must never show."""
    net = street(line("a", "b", id="second", length_km=0.5, r_ohm_per_km=0.3, x_ohm_per_km=0.08, conductors="ABCN"),
                 switch("a", "b", id="bridge", closed=False, conductors="ABCN"))  # fmt: skip
    live = LiveUnbalanced(net)
    edits: list[tuple[str, Mapping[str, Any]]] = [
        ("on A", {"conductors": "CN"}), ("a-b", {"length_km": 0.1}), ("second", {"in_service": False}),
        ("bridge", {"closed": True}), ("m/a", {"taps": "per_phase", "tap_a": 2}), ("on B", {"active_power_mw": 0.002}),
    ]  # fmt: skip
    for ident, values in edits:
        before = {ident: net.items[ident]}
        net.apply([Update(id=ident, values=dict(values))])
        live.changed([ident], before)
        for factor in (1.0, 0.5):
            condition = net.condition.model_copy(update={"demand_factor": factor})
            again, fresh = live.solve(condition), run_unbalanced(net, condition=condition)
            assert again.account.converged
            assert fresh.account.converged
            for table in ("buses", "branches"):
                for c in fresh.tables[table].columns:
                    if c.name == "mismatch_mva" or not isinstance(c.values, np.ndarray):
                        continue
                    np.testing.assert_allclose(
                        again.tables[table][c.name], c.values, rtol=1e-6, atol=1e-6, err_msg=c.name
                    )


def test_losses_of_conductors_and_earth_add_up_to_what_goes_in_and_does_not_come_out() -> None:
    reactor = {"kind": "series_reactor", "id": "choke", "name": "choke", "from_bus": "b", "to_bus": "c", "x_ohm": 0.05,
               "x_over_r": 5.0, "rating_a": 200.0, "conductors": "ABCN"}  # fmt: skip
    net = street(bus("c", 0.4, conductors="ABCN"), reactor, load("c", 0.006, 0.001, conductors="CN"))
    result = run_unbalanced(net)
    kinds = ("phase_a", "phase_b", "phase_c", "neutral", "earth")
    for ident in ("a-b", "choke"):
        parts = [column(result, "branches", f"{k}_loss_kw")[ident] for k in kinds]
        assert sum(parts) == pytest.approx(1e3 * column(result, "branches", "active_loss_mw")[ident], rel=1e-9)
    r = read(net)
    i = r.element_current[r.arrays.element_id.index("choke"), 0]
    assert column(result, "branches", "phase_c_loss_kw")["choke"] == pytest.approx(
        0.01 * abs(i[2]) ** 2 / 1e3, rel=1e-9
    )


# How figures come about


def test_workings_of_a_bus_are_its_figures() -> None:
    net = street()
    result = run_unbalanced(net)
    steps = {s.symbol: s.value for w in explain_phases(net, result.tables, "b") for s in w.steps}
    v = at_b(net)
    to_neutral = v[:3] - v[3]
    for name, volts in zip(("UA", "UB", "UC"), np.abs(to_neutral), strict=True):
        assert steps[name] == pytest.approx(volts, rel=1e-9)
    assert steps["UN"] == pytest.approx(abs(v[3]), rel=1e-9)
    zero, positive, negative = np.abs(fortescue(to_neutral)) / (400 / sqrt(3))
    assert (steps["U0"], steps["U1"], steps["U2"]) == pytest.approx((zero, positive, negative), rel=1e-6)
    assert steps["u2"] == pytest.approx(unbalance(v, "negative"), rel=1e-6)
    assert steps["dL"] == pytest.approx(unbalance(v, "line"), rel=1e-6)
    assert steps["dP"] == pytest.approx(unbalance(v, "phase"), rel=1e-6)


def test_workings_of_a_line_are_its_figures() -> None:
    net = street()
    r = read(net)
    i = r.element_current[r.arrays.element_id.index("a-b"), 0]
    found = {w.title: w for w in explain_phases(net, run_unbalanced(net).tables, "a-b")}
    currents = {s.symbol: s.value for s in found["Currents"].steps}
    expected = {"IA": abs(i[0]), "IB": abs(i[1]), "IC": abs(i[2]), "IN": abs(i[3]), "IE": abs(i.sum())}
    assert {k: currents[k] for k in expected} == pytest.approx(expected, rel=1e-6, abs=1e-6)
    assert currents["J2"] == pytest.approx(abs(fortescue(i)[2]), rel=1e-6)
    drop = {s.symbol: s.value for s in found["Drop along phase A"].steps}
    assert drop["D"] == pytest.approx(drop["F"], rel=1e-5), "Z I by hand is the difference of the voltages found"
    matrix = found["Conductor matrix"].matrices[0]
    z = np.array([[complex(*x) for x in row] for row in matrix.rows])
    v = r.bus_v[[r.arrays.bus_id.index(b) for b in "ab"]]
    assert matrix.names == ("A", "B", "C", "N")
    np.testing.assert_allclose(v[0] - v[1], z @ i * 0.3, atol=1e-3, err_msg="not the matrix that was solved")


@pytest.mark.parametrize("ident", ["b", "a-b", "m/a", "on A"])
def test_every_worked_line_is_what_the_load_flow_found(ident: str) -> None:
    """The program's own figure stands beside every line that has one, and they agree; and all of it can be a live sheet."""
    net = street()
    workings = explain_phases(net, run_unbalanced(net).tables, ident)
    checked = 0
    for w in workings:
        assert w.ledger or w.matrices
        for cell in w.ledger:
            if cell.solver is not None:
                checked += 1
                near = 2e-3 if cell.symbol == "L" else 1e-6  # the loading of a transformer looks at both its ends
                assert cell.value == pytest.approx(cell.solver, rel=near, abs=1e-6), (w.title, cell.symbol)
    assert checked >= 2


def test_nothing_is_explained_where_there_is_no_supply() -> None:
    net = street(bus("dark", 0.4, conductors="ABCN"))
    assert explain_phases(net, run_unbalanced(net).tables, "dark") == []
