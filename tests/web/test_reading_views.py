"""Pure parts of the reading views: sift completion, filters, sorting, groups, units, the surface, the map."""

from __future__ import annotations

import itertools
import math
from typing import Any

import pytest

from tests.helpers import bus, line
from tests.web.conftest import Js

Items = list[dict[str, Any]]
HINTS = [{"word": w, "about": ""} for w in ("voltage_pu", "voltage_kv", "max(", "and", "demand_mw")]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("volt", ["voltage_pu", "voltage_kv"]),
        ("voltage_pu < 1 an", ["and"]),
        ("voltage_pu - pinned.volt", ["voltage_pu", "voltage_kv"]),
        ("", []),
        ("demand_mw > 10 kv", []),
        ("name = 'volt", []),
        ("m", ["max(", "demand_mw"]),
    ],
)
def test_completion_offers_what_begins_so_first(js: Js, text: str, words: list[str]) -> None:
    assert js("m.completed(i.hints, i.text, i.text.length).map(h => h.word)", hints=HINTS, text=text) == words


@pytest.mark.parametrize(
    ("filters", "line_"),
    [
        ({"v": "> 0.9"}, "v > 0.9"),
        ({"v": "0.9..1"}, "v >= 0.9 and v <= 1"),
        ({"v": "3"}, "v = 3"),
        ({"name": "quill"}, 'name ~ "quill"'),
        ({"name": 'a"b', "v": " "}, 'name ~ "ab"'),
        ({"name": "= Ambry", "v": "<2"}, "name = Ambry and v <2"),
    ],
)
def test_filters_become_part_of_the_line(js: Js, filters: dict[str, str], line_: str) -> None:
    assert js("m.filterLine(i.f, c => c === 'v')", f=filters) == line_


def test_an_order_stays_at_the_end_when_filters_join(js: Js) -> None:
    assert (
        js("m.joined(i.a, i.b)", a="kind = line, largest x first", b="x > 1")
        == "(kind = line) and x > 1, largest x first"
    )
    assert js("m.joined('', 'x > 1')") == "x > 1"
    assert js("m.joined('a = 1', '')") == "a = 1"


TABLE = {"name": "t", "label": "T", "length": 5, "row": {}, "columns": [
    {"name": "id", "label": "Id", "values": ["a", "b", "c", "d", "e"], "fixed": True},
    {"name": "kind", "label": "Kind", "values": ["x", "y", "x", None, "y"], "fixed": True},
    {"name": "p", "label": "P", "values": [1.0, 3.0, None, 2.0, 3.0], "unit": "MW", "digits": 2, "fixed": False},
    {"name": "u", "label": "U", "values": [0.9, 1.1, 1.0, None, 1.0], "unit": "p.u.", "digits": 3, "fixed": False},
]}  # fmt: skip


P, P_MORE, KIND, KIND_MORE = ["p", False], ["p", True], ["kind", False], ["kind", True]


@pytest.mark.parametrize(
    ("clicks", "rows"),
    [
        ([KIND, P_MORE], [0, 2, 1, 4, 3]),
        ([P], [1, 4, 3, 0, 2]),
        ([P, P], [0, 3, 1, 4, 2]),
        ([], [0, 1, 2, 3, 4]),
        ([["nothing", False]], [0, 1, 2, 3, 4]),
    ],
)
def test_sorting_by_several_columns_keeps_blanks_last(js: Js, clicks: list[Any], rows: list[int]) -> None:
    assert js("m.gridOf(i.t, i.c, null).rows", t=TABLE, c=clicks) == rows


@pytest.mark.parametrize(
    ("clicks", "sorts"),
    [
        ([P], [["p", True]]),
        ([P, P], [["p", False]]),
        ([P, P, P], []),
        ([P, KIND_MORE], [["p", True], ["kind", False]]),
        ([P, KIND_MORE, P_MORE], [["p", False], ["kind", False]]),
        ([P, KIND_MORE, KIND], [["kind", True]]),
    ],
)
def test_clicks_on_headings_go_round(js: Js, clicks: list[Any], sorts: list[Any]) -> None:
    """Figures begin with the largest, words with the first; the third click takes the order away."""
    assert js("m.gridOf(i.t, i.c, null).sorts", t=TABLE, c=clicks) == sorts


