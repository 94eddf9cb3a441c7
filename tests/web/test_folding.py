"""Far out: stations and feeders as one mark each, what is left to draw, and what is under the pointer."""

from __future__ import annotations

from typing import Any

import pytest
from benchmarks.synthetic import synthetic

from tests.web.conftest import Js
from vastmesh.core.layout import place
from vastmesh.core.network import Network, dump_item
from vastmesh.core.network.trace import Trace

FOLDED = """(() => {
  const items = new Map(i.items.map(x => [x.id, x])), scene = m.buildScene(items)
  const sites = m.sitesOf(scene, i.stations, i.feeders)
  return { scene, sites, at: k => m.fold(scene, sites, m.stepAt(sites, k)) } })()"""


@pytest.fixture(scope="module")
def big() -> dict[str, Any]:
    network = synthetic(1500)
    network.apply(place(network))
    trace = Trace(network)
    return {
        "items": [dump_item(i) for i in network.items.values()],
        "stations": [{"id": s.id, "name": s.name, "buses": s.buses, "feeders": s.feeders} for s in trace.stations],
        "feeders": [{"id": f.id, "name": f.name, "buses": f.buses} for f in trace.feeders],
    }


@pytest.mark.parametrize("k", [0.02, 0.12, 0.2, 0.3, 0.5, 2.0])
def test_nothing_is_drawn_twice_and_nothing_is_lost(js: Js, big: dict[str, Any], k: float) -> None:
    """Every bus is drawn or in one mark; every branch is drawn, inside one mark, or runs between two things."""
    found = js(
        f"""(({{ scene, at }}) => {{ const f = at({k}); return {{
          drawn: f.buses.map(b => b.id), marked: f.marks.flatMap(m => m.buses), kinds: f.marks.map(m => m.kind),
          branches: f.branches.map(b => b.id), inner: [...f.inner.values()].flat(), hangs: f.hangs.map(h => h.bus),
          all: scene.buses.map(b => b.id), allBranches: scene.branches.map(b => b.id) }} }})({FOLDED})""",
        **big,
    )
    assert sorted(found["drawn"] + found["marked"]) == sorted(found["all"])
    assert sorted(found["branches"] + found["inner"]) == sorted(found["allBranches"])
    assert set(found["hangs"]) <= set(found["drawn"])
    expected = {0.02: {"site"}, 2.0: set()}.get(k)
    if expected is not None:
        assert set(found["kinds"]) == expected


def test_marks_open_as_one_comes_nearer(js: Js, big: dict[str, Any]) -> None:
    counts = js(f"(({{ at }}) => [0.02, 0.1, 0.2, 0.3, 0.5, 1].map(k => at(k).buses.length))({FOLDED})", **big)
    assert counts == sorted(counts)
    assert counts[0] == 0
    assert counts[-1] > 1400
    steps = js(f"(({{ sites }}) => [sites.steps, m.stepAt(sites, 0), m.stepAt(sites, 99)])({FOLDED})", **big)
    assert steps[0] == sorted(set(steps[0]))
    assert steps[1:] == [0, len(steps[0])]


def test_a_small_network_is_never_folded(js: Js, demo_items: list[dict[str, Any]]) -> None:
    found = js(f"(({{ at }}) => at(0.02).marks.length)({FOLDED})", items=demo_items, stations=[], feeders=[])
    assert found == 0


def test_a_mark_tells_the_worst_of_what_it_holds(js: Js, big: dict[str, Any]) -> None:
    found = js(
        f"""(({{ at }}) => {{
          const f = at(0.02), mark = f.marks[0], inside = f.inner.get(mark.key)
          const row = ids => new Map(ids.map((id, n) => [id, n]))
          const table = (ids, name, values) => ({{ row: row(ids), columns: [{{ name, values }}], length: ids.length }})
          const result = {{ tables: {{
            buses: table(mark.buses, 'voltage_pu', mark.buses.map((_, n) => n === 5 ? 0.91 : n === 7 ? 1.06 : 1)),
            branches: table(inside, 'loading_pct', inside.map((_, n) => n === 3 ? 87 : 20)) }} }}
          const hurt = {{ [mark.buses[5]]: {{ severity: 'watch', excess: 5 }}, [inside[3]]: {{ severity: 'breach', excess: 1 }} }}
          const paint = {{ finding: id => hurt[id], live: () => true }}
          const t = m.figuresOf(mark, f, result, paint)
          return [t.voltage, mark.buses[5], t.loading, inside[3], t.finding.severity, t.findings] }})({FOLDED})""",
        **big,
    )
    assert found[0] == {"id": found[1], "pu": 0.91}
    assert found[2] == {"id": found[3], "pct": 87}
    assert found[4:] == ["breach", 2]


