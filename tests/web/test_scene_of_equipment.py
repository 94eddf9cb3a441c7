"""How new equipment and arrangements come onto the sheet, and how the lenses colour them."""

from __future__ import annotations

from typing import Any

import pytest

from tests.web.conftest import DECLARED, Js, hue
from tests.web.test_sheet import SCENE, branches, bus, line, small


def hang(kind: str, at: str, **more: Any) -> dict[str, Any]:
    return {"kind": kind, "id": f"{kind}-{at}", "bus": at, **more}


def three(**more: Any) -> dict[str, Any]:
    return {"kind": "three_winding", "id": "T", "hv_bus": "h", "mv_bus": "m", "lv_bus": "l", **more}


BUSES = [bus("h", 0, 0, bar=120), bus("m", 0, 200, bar=80), bus("l", 180, 200, bar=80)]


def test_a_three_winding_transformer_reaches_all_its_buses(js: Js) -> None:
    shape = branches(js, small(*BUSES, three()))["T"]
    start, end, leg = shape["points"][0], shape["points"][-1], shape["leg"][-1]
    assert (start["y"], end["y"], leg["y"]) == (0, 200, 200)
    assert -40 <= end["x"] <= 40
    assert 140 <= leg["x"] <= 220
    assert shape["leg"][0]["x"] == shape["at"]["x"], "the third winding leaves at the symbol"


def test_symbols_turn_and_grow_as_asked(js: Js) -> None:
    items = small(*BUSES, three(flipped=True, symbol_size=1.8), hang("load", "m"), hang("load", "l", flipped=True),
                  hang("inverter", "l"))  # fmt: skip
    scene = js(f"(s => ({{ b: s.branches, h: s.hangs }}))({SCENE})", items=items)
    assert (scene["b"][0]["flipped"], scene["b"][0]["size"]) == (True, 1.8)
    up = {h["id"]: h["up"] for h in scene["h"]}
    assert up == {"load-m": False, "load-l": True, "inverter-l": True}


def test_moved_labels_are_known_and_moved(js: Js) -> None:
    items = small(bus("a", 0, 0, bar=100), {**bus("b", 300, 0, bar=100), "label_dx": 40, "label_dy": -25})
    moves = js(f"[...{SCENE}.labelMoves]", items=items)
    assert moves == [["b", {"x": 40, "y": -25}]]
    expression = f"""(s => {{ const p = m.paintWith(m.light, 'plain', new Map(), null)
        const l = m.labelsFor(s, null, m.WORDS, p, {{k: 1, x: 400, y: 300}}, 900, 600, new Set())
        return l.map(l => [l.key, l.x, l.y]) }})({SCENE})"""
    at = {key: (x, y) for key, x, y in js(expression, items=items)}
    plain = js(expression, items=small(bus("a", 0, 0, bar=100), bus("b", 300, 0, bar=100)))
    before = {key: (x, y) for key, x, y in plain}
    assert at["a"] == before["a"]
    assert (at["b"][0] - before["b"][0], at["b"][1] - before["b"][1]) == (40, -25)


def test_a_branch_passes_over_nodes_that_are_not_its_own(js: Js) -> None:
    """A ring: from the bar, through three nodes in a row, and from the last one back to the bar."""
    row = [bus(f"n{k}", 200 + 90 * k, 100, upright=True) for k in range(3)]
    items = small(bus("bar", 0, 0, bar=100), *row, line("1", "bar", "n0"), line("2", "n0", "n1"), line("3", "n1", "n2"),
                  line("back", "n2", "bar"))  # fmt: skip
    shape = branches(js, items)["back"]
    for a, b in zip(shape["points"], shape["points"][1:], strict=False):
        if a["y"] == b["y"]:
            low, high = sorted((a["x"], b["x"]))
            passed = [n for n in row[:2] if low < n["x"] < high]
            assert not passed or abs(a["y"] - 100) > 20, "it runs through a node"
    straight = branches(js, items)["2"]
    assert {p["y"] for p in straight["points"]} == {100}, "neighbours stay joined along the row"


