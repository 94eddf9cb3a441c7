"""Which changes of a scheme count: the best of them kept, clashes settled."""

from __future__ import annotations

from typing import Any

import pytest

from tests.web.conftest import Js


def entry(ident: str, gain: str = "", group: str = "", *, on: bool = True, **values: Any) -> dict[str, Any]:
    change = {"op": "update", "id": ident, "values": values or {"conductors": "BN"}, "origins": {}}
    return {"change": change, "label": ident, "on": on, "gain": gain, "group": group}


# A lateral with two elements that follow it, two homes, and a change that somebody added by hand.
FOUND = [
    entry("lateral", "23.05 points", "lateral"), entry("bus", group="lateral"), entry("home on it", group="lateral"),
    entry("roof", "11.9 points"), entry("home", "2.3 points"), entry("by hand", length_km=0.3),
]  # fmt: skip


def on(js: Js, expression: str, **inputs: Any) -> list[str]:
    return [e["label"] for e in js(expression, entries=FOUND, **inputs) if e["on"]]


@pytest.mark.parametrize(("count", "kept"), [
    (3, ["lateral", "bus", "home on it", "roof", "home", "by hand"]), (2, ["lateral", "bus", "home on it", "roof", "by hand"]),
    (1, ["lateral", "bus", "home on it", "by hand"]), (0, ["by hand"]), (-4, ["by hand"]),
    (99, ["lateral", "bus", "home on it", "roof", "home", "by hand"]),
])  # fmt: skip
def test_the_best_stay_with_what_moves_with_them(js: Js, count: int, kept: list[str]) -> None:
    assert on(js, "m.keptBest(i.entries, i.n)", n=count) == kept


def test_keeping_more_again_brings_back_what_was_left_out(js: Js) -> None:
    assert on(js, "m.keptBest(m.keptBest(i.entries, 0), 3)") == [e["label"] for e in FOUND]


def test_the_order_of_the_changes_stays(js: Js) -> None:
    found = js("m.keptBest(i.entries.toReversed(), 1)", entries=FOUND)
    assert [e["label"] for e in found] == [e["label"] for e in reversed(FOUND)]
    assert {e["label"] for e in found if e["on"]} == {"lateral", "bus", "home on it", "by hand"}


def test_a_clash_leaves_out_what_sets_the_field_and_nothing_else(js: Js) -> None:
    two = [entry("load", active_power_mw=1.0), entry("load", conductors="CN"), entry("other", active_power_mw=2.0)]
    left = js("m.leftOut(i.entries, 'load', 'active_power_mw').map((e) => e.on)", entries=two)
    assert left == [False, True, True]
    assert js("m.leftOut(i.entries, 'load', '*').map((e) => e.on)", entries=two) == [False, False, True]
    gone = [{**entry("load"), "change": {"op": "remove", "id": "load"}}]
    assert js("m.leftOut(i.entries, 'load', 'conductors').map((e) => e.on)", entries=gone) == [False]
