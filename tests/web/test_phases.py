"""Results per phase in the interface: ways of looking, labels, curves of the profile, phasors, marks of schemes."""

from __future__ import annotations

from math import cos, radians, sin
from typing import Any

import pytest

from tests.web.conftest import Js, hue

FIGURE = "m.figure(m.viewed(m.complete(i.live, null), i.way).tables[i.table], i.id, i.name)"


def figure(js: Js, live: dict[str, Any], way: str, table: str, ident: str, name: str) -> float | None:
    found: float | None = js(FIGURE, live=live, way=way, table=table, id=ident, name=name)
    return found


def raw(live: dict[str, Any], table: str, ident: str, name: str) -> float:
    columns = {c["name"]: c["values"] for c in live["tables"][table]["columns"]}
    return float(columns[name][columns["id"].index(ident)])


def test_each_way_has_its_columns(js: Js, street_live: dict[str, Any]) -> None:
    names = {
        way: set(
            js(
                "m.viewed(m.complete(i.live, null), i.way).tables.buses.columns.map((c) => c.name)",
                live=street_live,
                way=way,
            )
        )
        for way in ("worst", "phases", "sequences", "line")
    }
    assert "phase_a_voltage_pu" in names["phases"]
    assert "positive_voltage_pu" in names["sequences"]
    assert "line_ab_voltage_pu" in names["line"]
    assert not {"phase_a_voltage_pu", "positive_voltage_pu", "line_ab_voltage_pu"} & names["worst"]
    assert all({"voltage_pu", "neutral_voltage_v", "unbalance_pct"} <= n for n in names.values())


def test_what_stands_for_the_voltage_follows_the_way(js: Js, street_live: dict[str, Any]) -> None:
    phases = [raw(street_live, "buses", "LR 7", f"phase_{p}_voltage_pu") for p in "abc"]
    worst = max(phases, key=lambda v: abs(v - 1))
    assert figure(js, street_live, "worst", "buses", "LR 7", "voltage_pu") == pytest.approx(worst)
    positive = raw(street_live, "buses", "LR 7", "positive_voltage_pu")
    assert figure(js, street_live, "sequences", "buses", "LR 7", "voltage_pu") == pytest.approx(positive)
    pairs = [raw(street_live, "buses", "LR 7", f"line_{p}_voltage_pu") for p in ("ab", "bc", "ca")]
    assert figure(js, street_live, "line", "buses", "LR 7", "voltage_pu") == pytest.approx(
        max(pairs, key=lambda v: abs(v - 1))
    )


def test_a_bus_of_one_phase_keeps_its_voltage_in_every_way(js: Js, street_live: dict[str, Any]) -> None:
    own = raw(street_live, "buses", "Crescent 2", "phase_a_voltage_pu")
    for way in ("worst", "phases", "sequences", "line"):
        assert figure(js, street_live, way, "buses", "Crescent 2", "voltage_pu") == pytest.approx(own)


def test_a_balanced_result_stays_as_it_is(js: Js, demo_live: dict[str, Any]) -> None:
    expression = (
        "(() => { const r = m.complete(i.live, null); return [m.viewed(r, 'phases') === r, m.hasPhases(r)] })()"
    )
    assert js(expression, live=demo_live) == [True, False]


def test_profile_is_drawn_in_strands(js: Js, street_live: dict[str, Any]) -> None:
    strands = (
        "((r) => m.strands(m.profiled(r).find((q) => q.id === i.q), r))(m.viewed(m.complete(i.live, null), i.way))"
        ".map((s) => [s.name, s.quantity.read(m.viewed(m.complete(i.live, null), i.way), i.bus, i.line)])"
    )
    found = dict(js(strands, live=street_live, q="buses.voltage_pu", way="phases", bus="LR 5", line="LR main-05"))
    assert found == {
        p.upper(): pytest.approx(raw(street_live, "buses", "LR 5", f"phase_{p}_voltage_pu")) for p in "abc"
    }
    currents = dict(
        js(strands, live=street_live, q="branches.from_current_a", way="phases", bus="LR 5", line="LR main-05")
    )
    assert currents["N"] == pytest.approx(raw(street_live, "branches", "LR main-05", "neutral_current_a"))
    alone = js(strands, live=street_live, q="buses.neutral_voltage_v", way="worst", bus="LR 5", line="LR main-05")
    assert alone == [["N", pytest.approx(raw(street_live, "buses", "LR 5", "neutral_voltage_v"))]]
    assert len(js(strands, live=street_live, q="buses.voltage_pu", way="worst", bus="LR 5", line=None)) == 1