def test_an_outage_of_the_condition_shows_on_the_sheet(js: Js) -> None:
    switch = {"kind": "switch", "id": "s", "from_bus": "a", "to_bus": "b", "closed": True}
    items = small(bus("a", 0, 0), bus("b", 100, 0), switch, line("l", "a", "b"))
    condition = {"id": "c", "kind": "condition", "name": "c", "states": {"s": "open", "l": "out", "gone": "out"}}
    expression = "[...m.underCondition(new Map(i.items.map(x => [x.id, x])), i.condition).values()]"
    found = {x["id"]: x for x in js(expression, items=items, condition=condition)}
    assert (found["s"]["closed"], found["l"]["in_service"]) == (False, False)
    assert "gone" not in found
    same = "(x => m.underCondition(x, {id: 'c', kind: 'condition', name: 'c'}) === x)(new Map())"
    assert js(same) is True


def colours(js: Js, lens: str, **more: Any) -> list[str]:
    expression = """(p => ['a', 'b', 'l'].map(x => x === 'l' ? p.branch(x) : p.bus(x)))(m.paintWith(m.light, i.lens,
        new Map(i.items.map(x => [x.id, x])), i.result ? m.complete(i.result, null) : null, {
        feeders: new Map(i.feeders ?? []), pinned: i.pinned ? m.complete(i.pinned, null) : null }))"""
    items = small(bus("a", 0, 0), bus("b", 100, 0), line("l", "a", "b"))
    found: list[str] = js(expression, lens=lens, items=items, **more)
    return found


def result(volts: list[float], loss: float = 0.01) -> dict[str, Any]:
    def table(name: str, columns: dict[str, list[Any]]) -> dict[str, Any]:
        made = [{"name": n, "label": n, "values": v, "fixed": False} for n, v in columns.items()]
        return {"name": name, "label": name, "columns": made}

    return {"rows": "r", "findings": [], "quantities": DECLARED, "tables": {
        "buses": table("buses", {"id": ["a", "b"], "voltage_pu": volts, "state": ["live", "live"]}),
        "branches": table("branches", {"id": ["l"], "loading_pct": [50.0], "active_loss_mw": [loss], "state": ["live"]}),
    }}  # fmt: skip


def test_feeders_have_a_colour_each_and_a_branch_that_of_its_far_end(js: Js) -> None:
    found = colours(js, "feeder", feeders=[["a", 0], ["b", 1]], result=result([1, 1]))
    palette = js("m.light.feeders")
    assert found == [palette[0], palette[1], palette[1]]
    assert len(set(palette)) == len(palette)


def test_the_difference_lens_compares_with_the_pinned_result(js: Js) -> None:
    rising = colours(js, "difference", result=result([1.0, 1.03]), pinned=result([1.0, 1.0]))
    same, up = js("[m.light.voltage[1], m.light.voltage[2]]")
    hexes = [js("(c => { const [r, g, b] = c.match(/\\d+/g).map(Number); return [r, g, b] })(i.c)", c=c) if "rgb" in c else c
             for c in rising[:2]]  # fmt: skip
    assert hexes[0] == [int(same[k : k + 2], 16) for k in (1, 3, 5)]
    assert hexes[1] == [int(up[k : k + 2], 16) for k in (1, 3, 5)]
    assert colours(js, "difference", result=result([1.0, 1.0]))[0] == js("m.light.quiet"), (
        "nothing pinned, nothing to say"
    )


@pytest.mark.parametrize("loss", [0.0, 0.01, 5.0])
def test_the_losses_lens_is_relative_to_the_worst_branch(js: Js, loss: float) -> None:
    worst = colours(js, "branches.active_loss_mw", result=result([1, 1], loss))[2]
    strongest, weakest = (hue(js, "branches.loading_pct", v) for v in (100, 0))
    assert worst == (strongest if loss else weakest)
