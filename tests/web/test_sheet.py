"""Geometry of the sheet: views invert, routes run square and meet their bars, labels keep clear of each other."""

from __future__ import annotations

import itertools
from typing import Any

import pytest

from tests.web.conftest import Js, hue

Items = list[dict[str, Any]]
SCENE = "m.buildScene(new Map(i.items.map(x => [x.id, x])))"


@pytest.fixture(scope="module")
def scene(js: Js, demo_items: Items) -> dict[str, Any]:
    expression = f"(s => ({{ buses: s.buses, branches: s.branches, hangs: s.hangs, box: s.box }}))({SCENE})"
    found: dict[str, Any] = js(expression, items=demo_items)
    return found


def small(*items: dict[str, Any]) -> Items:
    return [{"name": i["id"], **i} for i in items]


def bus(ident: str, x: float, y: float, *, bar: float = 36, upright: bool = False) -> dict[str, Any]:
    return {"kind": "bus", "id": ident, "nominal_kv": 11, "x": x, "y": y, "bar": bar, "upright": upright}


def line(ident: str, a: str, b: str, **more: Any) -> dict[str, Any]:
    return {"kind": "line", "id": ident, "from_bus": a, "to_bus": b, **more}


def branches(js: Js, items: Items) -> dict[str, dict[str, Any]]:
    return {b["id"]: b for b in js(f"{SCENE}.branches", items=items)}


# Views


def test_screen_and_world_invert_each_other(js: Js) -> None:
    views = [{"k": k, "x": x, "y": y} for k in (0.02, 0.3, 1, 6) for x, y in ((0, 0), (-350.5, 1200))]
    points = [{"x": x, "y": y} for x in (-1e4, 0, 3.25) for y in (-7, 1e4)]
    back = js("i.views.map(v => i.points.map(p => m.toWorld(v, m.toScreen(v, p))))", views=views, points=points)
    for row in back:
        for found, point in zip(row, points, strict=True):
            assert found["x"] == pytest.approx(point["x"], abs=1e-8)
            assert found["y"] == pytest.approx(point["y"], abs=1e-8)


@pytest.mark.parametrize("box", [(0, 0, 10, 10), (-500, 20, 4000, 900), (7, 7, 7, 7), (0, 0, 10, 9000)])
def test_fitting_shows_the_whole_box(js: Js, box: tuple[float, ...]) -> None:
    b = dict(zip(("minX", "minY", "maxX", "maxY"), box, strict=True))
    corners = js("(v => [m.toScreen(v, {x: i.b.minX, y: i.b.minY}), m.toScreen(v, {x: i.b.maxX, y: i.b.maxY})])"
                 "(m.fitView(i.b, 970, 500))", b=b)  # fmt: skip
    for corner in corners:
        assert 0 <= corner["x"] <= 970
        assert 0 <= corner["y"] <= 500


def test_zooming_keeps_the_point_under_the_pointer(js: Js) -> None:
    before = {"k": 0.8, "x": 40, "y": -30}
    found = js("(v => [m.toWorld(i.v, i.at), m.toWorld(v, i.at), v.k])(m.zoomed(i.v, 1.7, i.at))", v=before,
               at={"x": 300, "y": 200})  # fmt: skip
    assert found[0] == pytest.approx(found[1])
    assert found[2] == pytest.approx(0.8 * 1.7)
    assert js("m.zoomed(i.v, 1e9, {x: 0, y: 0}).k", v=before) == 6


# Routes


def test_every_route_runs_square(scene: dict[str, Any]) -> None:
    for shape in [*scene["branches"], *scene["hangs"]]:
        for a, b in zip(shape["points"], shape["points"][1:], strict=False):
            assert abs(a["x"] - b["x"]) < 0.6 or abs(a["y"] - b["y"]) < 0.6, shape["id"]


def touches(point: dict[str, float], at: dict[str, Any]) -> bool:
    along, across = ("y", "x") if at["upright"] else ("x", "y")
    return abs(point[along] - at[along]) <= at["half"] + 0.6 and abs(point[across] - at[across]) <= 28


def test_every_route_meets_the_bars_of_its_buses(scene: dict[str, Any], demo_items: Items) -> None:
    at = {b["id"]: b for b in scene["buses"]}
    items = {i["id"]: i for i in demo_items}
    for shape in scene["branches"]:
        item = items[shape["id"]]
        first, last = (item[f] for f in item if f.endswith("_bus"))
        ends = (shape["points"][0], (shape["stub"] or shape["points"][::-1])[0])
        assert touches(ends[0], at[first]), shape["id"]
        assert touches(ends[1], at[last]), shape["id"]
    for hang in scene["hangs"]:
        assert touches(hang["points"][0], at[hang["bus"]]), hang["id"]


