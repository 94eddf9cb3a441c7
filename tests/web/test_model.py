"""What the interface holds of network and results, and how it writes figures."""

from __future__ import annotations

from typing import Any

import pytest

from tests.web.conftest import Js


@pytest.mark.parametrize(
    ("value", "digits", "shown"),
    [
        (1.23456, 3, "1.235"), (-0.0001, 2, "0.00"), (-1.5, 1, "−1.5"), (12345.678, 1, "12\u2009345.7"), (1234.5, 1, "1234.5"),
        (None, 2, "–"), (0, 0, "0"), (1234567, 0, "1\u2009234\u2009567"),
    ],
)  # fmt: skip
def test_fixed_figures(js: Js, value: float | None, digits: int, shown: str) -> None:
    assert js("m.fixed(i.v, i.d)", v=value, d=digits) == shown


def test_power_takes_the_unit_of_its_size(js: Js) -> None:
    values = [0.0, 0.0123, 0.5, 0.9999, 1.0, 41.3, -0.02, None]
    assert js("i.v.map(m.power)", v=values) == [
        "0.00 MW", "12.3 kW", "500 kW", "1.00 MW", "1.00 MW", "41.3 MW", "−20.0 kW", "–",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("text", "number"),
    [("1.5", 1.5), ("1,5", 1.5), ("−3", -3), (" 12 345 ", 12345), ("1e-3", 1e-3), ("+4", 4), (".5", 0.5)],
)
def test_typed_numbers_are_understood(js: Js, text: str, number: float) -> None:
    assert js("m.parseNumber(i.t)", t=text) == number


@pytest.mark.parametrize("text", ["", "forty", "1.2.3", "1e", "--1", "0x10", "NaN", "Infinity", "1 MW"])
def test_everything_else_is_not_a_number(js: Js, text: str) -> None:
    assert js("Number.isNaN(m.parseNumber(i.t))", t=text) is True


@pytest.mark.parametrize("value", [0.1, 1 / 3, 1e-8, 132.0, 0.000123456789, 5e6])
def test_an_entered_figure_is_shown_as_it_was_entered(js: Js, value: float) -> None:
    shown = js("m.exact(i.v)", v=value)
    assert float(shown.replace("−", "-")) == pytest.approx(value, rel=1e-11)


def test_left_out_columns_are_taken_from_the_last_result(js: Js, demo_live: dict[str, Any]) -> None:
    later = {**demo_live, "tables": {}}
    for name, table in demo_live["tables"].items():
        columns = [{k: v for k, v in c.items() if k != "values" or not c["fixed"]} for c in table["columns"]]
        later["tables"][name] = {**table, "columns": columns}
    expression = """(() => { const one = m.complete(i.one, null), two = m.complete(i.two, one)
        return [m.values(two.tables.buses, 'name').length, m.figure(two.tables.buses, 'Heron End', 'voltage_pu'),
                m.figure(two.tables.buses, 'nobody', 'voltage_pu') ?? null, two.tables.buses.length] })()"""
    names, volts, nobody, length = js(expression, one=demo_live, two=later)
    assert names == length == 119
    assert volts == pytest.approx(0.930, abs=1e-3)
    assert nobody is None


def test_changes_keep_order_and_put_items_back_where_they_were(js: Js) -> None:
    items = [{"id": x, "kind": "bus", "name": x} for x in "abc"]
    expression = (
        "[...m.applied(new Map(i.items.map(x => [x.id, x])), i.changed, i.removed, i.order).values()].map(x => x.name)"
    )
    assert js(expression, items=items, changed=[{**items[1], "name": "B"}], removed=["a"], order=None) == ["B", "c"]
    new = {"id": "n", "kind": "bus", "name": "n"}
    assert js(expression, items=items, changed=[new], removed=[], order=None) == ["a", "b", "c", "n"]
    assert js(expression, items=items, changed=[new], removed=[], order=["n", "a", "b", "c"]) == ["n", "a", "b", "c"]


def test_buses_of_an_element_come_in_declared_order(js: Js, demo_items: list[dict[str, Any]]) -> None:
    found = js("i.items.map(x => m.busesOf(x))", items=demo_items)
    for item, buses in zip(demo_items, found, strict=True):
        wanted = [v for k, v in item.items() if k == "bus" or k.endswith("_bus")]
        assert buses == wanted


def contrast(one: str, other: str) -> float:
    """WCAG 2.2 contrast ratio of two colours."""

    def luminance(colour: str) -> float:
        parts = [int(colour[n : n + 2], 16) / 255 for n in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_text_and_marks_can_be_read_on_every_ground(js: Js, theme: str) -> None:
    """Text 4.5, marks and lines that carry meaning 3 (WCAG 1.4.3 and 1.4.11)."""
    palette = js(f"m.{theme}")
    for ground in ("paper", "panel"):
        for text in ("ink", "quiet", "accent", "watchInk", "breach"):
            assert contrast(palette[text], palette[ground]) >= 4.5, (text, ground)
        for mark in ("watch", *(c for c in palette["voltage"])):
            colour = palette.get(mark, mark)
            assert contrast(colour, palette[ground]) >= 3, (mark, ground)
    assert contrast(palette["onAccent"], palette["accent"]) >= 4.5