def test_groups_have_sums_of_powers_and_spans_of_the_rest(js: Js) -> None:
    levels = {"a": "11 kV", "b": "33 kV", "c": "11 kV", "d": "132 kV", "e": "33 kV"}
    rows = js("m.gridOf(i.t, [], i.of).rows", t=TABLE, of=levels)
    one = {"low": 0.9, "high": 1.0}
    assert rows == [["132 kV", 2, None], 3, ["33 kV", 6, {"low": 1.0, "high": 1.1}], 1, 4, ["11 kV", 1, one], 0, 2]
    # Sorted, the groups with the largest sum come first, and their rows by the column as well.
    rows = js("m.gridOf(i.t, i.c, i.of).rows", t=TABLE, of=levels, c=[P])
    assert [r[0] if isinstance(r, list) else r for r in rows] == ["33 kV", 1, 4, "132 kV", 3, "11 kV", 0, 2]
    # Spans leave the groups where they are; the group of which nothing is known goes last.
    rows = js("m.gridOf(i.t, i.c, i.of).rows", t=TABLE, of=levels, c=[["u", False], ["u", False]])
    assert [r[0] if isinstance(r, list) else r for r in rows] == ["33 kV", 4, 1, "11 kV", 0, 2, "132 kV", 3]
    assert js("m.subtotal(i.t.columns[1], [0])", t=TABLE) is None
    assert js("m.subtotal(i.t.columns[2], [2])", t=TABLE) is None


def test_an_element_belongs_to_the_group_of_its_bus(js: Js) -> None:
    items = [
        {"kind": "area", "id": "n", "name": "North"},
        bus("a", area="n", name="A"),
        bus("b", 33, name="B"),
        line("a", "b", name="L"),
    ]
    of = "m.groupOf(i.g, new Map(i.items.map(x => [x.id, x])), new Map([['b', 'F1']]))(i.id)"
    assert js(of, items=items, g="area", id="a-b") == "North"
    assert js(of, items=items, g="level", id="b") == "33 kV"
    assert js(of, items=items, g="feeder", id="a-b") == "F1"
    assert js(of, items=items, g="feeder", id="a") == "no feeder"
    assert js(of, items=items, g="kind", id="a-b") == "line"


@pytest.mark.parametrize(
    ("value", "unit", "digits", "units", "text"),
    [
        (1.2345, "MW", 3, {}, "1.234 MW"),
        (1.2346, "MW", 3, {"power": "kW"}, "1235 kW"),
        (-0.5, "Mvar", 3, {"power": "kW"}, "−500 kvar"),
        (1234.5, "A", 1, {"current": "kA"}, "1.2345 kA"),
        (0.9512, "p.u.", 4, {"voltage": "%"}, "95.12 %"),
        (0.9512, "p.u.", 4, {"digits": -1}, "0.951 p.u."),
        (0.9512, "p.u.", 4, {"digits": 2}, "0.951200 p.u."),
        (None, "MW", 3, {}, "–"),
        (50.0, "%", 1, {"power": "kW"}, "50.0 %"),
    ],
)
def test_figures_turn_over_with_their_units(
    js: Js, value: float | None, unit: str, digits: int, units: dict[str, Any], text: str
) -> None:
    found = js(
        "m.withUnit(i.v, i.u, i.d, { ...m.initialPrefs.units, ...i.units })", v=value, u=unit, d=digits, units=units
    )
    assert found == text


# The surface