def crossings(one: list[dict[str, float]], other: list[dict[str, float]]) -> int:
    """Proper crossings of two square polylines (touching ends do not count)."""
    count = 0
    for a, b in itertools.pairwise(one):
        for c, d in itertools.pairwise(other):
            upright, level = ((a, b), (c, d)) if abs(a["x"] - b["x"]) < 0.6 else ((c, d), (a, b))
            if abs(upright[0]["x"] - upright[1]["x"]) > 0.6 or abs(level[0]["y"] - level[1]["y"]) > 0.6:
                continue
            x, y = upright[0]["x"], level[0]["y"]
            low, high = sorted((level[0]["x"], level[1]["x"]))
            top, bottom = sorted((upright[0]["y"], upright[1]["y"]))
            count += low + 1 < x < high - 1 and top + 1 < y < bottom - 1
    return count


def test_sections_of_one_feeder_and_feeders_of_one_bar_do_not_cross(scene: dict[str, Any]) -> None:
    by_name = {b["id"]: b["points"] for b in scene["branches"] if not b["stub"]}
    stations = ("Saltern F", "Marrow F", "Fennick F", "Kesterby F", "Harbour F", "LR main")
    for station in stations:
        mine = {k: v for k, v in by_name.items() if k.startswith(station)}
        pairs = [(a, b) for a in mine for b in mine if a < b]
        crossed = [(a, b) for a, b in pairs if crossings(mine[a], mine[b])]
        assert crossed == [], station


def test_transformers_side_by_side_drop_straight_and_apart(scene: dict[str, Any]) -> None:
    by_id = {b["id"]: b for b in scene["branches"]}
    xs = []
    for ident in ("T-L1", "T-L2"):
        points = by_id[ident]["points"]
        assert len({round(p["x"]) for p in points}) == 1
        xs.append(points[0]["x"])
    assert abs(xs[0] - xs[1]) >= 26


def test_open_ties_become_stubs_that_name_their_far_ends(scene: dict[str, Any]) -> None:
    tie = next(b for b in scene["branches"] if b["id"] == "Tie Moor End")
    assert tie["open"]
    assert [n["name"] for n in tie["stubNames"]] == ["Peat Works", "Moor End"]
    assert all(abs(a["y"] - b["y"]) < 50 for a, b in (tie["points"], tie["stub"]))


def test_a_short_open_switch_is_drawn_in_its_place(js: Js) -> None:
    items = small(bus("a", 0, 0, upright=True), bus("b", 90, 0, upright=True),
                  {"kind": "switch", "id": "s", "from_bus": "a", "to_bus": "b", "closed": False})  # fmt: skip
    shape = branches(js, items)["s"]
    assert shape["stub"] is None
    assert shape["open"]


def test_level_bars_are_joined_end_to_end(js: Js) -> None:
    found = branches(js, small(bus("a", 0, 0, bar=100), bus("b", 300, 0, bar=100), line("l", "a", "b")))["l"]
    assert found["points"] == [{"x": 50, "y": 0}, {"x": 250, "y": 0}]
    assert not found["vertical"]
    assert found["forward"]


def test_a_lateral_leaves_its_bus_and_not_its_neighbour(js: Js) -> None:
    """It goes up or down first, from the end of the bar; half way along it would look like a tee in the line."""
    items = small(bus("a", 0, 0, upright=True), bus("b", 90, 0, upright=True), bus("c", 90, -100, upright=True),
                  line("trunk", "a", "b"), line("lateral", "a", "c"))  # fmt: skip
    found = branches(js, items)
    assert found["trunk"]["points"] == [{"x": 0, "y": 0}, {"x": 90, "y": 0}]
    assert found["lateral"]["points"] == [{"x": 0, "y": -18}, {"x": 0, "y": -100}, {"x": 90, "y": -100}]


def test_elements_at_unknown_buses_are_left_out_not_crashed_on(js: Js) -> None:
    items = small(bus("a", 0, 0), line("l", "a", "gone"), {"kind": "load", "id": "d", "bus": "gone"})
    assert js(f"(s => [s.branches.length, s.hangs.length])({SCENE})", items=items) == [0, 0]
    assert js(f"{SCENE}.box", items=[]) is None


# Labels, colours, selection by keys

LABELS = f"""(() => {{
    const items = new Map(i.items.map(x => [x.id, x])), s = {SCENE}, r = m.complete(i.live, null)
    const p = m.paintWith(m.light, 'both', items, r), v = i.view ?? m.fitView(s.box, 970, 500)
    return m.labelsFor(s, r, m.WORDS, p, v, 970, 500, new Set(i.strong ?? []))
}})()"""


@pytest.mark.parametrize("k", [None, 0.3, 0.6, 1.0, 1.6])
def test_labels_do_not_cover_each_other(js: Js, demo_items: Items, demo_live: dict[str, Any], k: float | None) -> None:
    view = None if k is None else {"k": k, "x": 200 - 900 * k, "y": 100 - 600 * k}
    labels = js(LABELS, items=demo_items, live=demo_live, view=view)
    assert labels
    for n, a in enumerate(labels):
        for b in labels[n + 1 :]:
            p, q = a["box"], b["box"]
            apart = p["maxX"] <= q["minX"] or q["maxX"] <= p["minX"] or p["maxY"] <= q["minY"] or q["maxY"] <= p["minY"]
            assert apart, (a["name"], a["value"], b["name"], b["value"])