TILES = (
    "(() => { const all = new Map(i.all.map((x) => [x.id, x])); const r = m.complete(i.live, null);"
    "return m.tilesOf(i.ids.map((id) => all.get(id)), all, r, i.ghost ? r : null, i.way ?? 'phases') })()"
)


def phasor(a: dict[str, Any]) -> complex:
    return complex(a["size"] * cos(radians(a["angle"])), a["size"] * sin(radians(a["angle"])))


def test_phasors_of_a_bus_and_a_branch(js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]]) -> None:
    ids = ["LR 5", "LR main-05", "Crescent 2"]
    tiles = {t["id"]: t for t in js(TILES, live=street_live, all=demo_items, ids=ids, ghost=False)}
    bus = tiles["LR 5"]
    assert [a["conductor"] for a in bus["arrows"]] == ["A", "B", "C", "N"]
    assert bus["arrows"][0]["size"] == pytest.approx(raw(street_live, "buses", "LR 5", "phase_a_voltage_pu"))
    assert bus["arrows"][3]["size"] * 400 / 3**0.5 == pytest.approx(
        raw(street_live, "buses", "LR 5", "neutral_voltage_v")
    )
    assert [a["conductor"] for a in tiles["Crescent 2"]["arrows"]] == ["A", "N"]
    branch = tiles["LR main-05"]
    assert (branch["what"], branch["unit"]) == ("current", "A")
    # Currents of all conductors nearly cancel: the street is earthed in few places.
    assert abs(sum(map(phasor, branch["arrows"]))) < 0.02 * max(a["size"] for a in branch["arrows"])
    assert [a["conductor"] for a in branch["beside"]] == ["A", "B", "C"], "the voltages that the currents go with"
    ghosts = js(TILES, live=street_live, all=demo_items, ids=ids, ghost=True)
    assert all(len(t["ghosts"]) == len(t["arrows"]) for t in ghosts)
    assert js("m.largest(i.tiles, 'current')", tiles=list(tiles.values())) == pytest.approx(
        max(a["size"] for a in branch["arrows"])
    )


def test_phasors_of_a_home_show_how_its_current_lags(
    js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]]
) -> None:
    (tile,) = js(TILES, live=street_live, all=demo_items, ids=["LR home 05"])
    current = next(a for a in tile["arrows"] if a["conductor"] == "A")
    voltage = next(a for a in tile["beside"] if a["conductor"] == "A")
    assert cos(radians(voltage["angle"] - current["angle"])) == pytest.approx(0.97, abs=1e-4)
    assert current["angle"] < voltage["angle"]
    assert abs(sum(map(phasor, tile["arrows"]))) < 1e-3, "what goes in by the phase comes back by the neutral"
    (again,) = js(TILES, live=street_live, all=demo_items, ids=["LR home 05"], way="sequences")
    assert again == tile, "what hangs at one bus is told by phase alone"


def test_phasors_of_sequences_add_up_to_phase_a(
    js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]]
) -> None:
    asked = {"live": street_live, "all": demo_items, "ids": ["LR 5", "LR main-05"]}
    by_phase, by_sequence = js(TILES, **asked, way="phases"), js(TILES, **asked, way="sequences")
    for phases, sequences in zip(by_phase, by_sequence, strict=True):
        assert [a["conductor"] for a in sequences["arrows"]] == ["1", "2", "0"]
        assert sum(map(phasor, sequences["arrows"])) == pytest.approx(phasor(phases["arrows"][0]), rel=1e-3)


def test_a_transformer_is_drawn_with_the_voltages_of_the_side_of_its_currents(
    js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]]
) -> None:
    (tile,) = js(TILES, live=street_live, all=demo_items, ids=["T-Lantern Row"])
    low = raw(street_live, "buses", "Lantern Row 0.4", "phase_a_angle_deg")
    assert tile["beside"][0]["angle"] == pytest.approx(low)


# Strands on the sheet

STRANDS = (
    "(() => { const items = new Map(i.items.map((x) => [x.id, x])); const r = m.viewed(m.complete(i.live, null), i.way);"
    "const p = m.paintWith(m.light, i.lens, items, r, {}); return m.strandsOf(p.strands(i.id)) })()"
)


