"""Worked figures agree with the load flow to a millionth, for every kind and every element of the demo."""

from __future__ import annotations

import math

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.helpers import bus, line, load, network, networks, source, transformer
from vastmesh.core.network import Condition, Network
from vastmesh.core.results.state import run_load_flow
from vastmesh.core.studies.load_flow import explain_flow
from vastmesh.core.workings import Cell, Ledger, evaluate, in_cells, in_words


def cells(net: Network, ident: str, condition: Condition | None = None) -> dict[str, Cell]:
    condition = condition or net.condition
    tables = run_load_flow(net, condition=condition).tables
    return {c.symbol: c for w in explain_flow(net.under(condition), tables, condition, ident) for c in w.ledger}


def assert_agree(found: dict[str, Cell], *, at_least: int = 1) -> None:
    compared = [c for c in found.values() if c.solver is not None]
    assert len(compared) >= at_least
    for c in compared:
        assert c.solver is not None
        assert c.value == pytest.approx(c.solver, rel=1e-6, abs=1e-6), (c.symbol, c.value, c.solver)


def test_every_element_of_the_demo_agrees_with_its_working(demo: Network) -> None:
    tables = run_load_flow(demo).tables
    counted: dict[str, int] = {}
    for e in demo.elements():
        for w in explain_flow(demo, tables, demo.condition, e.id):
            assert_agree({c.symbol: c for c in w.ledger}, at_least=0)
            counted[e.kind] = counted.get(e.kind, 0) + 1
    assert set(counted) >= {"bus", "line", "transformer", "load", "source"}
    assert counted["bus"] > 50


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(networks(most_buses=6))
def test_random_networks_agree_with_their_workings(net: Network) -> None:
    tables = run_load_flow(net).tables
    for e in net.elements():
        for w in explain_flow(net, tables, net.condition, e.id):
            assert_agree({c.symbol: c for c in w.ledger}, at_least=0)


def test_a_transformer_with_taps_on_either_side_a_clock_and_iron_loss() -> None:
    for side in ("hv", "lv"):
        unit = transformer("a", "b", tap_side=side, tap_step_pct=1.25, tap_min=-8, tap_max=8, tap_position=3,
                           vector_group="Dyn5", iron_loss_kw=12.0, no_load_current_pct=0.4)  # fmt: skip
        net = network(bus("a", 33), bus("b"), source("a"), unit, load("b", 6.0, 2.0))
        assert_agree(cells(net, "a/b"), at_least=8)


def test_a_line_of_two_circuits_with_charging_and_a_rating() -> None:
    cable = line("a", "b", length_km=12.0, parallel=2, b_us_per_km=90.0, rating_a=300.0)
    net = network(bus("a", 33), bus("b", 33), source("a"), cable, load("b", 8.0, 3.0))
    found = cells(net, "a-b")
    assert_agree(found, at_least=9)
    assert found["R"].value == pytest.approx(0.3 * 12 / 2)


def test_a_load_under_a_condition_with_class_and_area_factors() -> None:
    item = load("b", 2.0, 1.0, constant_power_pct=50.0, constant_current_pct=30.0, constant_impedance_pct=20.0,
                demand_class="domestic")  # fmt: skip
    net = network(
        {"kind": "area", "id": "north"}, bus("a"), bus("b", area="north"), source("a"), line("a", "b", length_km=5.0), item,
        {"kind": "condition", "id": "c", "demand_factor": 1.2, "class_factors": {"domestic": 0.7},
         "area_factors": {"north": 1.1}},
    )  # fmt: skip
    condition = net["c"]
    assert isinstance(condition, Condition)
    found = cells(net, "load-b", condition)
    assert_agree(found, at_least=2)
    assert found["fc"].value == 0.7


def test_nothing_is_said_of_what_is_dead_or_without_a_result() -> None:
    net = network(bus("a"), bus("b"), line("a", "b"), load("b", 1.0))
    tables = run_load_flow(net).tables
    assert all(not explain_flow(net, tables, net.condition, i) for i in ("a", "a-b", "load-b"))
    assert not explain_flow(net, {}, net.condition, "a")


# The little language of worked lines


@given(st.floats(0.1, 9), st.floats(0.1, 9), st.floats(0.1, 9))
def test_lines_are_computed_as_arithmetic_says(a: float, b: float, c: float) -> None:
    sheet = Ledger("x")
    for s, v in (("a", a), ("b", b), ("c", c)):
        sheet.given(s, s, v)
    assert sheet.line("d", "", "sqrt(a**2 + b**2) / (c - -a) * cos(radians(b))") == pytest.approx(
        math.hypot(a, b) / (c + a) * math.cos(math.radians(b))
    )
    assert sheet.line("e", "", "max(d, a) - min(b, abs(-c))") == pytest.approx(
        max(sheet.cells["d"].value, a) - min(b, c)
    )


@pytest.mark.parametrize(
    ("expression", "words", "formula"),
    [
        ("(a + b) * c", "(a + b) · c", "=((D1+D2)*D3)"),
        ("a - (b - c)", "a − (b − c)", "=(D1-(D2-D3))"),
        ("a / (b * c)", "a / (b · c)", "=(D1/(D2*D3))"),
        ("sqrt(a**2 + b**2)", "√(a² + b²)", "=SQRT(((D1^2)+(D2^2)))"),
        ("-(a + b) * cos(radians(c))", "−(a + b) · cos(c)", "=((-(D1+D2))*COS(RADIANS(D3)))"),
        ("max(a, b) / 1000", "max(a; b) / 1000", "=(MAX(D1,D2)/1000)"),
    ],
)
def test_lines_read_as_written_and_as_formulas(expression: str, words: str, formula: str) -> None:
    assert in_words(expression) == words
    assert in_cells(expression, {"a": "D1", "b": "D2", "c": "D3"}) == formula


def test_figures_take_the_place_of_symbols() -> None:
    assert in_words("a * b - c", {"a": "2", "b": "-3", "c": "-4"}) == "2 · (-3) − (-4)"


@pytest.mark.parametrize("expression", ["__import__('os')", "a.b", "[1]", "a if b else c", "lambda: 1"])
def test_nothing_else_is_a_line(expression: str) -> None:
    with pytest.raises((ValueError, KeyError, AttributeError)):
        evaluate(expression, {"a": 1.0, "b": 1.0, "c": 1.0})
