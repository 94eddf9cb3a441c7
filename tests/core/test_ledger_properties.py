"""The little language of worked lines against Python's own arithmetic, and its three readings against each other."""

from __future__ import annotations

import math
import re
from typing import Any

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from tests.helpers import bus, line, load, network, source, transformer
from vastmesh.core.results.state import run_load_flow
from vastmesh.core.studies.load_flow import explain_flow
from vastmesh.core.workings import Ledger, evaluate, in_cells, in_words

SYMBOLS = {"a": 1.7, "b": -0.4, "c": 3.25, "d": 0.8}
NAMES = {
    "abs": abs,
    "cos": math.cos,
    "sin": math.sin,
    "sqrt": math.sqrt,
    "max": max,
    "min": min,
    "radians": math.radians,
}


@st.composite
def expressions(draw: st.DrawFn, depth: int) -> str:
    if depth == 0:
        return draw(st.sampled_from([*SYMBOLS, "2", "0.5", "10"]))
    kind = draw(st.sampled_from(["+", "-", "*", "/", "**2", "neg", "abs", "cos", "max", "leaf"]))
    first = draw(expressions(depth=depth - 1))
    if kind == "leaf":
        return first
    if kind == "**2":
        return f"({first})**2"
    if kind == "neg":
        return f"-({first})"
    if kind in ("abs", "cos"):
        return f"{kind}({first})"
    second = draw(expressions(depth=depth - 1))
    return f"max({first}, {second})" if kind == "max" else f"({first}) {kind} ({second})"


def by_python(expression: str) -> float:
    try:
        return float(eval(expression, {"__builtins__": {}}, {**SYMBOLS, **NAMES}))
    except ZeroDivisionError:
        return math.nan


@given(expressions(depth=4))
def test_a_line_is_what_arithmetic_says(expression: str) -> None:
    expected = by_python(expression)
    assume(math.isfinite(expected) and abs(expected) < 1e12)
    assert evaluate(expression, SYMBOLS) == pytest.approx(expected, rel=1e-12, abs=1e-12)


def from_formula(formula: str, cells: dict[str, float]) -> float:
    """A spreadsheet formula of ours, read back by hand: signs, brackets and a few functions."""
    text = formula.removeprefix("=").replace("^", "**")
    for cell, value in cells.items():
        text = re.sub(rf"\b{cell}\b", f"({value!r})", text)
    functions: dict[str, Any] = {"ABS": abs, "COS": math.cos, "MAX": max, "SQRT": math.sqrt}
    return float(eval(text, {"__builtins__": {}}, functions))


@given(expressions(depth=4))
def test_the_formula_of_a_line_gives_the_same(expression: str) -> None:
    cells = {s: f"D{i}" for i, s in enumerate(SYMBOLS, 6)}
    expected = by_python(expression)
    assume(math.isfinite(expected) and abs(expected) < 1e12)
    formula = in_cells(expression, cells)
    assert formula.startswith("=")
    try:
        found = from_formula(formula, {cells[s]: v for s, v in SYMBOLS.items()})
    except ZeroDivisionError:
        return
    assert found == pytest.approx(expected, rel=1e-9, abs=1e-9)


def from_words(text: str) -> str:
    """What a reader would type for a worded line."""
    text = re.sub(r"√\(", "sqrt(", text).replace("²", "**2").replace("³", "**3").replace("^", "**")
    return text.replace("−", "-").replace("·", "*").replace(";", ",")


@given(expressions(depth=4))
def test_a_worded_line_means_the_same(expression: str) -> None:
    expected = by_python(expression)
    assume(math.isfinite(expected) and abs(expected) < 1e12)
    assert by_python(from_words(in_words(expression))) == pytest.approx(expected, rel=1e-9, abs=1e-9)


@given(expressions(depth=3))
def test_figures_put_in_give_the_same(expression: str) -> None:
    expected = by_python(expression)
    assume(math.isfinite(expected) and abs(expected) < 1e12)
    put = in_words(expression, {s: repr(v) for s, v in SYMBOLS.items()})
    assert by_python(from_words(put)) == pytest.approx(expected, rel=1e-9, abs=1e-9)


def test_later_lines_follow_earlier_ones_and_keep_their_order() -> None:
    sheet = Ledger("Order", "a note")
    sheet.given("U", "Voltage", 11.0, "kV", "data")
    sheet.given("S", "Power", 5.0, "MVA", "data")
    sheet.line("I", "Current", "S / (sqrt(3) * U) * 1000", "A", solver=262.43)
    sheet.line("k", "Loading", "I / 400 * 100", "%")
    working = sheet.working()
    assert [s.symbol for s in working.steps] == ["U", "S", "I", "k"]
    assert working.steps[2].value == pytest.approx(5e3 / math.sqrt(3) / 11)
    assert "load flow 262.43" in working.steps[2].source
    assert working.steps[2].inputs.startswith("5 / (√(3) · 11)")
    assert working.note == "a note"
    with pytest.raises(KeyError):
        sheet.line("x", "", "nowhere + 1")


@pytest.mark.parametrize("ident", ["s", "m", "e", "s/m", "m-e", "load-e", "source-s"])
def test_every_line_of_a_working_says_where_it_comes_from(ident: str) -> None:
    net = network(bus("s", 33), source("s"), bus("m"), bus("e"), transformer("s", "m"),
                  line("m", "e", length_km=2.0, rating_a=250.0),
                  load("e", 1.0, 0.3))  # fmt: skip
    workings = explain_flow(net, run_load_flow(net).tables, net.condition, ident)
    assert workings
    for w in workings:
        assert len({c.symbol for c in w.ledger}) == len(w.ledger)
        for cell, step in zip(w.ledger, w.steps, strict=True):
            assert cell.label
            assert math.isfinite(cell.value)
            assert (cell.expression is None) == (step.formula == "")
            assert cell.expression is not None or cell.source, cell.symbol