@pytest.mark.parametrize(("way", "ident", "parts"), [
    ("phases", "LR 5", ["A", "B", "C"]), ("phases", "Crescent 2", ["A"]), ("phases", "LR crescent-2", ["A"]),
    ("phases", "LR main-03", ["A", "B", "C"]), ("line", "LR 5", ["AB", "BC", "CA"]), ("worst", "LR 5", []),
    ("sequences", "LR main-03", []),
])  # fmt: skip
def test_strands_are_those_of_the_way_of_looking(
    js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]], way: str, ident: str, parts: list[str]
) -> None:
    found = js(STRANDS, live=street_live, items=demo_items, way=way, lens="both", id=ident)
    assert [p for p, _ in found] == parts


def test_each_part_of_a_bar_has_the_colour_of_its_own_voltage(
    js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]]
) -> None:
    found = js(STRANDS, live=street_live, items=demo_items, way="phases", lens="buses.voltage_pu", id="LR 7")
    hues = dict(found)
    for p in "abc":
        value = raw(street_live, "buses", "LR 7", f"phase_{p}_voltage_pu")
        assert hues[p.upper()] == hue(js, "buses.voltage_pu", value)
    assert len(set(hues.values())) == 3


def test_only_lenses_that_know_phases_have_strands(
    js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]]
) -> None:
    asked = {"live": street_live, "items": demo_items, "way": "phases", "id": "LR main-03"}
    assert js(STRANDS, **asked, lens="area") == []
    assert js(STRANDS, **asked, lens="buses.voltage_pu") == [], "lines have no voltage of their own"
    assert [p for p, _ in js(STRANDS, **asked, lens="branches.active_loss_mw")] == ["A", "B", "C"]


@pytest.mark.parametrize("distance", [3.0, -3.0])
def test_strands_run_beside_their_branch_around_corners(js: Js, distance: float) -> None:
    points = [{"x": 0, "y": 0}, {"x": 40, "y": 0}, {"x": 40, "y": 30}, {"x": 70, "y": 30}]
    found = js("m.beside(i.points, i.d)", points=points, d=distance)
    assert [(round(p["x"], 9), round(p["y"], 9)) for p in found] == [
        (0, -distance), (40 + distance, -distance), (40 + distance, 30 - distance), (70, 30 - distance)
    ]  # fmt: skip


def test_sequences_are_what_loading_stands_for(js: Js, street_live: dict[str, Any]) -> None:
    own = raw(street_live, "branches", "LR main-03", "positive_loading_pct")
    assert figure(js, street_live, "sequences", "branches", "LR main-03", "loading_pct") == pytest.approx(own)


@pytest.mark.parametrize(("angle", "x", "y"), [(0, 50, 0), (90, 0, -50), (180, -50, 0), (-90, 0, 50)])
def test_tips_turn_against_the_clock(js: Js, angle: float, x: float, y: float) -> None:
    tip = js("m.tip({ conductor: 'A', size: 1, angle: i.a }, 100, 2)", a=angle)
    assert (tip["x"], tip["y"]) == (pytest.approx(x, abs=1e-9), pytest.approx(y, abs=1e-9))


@pytest.mark.parametrize(("conductors", "names", "shown"), [("A", "L123", "L1"), ("BC", "L123", "L2-L3"), ("N", "L123", "N"),
                                                            ("AB", "ABC", "AB")])  # fmt: skip
def test_phases_are_written_as_somebody_likes(js: Js, conductors: str, names: str, shown: str) -> None:
    assert js("m.phaseName(i.c, i.n)", c=conductors, n=names) == shown


def test_every_phase_differs_by_stroke_as_well_as_colour(js: Js) -> None:
    dashes = js("['A', 'B', 'C', 'N'].map((c) => m.PHASE_DASH[c] ?? 'solid')")
    assert len(set(dashes)) == 4
    for palette in ("light", "dark"):
        colours = js(f"['A', 'B', 'C', 'N'].map((c) => m.phaseColour(m.{palette}, c))")
        assert len(set(colours)) == 4


def test_labels_give_each_phase(js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]]) -> None:
    expression = (
        "(() => { const items = new Map(i.items.map((x) => [x.id, x])); const scene = m.buildScene(items);"
        "const r = m.viewed(m.complete(i.live, null), i.way); const p = scene.centre.get('LR 5');"
        "const view = { x: 400 - 2 * p.x, y: 300 - 2 * p.y, k: 2 };"
        "return m.labelsFor(scene, r, m.WORDS, m.paintWith(m.light, 'both', items, r, {}), view, 800, 600, new Set(['LR 5']))"
        ".find((l) => l.key === 'LR 5')?.value })()"
    )
    phases = js(expression, live=street_live, items=demo_items, way="phases")
    assert phases.split(" ")[::2] == ["A", "B", "C"]
    assert float(phases.split(" ")[1]) == pytest.approx(
        raw(street_live, "buses", "LR 5", "phase_a_voltage_pu"), abs=5e-4
    )
    assert float(js(expression, live=street_live, items=demo_items, way="worst"))