def test_no_name_hides_a_transformer_where_another_label_can_make_room(
    js: Js, demo_items: Items, demo_live: dict[str, Any]
) -> None:
    """The whole region at once: beside crowded bars a name takes the place of one that can do with less."""
    labels = js(LABELS, items=demo_items, live=demo_live)
    symbols = js(
        f"""(() => {{ const s = {SCENE}, v = m.fitView(s.box, 970, 500), big = v.k * Math.max(1, Math.min(2.2, 0.7 / v.k))
        return s.branches.filter(b => b.kind === 'transformer').map(b => {{ const p = m.toScreen(v, b.at)
        return {{ id: b.id, minX: p.x - 9 * big, maxX: p.x + 9 * big, minY: p.y - 14 * big, maxY: p.y + 14 * big }} }}) }})()""",
        items=demo_items,
    )
    named = [label for label in labels if label["name"]]
    assert len(named) > 20
    assert len(symbols) > 10
    for label in named:
        for symbol in symbols:
            p, q = label["box"], symbol
            apart = p["maxX"] <= q["minX"] or q["maxX"] <= p["minX"] or p["maxY"] <= q["minY"] or q["maxY"] <= p["minY"]
            assert apart, (label["name"], symbol["id"])


@pytest.mark.parametrize("k", [0.8, 1.2, 1.6])
def test_no_line_strikes_through_the_figures_of_a_line(
    js: Js, demo_items: Items, demo_live: dict[str, Any], k: float
) -> None:
    view = {"k": k, "x": 200 - 900 * k, "y": 100 - 300 * k}
    labels = {label["key"]: label["box"] for label in js(LABELS, items=demo_items, live=demo_live, view=view)}
    shapes = js(f"(s => [...s.branches, ...s.hangs])({SCENE})", items=demo_items)
    lines = {s["id"] for s in shapes if s["kind"] == "line"} & set(labels)
    assert lines
    for ident in lines:
        box = labels[ident]
        assert box["minX"] >= 0
        assert box["maxX"] <= 970
        for shape in shapes:
            for a, b in itertools.pairwise(shape["points"]):
                xs, ys = (
                    sorted((a["x"] * k + view["x"], b["x"] * k + view["x"])),
                    sorted((a["y"] * k + view["y"], b["y"] * k + view["y"])),
                )
                apart = xs[1] <= box["minX"] or xs[0] >= box["maxX"] or ys[1] <= box["minY"] or ys[0] >= box["maxY"]
                assert apart, (ident, shape["id"])


def test_the_selected_element_is_always_labelled(js: Js, demo_items: Items, demo_live: dict[str, Any]) -> None:
    names = {label["name"] for label in js(LABELS, items=demo_items, live=demo_live, strong=["Heron End"])}
    assert "Heron End" in names
    assert "Heron End" not in {label["name"] for label in js(LABELS, items=demo_items, live=demo_live)}


def test_lens_colours_diverge_about_nominal_and_rise_with_loading(js: Js) -> None:
    low, middle, high, beyond = (hue(js, "buses.voltage_pu", v) for v in (0.90, 1, 1.1, 1.5))
    assert len({low, middle, high}) == 3
    assert high == beyond
    loads = [hue(js, "branches.loading_pct", v) for v in (0, 50, 80, 100, 150)]
    assert len(set(loads)) == 4
    assert loads[3] == loads[4]


def test_paint_tells_live_from_dead_and_the_direction_of_flow(
    js: Js, demo_items: Items, demo_live: dict[str, Any]
) -> None:
    expression = """(() => { const items = new Map(i.items.map(x => [x.id, x])), r = m.complete(i.live, null)
        const p = m.paintWith(m.light, 'both', items, r)
        return [p.live('Heron End'), p.live('Tie Moor End'), p.flow('Saltern F2-01'), p.flow('Gannet Down - Lowmere'),
                p.flow('T-TH'), p.finding('T-Q1')?.severity ?? null, p.finding('Ambry 132') ?? null] })()"""
    found = js(expression, items=demo_items, live=demo_live)
    assert found == [True, False, 1, 1, -1, "breach", None]


def test_arrow_keys_choose_the_nearest_in_their_direction(js: Js) -> None:
    centre = {"a": {"x": 0, "y": 0}, "b": {"x": 90, "y": 5}, "c": {"x": 400, "y": 0}, "d": {"x": 0, "y": -80}}
    expression = """i.keys.map(k => m.neighbour(new Map(Object.entries(i.centre)), 'a', m.arrow(k)))"""
    keys = ["ArrowRight", "ArrowUp", "ArrowDown", "ArrowLeft"]
    assert js(expression, centre=centre, keys=keys) == ["b", "d", None, None]