def test_links_run_to_the_marks(js: Js, big: dict[str, Any]) -> None:
    """Between two marks straight from one to the other; from an open bar square, from where it leaves the bar."""
    found = js(
        f"""(({{ at, sites }}) => [0.02, ...sites.steps].map(k => {{ const f = at(k); return f.branches.flatMap(b => {{
          const ends = b.buses.map(x => f.within.get(x)?.at ?? null)
          return ends.some(e => e) ? [[b.points, ends]] : [] }}) }}))({FOLDED})""",
        **big,
    )
    far, nearer = found[0], [link for links in found[1:] for link in links]
    assert far
    assert all([points[0], points[-1]] == ends for points, ends in far)
    assert any(None in ends for _, ends in nearer)
    for points, ends in nearer:
        for end, point in zip(ends, (points[0], points[-1]), strict=True):
            assert end is None or end == point


def test_the_nearest_within_reach_is_hit(js: Js) -> None:
    items = [
        {"kind": "bus", "id": "a", "name": "a", "nominal_kv": 11, "x": 0, "y": 0, "bar": 80},
        {"kind": "bus", "id": "b", "name": "b", "nominal_kv": 11, "x": 400, "y": 0, "bar": 80},
        {"kind": "line", "id": "l", "name": "l", "from_bus": "a", "to_bus": "b"},
        {"kind": "load", "id": "d", "name": "d", "bus": "a"},
    ]
    hit = """(() => { const s = m.buildScene(new Map(i.items.map(x => [x.id, x]))), h = s.hangs[0]
      const v = { k: i.k, x: 30, y: 50 }, at = (x, y) => m.hitAt(s, v, { x: x * i.k + 30, y: y * i.k + 50 })
      return [at(0, 2), at(36, 0), at(200, 3), at(h.at.x, h.at.y + 6), at(200, 90)] })()"""
    for k in (0.6, 1, 2):
        assert js(hit, items=items, k=k) == ["a", "a", "l", "d", None]


def test_stations_are_all_that_is_no_feeder() -> None:
    network = synthetic(600)
    trace = Trace(network)
    stations = trace.stations
    feeders = {f.id: f for f in trace.feeders}
    inside = [b for s in stations for b in s.buses] + [b for s in stations for f in s.feeders for b in feeders[f].buses]
    assert sorted(inside) == sorted(b for b in network.items if network[b].kind == "bus")
    assert all(s.id in s.buses for s in stations)
    assert {len(s.feeders) for s in stations} == {6}


def test_a_substation_is_one_station_and_dead_buses_are_in_one_too() -> None:
    items: list[dict[str, Any]] = [
        {"kind": "substation", "id": "site", "name": "Cove"},
        *({"kind": "bus", "id": b, "nominal_kv": 33.0, "substation": "site"} for b in ("a", "b")),
        {"kind": "bus", "id": "lone", "nominal_kv": 11.0}, {"kind": "bus", "id": "far", "nominal_kv": 11.0},
        {"kind": "switch", "id": "open", "from_bus": "lone", "to_bus": "far", "closed": False},
        {"kind": "source", "id": "s", "bus": "a"},
    ]  # fmt: skip
    found = {s.name: s.buses for s in Trace(Network.from_items(items)).stations}
    assert found == {"Cove": ("a", "b"), "lone": ("lone", "far")}


@pytest.mark.parametrize(
    ("change", "alike", "rewired"),
    [({"note": "n"}, True, False), ({"length_km": 9}, True, False), ({"name": "other"}, False, True), ({"x": 5}, False, False),
     ({"closed": False}, False, True), ({"in_service": False}, True, True), ({"to_bus": "c"}, False, True),
     ({"states": {"l": "open"}}, True, True), ({"route": [[1, 2]]}, False, False)],
)  # fmt: skip
def test_what_draws_and_what_wires_anew(js: Js, change: dict[str, Any], alike: bool, rewired: bool) -> None:
    """The scene is kept while it would look the same, stations and feeders while the wiring stays."""
    before = line_item()
    found = js(
        """(() => { const was = new Map([[i.a.id, i.a]]), now = new Map([[i.b.id, i.b]])
          return [m.drawnAlike(was, now), m.rewires(i.a, i.b), m.drawnAlike(was, new Map([...now, ['z', i.a]]))] })()""",
        a=before,
        b={**before, **change},
    )
    assert found == [alike, rewired, False]


def line_item() -> dict[str, Any]:
    return {"kind": "line", "id": "l", "name": "l", "from_bus": "a", "to_bus": "b", "length_km": 1, "closed": True, "x": 1,
            "in_service": True, "states": {}, "route": [[1, 1]]}  # fmt: skip