def test_schemes_stand_in_the_order_in_which_they_are_laid(js: Js) -> None:
    items = [{"kind": "scheme", "id": i, "rank": r} for i, r in (("late", 2), ("early", 1), ("last", 3))]
    order = js("m.schemesOf(new Map(i.items.map((x) => [x.id, x]))).map((s) => s.id)", items=items)
    assert order == ["early", "late", "last"]


# Labels in a crowded street

LABELS = (
    "(() => { const items = new Map(i.items.map((x) => [x.id, x])); const scene = m.buildScene(items);"
    "const r = m.viewed(m.complete(i.live, null), i.way); const p = scene.centre.get(i.at);"
    "const view = { x: 480 - i.k * p.x, y: 260 - i.k * p.y, k: i.k };"
    "const labels = m.labelsFor(scene, r, m.WORDS, m.paintWith(m.light, 'both', items, r, {}), view, 960, 520, new Set());"
    "const symbols = scene.hangs.map((h) => { const q = m.toScreen(view, h.at); const half = 8 * i.k * h.size;"
    "const tall = 16 * i.k * h.size; return { id: h.id, minX: q.x - half, maxX: q.x + half,"
    "minY: h.up ? q.y - tall : q.y, maxY: h.up ? q.y : q.y + tall } });"
    "const kinds = Object.fromEntries(i.items.map((x) => [x.id, x.kind]));"
    "return { labels: labels.map((l) => ({ key: l.key, kind: kinds[l.key], value: l.value, box: l.box })), symbols } })()"
)


def overlapping(a: dict[str, float], b: dict[str, float]) -> bool:
    return a["minX"] < b["maxX"] and a["maxX"] > b["minX"] and a["minY"] < b["maxY"] and a["maxY"] > b["minY"]


@pytest.mark.parametrize("k", [1.0, 1.3, 1.6, 2.0, 2.6])
@pytest.mark.parametrize("at", ["LR 2", "LR 4", "LR 6", "Wick Yard 2", "Crescent 2"])
@pytest.mark.parametrize("way", ["worst", "phases"])
def test_figures_of_loads_and_lines_keep_off_symbols_and_off_each_other(
    js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]], at: str, k: float, way: str
) -> None:
    found = js(LABELS, live=street_live, items=demo_items, at=at, k=k, way=way)
    seen = {"minX": 0, "maxX": 960, "minY": 0, "maxY": 520}
    small = [x for x in found["labels"] if x.get("kind") in ("load", "line", "inverter", "electrode")]
    small = [x for x in small if overlapping(x["box"], seen)]
    assert small, "there is something to read"
    for label in small:
        for symbol in found["symbols"]:
            assert not overlapping(label["box"], symbol), (label["key"], symbol["id"])
    boxes = [x["box"] for x in found["labels"]]
    assert not any(overlapping(a, b) for n, a in enumerate(boxes) for b in boxes[:n])


@pytest.mark.parametrize("k", [1.4, 2.0])
def test_the_mark_of_a_finding_is_not_written_over(
    js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]], k: float
) -> None:
    """The mark of an overloaded line stands below its middle; its own figure looks for another place."""
    found = js(LABELS, live=street_live, items=demo_items, at="LR main-02", k=k, way="worst")
    own = next(x for x in found["labels"] if x["key"] == "LR main-02")
    mark = {"minX": 480 - 12, "maxX": 480 + 10, "minY": 260 + 3, "maxY": 260 + 18}
    assert "%" in own["value"]
    assert not overlapping(own["box"], mark)


def test_a_phase_alone_is_its_strand_and_its_letter(
    js: Js, street_live: dict[str, Any], demo_items: list[dict[str, Any]]
) -> None:
    """Two-wire parts of the street: one strand in the stroke of its phase, one figure in its label."""
    found = js(LABELS, live=street_live, items=demo_items, at="Crescent 2", k=2.0, way="phases")
    label = next(x for x in found["labels"] if x["key"] == "Crescent 2")
    assert label["value"].startswith("A ")
    assert len(label["value"].split()) == 2
    for branch in ("LR crescent-1", "LR crescent-2", "LR crescent-3"):
        (part,) = js(STRANDS, live=street_live, items=demo_items, way="phases", lens="both", id=branch)
        own = raw(street_live, "branches", branch, "phase_a_loading_pct")
        assert part == ["A", hue(js, "branches.loading_pct", own)]