def test_the_surface_stays_between_its_figures_and_meets_them(js: Js) -> None:
    spots = [{"at": {"x": 100, "y": 100}, "value": 0.9}, {"at": {"x": 180, "y": 100}, "value": 1.1}]
    found = js(
        "(s => ({ ...s, value: [...s.value], weight: [...s.weight] }))(m.spread(i.spots, 320, 200))", spots=spots
    )
    known = [v for v in found["value"] if v is not None]
    assert min(known) >= 0.9 - 1e-12
    assert max(known) <= 1.1 + 1e-12
    at = lambda x, y: found["value"][(y // 8) * found["columns"] + x // 8]  # noqa: E731
    assert at(60, 100) == pytest.approx(0.9)
    assert at(140, 100) == pytest.approx(1.0, abs=0.02)
    assert found["value"][-1] is None


def test_an_empty_surface_is_empty(js: Js) -> None:
    assert js("m.spread([], 80, 80).weight.every(w => w === 0)") is True


# The map


@pytest.mark.parametrize(("lon", "lat"), [(0, 0), (-24.6, 46.4), (151.2, -33.9), (10, 80)])
def test_projection_is_undone(js: Js, lon: float, lat: float) -> None:
    found = js("m.unproject(m.project(i.lon, i.lat))", lon=lon, lat=lat)
    assert (found["lon"], found["lat"]) == (pytest.approx(lon, abs=1e-9), pytest.approx(lat, abs=1e-9))


def test_the_projection_keeps_angles(js: Js) -> None:
    """A hundredth of a degree north is as long on the map as one east times 1 / cos(latitude)."""
    a, north, east = js("[[0, 50], [0, 50.01], [0.01, 50]].map(p => m.project(...p))")
    assert (a["y"] - north["y"]) / (east["x"] - a["x"]) == pytest.approx(1 / math.cos(math.radians(50)), rel=1e-3)


MAP = "m.buildMapScene(new Map(i.items.map(x => [x.id, x])))"


def test_the_map_has_every_placed_bus_apart_and_lines_with_their_bends(js: Js) -> None:
    here = {"longitude": -4.0, "latitude": 50.0}
    items = [bus("a", 132, name="A", **here), bus("b", 33, name="B", **here),
             bus("c", 33, name="C", longitude=-3.9, latitude=50.0),
             bus("lost", name="Lost"), {**line("b", "c"), "name": "L", "route": [[-3.95, 50.02]]},
             {**line("a", "lost"), "name": "X"}]  # fmt: skip
    scene = js(f"(s => ({{ buses: s.buses, branches: s.branches }}))({MAP})", items=items)
    spots = {b["id"]: (b["x"], b["y"]) for b in scene["buses"]}
    assert set(spots) == {"a", "b", "c"}
    assert spots["a"] != spots["b"]
    assert spots["a"][0] < spots["b"][0]
    route = next(b for b in scene["branches"] if b["id"] == "b-c")["points"]
    assert len(route) == 3
    assert route[1]["y"] < route[0]["y"]  # the bend lies to the north


def test_the_demo_stands_whole_on_the_map_without_two_at_one_spot(js: Js, demo_items: Items) -> None:
    scene = js(f"(s => s.buses.map(b => [b.x, b.y]))({MAP})", items=demo_items)
    assert len(scene) == sum(i["kind"] == "bus" for i in demo_items)
    assert all(math.dist(a, b) > 0.5 for a, b in itertools.combinations(scene, 2))


def test_a_new_bend_goes_into_the_piece_it_was_taken_from(js: Js) -> None:
    points = [{"x": 0, "y": 0}, {"x": 10, "y": 0}, {"x": 10, "y": 10}]
    assert js("m.pieceAt(i.p, { x: 5, y: 1 })", p=points) == 0
    assert js("m.pieceAt(i.p, { x: 9, y: 7 })", p=points) == 1


def test_a_backdrop_reads_what_it_knows_and_leaves_out_the_rest(js: Js) -> None:
    square = [[[0, 0], [1, 0], [1, 1], [0, 0]]]
    features = [
        {"geometry": {"type": "Polygon", "coordinates": square}},
        {"geometry": {"type": "MultiPolygon", "coordinates": [square, square]}},
        {"properties": {"kind": "main"}, "geometry": {"type": "LineString", "coordinates": [[0, 0], [1, 1]]}},
        {"properties": {"name": "Quay"}, "geometry": {"type": "Point", "coordinates": [0.5, 0.5]}},
        {"geometry": {"type": "Sphere", "coordinates": 3}}, {"geometry": None},
    ]  # fmt: skip
    found = js("m.readBackdrop({ features: i.f })", f=features)
    assert [len(found[k]) for k in ("land", "lines", "places")] == [2, 1, 1]
    assert found["land"][0].endswith("Z")
    assert found["places"][0]["name"] == "Quay"
    assert js("m.readBackdrop(undefined)") == {"land": [], "lines": [], "places": []}


# Labels by set and unit


@pytest.mark.parametrize("label_set", range(6))
def test_no_label_set_lets_labels_cover_each_other(
    js: Js, demo_items: Items, demo_live: dict[str, Any], label_set: int
) -> None:
    expression = """(() => {
        const items = new Map(i.items.map(x => [x.id, x])), s = m.buildScene(items), r = m.complete(i.live, null)
        const p = m.makePaint({ palette: m.light, lens: 'both', bands: {}, items, result: r })
        const words = { set: { ...m.LABEL_SETS[i.set], bothEnds: true }, units: { ...m.initialPrefs.units, power: 'kW' } }
        return m.labelsFor(s, r, words, p, { k: 1.1, x: -200, y: -100 }, 1600, 900, new Set()) })()"""
    labels = js(expression, items=demo_items, live=demo_live, set=label_set)
    assert labels
    for a, b in itertools.combinations(labels, 2):
        p, q = a["box"], b["box"]
        assert p["maxX"] <= q["minX"] or q["maxX"] <= p["minX"] or p["maxY"] <= q["minY"] or q["maxY"] <= p["minY"]
    assert not any(" MW" in label["value"] for label in labels)
