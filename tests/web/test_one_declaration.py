"""A quantity that nobody needs, declared once: lens, legend, labels, profile, comparison and document have it by that alone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
import orjson
import pytest

from tests.web.conftest import Js
from vastmesh.api import _render
from vastmesh.api._sessions import Solved
from vastmesh.core.network import Condition, Trace
from vastmesh.core.results import Quantity, summarise_groups
from vastmesh.core.results.state import Case, compare_cases, run_load_flow
from vastmesh.core.results.state import _quantities as declared
from vastmesh.reports import Section, document_html

IDENT = "branches.reactive_loss_mvar"


@pytest.fixture
def made_up() -> Iterator[Quantity]:
    """The reactive loss of a branch is a column; here it becomes a quantity."""
    kept = declared._DECLARED
    one = Quantity("reactive_loss_mvar", "Warmth", "branches", "Mvar", 4, "How warm", sums=True, short="warm", lens=True,
                   band=(0.0, 0.5), along=True)  # fmt: skip
    declared._DECLARED = (*kept, one)
    yield one
    declared._DECLARED = kept


@pytest.fixture
def live(made_up: Quantity, demo_script: dict[str, Any]) -> dict[str, Any]:
    solved = Solved(3, "rows", 1.0, run_load_flow(demo_script["network"]()))
    found: dict[str, Any] = orjson.loads(_render.Json(_render.live(solved)).body)
    return found


def losses(live: dict[str, Any]) -> dict[str, float]:
    columns = {c["name"]: c["values"] for c in live["tables"]["branches"]["columns"]}
    return dict(zip(columns["id"], columns["reactive_loss_mvar"], strict=True))


def test_it_is_a_lens_with_its_scale_and_colours_branches(js: Js, live: dict[str, Any], demo_items: list[Any]) -> None:
    choices = js("m.lensChoices(m.complete(i.live, null), false)", live=live)
    assert {"id": IDENT, "label": "warmth"} in choices
    paint = f"m.paintWith(m.light, '{IDENT}', new Map(i.items.map(x => [x.id, x])), m.complete(i.live, null), {{}}).branch(i.id)"
    worst = max(losses(live).items(), key=lambda p: p[1] or 0)
    assert worst[1] > 0.5
    assert js(paint, live=live, items=demo_items, id=worst[0]) == js("m.hueOf(m.light, i.q, {}, 1)(0.5)", q=of(live))
    assert js("m.bandOf(i.q, {})", q=of(live)) == [0, 0.5]
    assert js(f"m.bandOf(i.q, {{ '{IDENT}': [0, 2] }})", q=of(live)) == [0, 2]


def of(live: dict[str, Any]) -> Any:
    return next(q for q in live["quantities"] if q["name"] == "reactive_loss_mvar")


def test_it_is_drawn_along_a_feeder_and_summed(js: Js, live: dict[str, Any]) -> None:
    known = js("m.profiled(m.complete(i.live, null)).map(q => [q.id, q.label, q.unit])", live=live)
    assert [IDENT, "warm", "kvar"] in known
    assert [f"{IDENT} summed", "warm, summed", "kvar"] in known
    line = "Ambry - Lowmere"
    read = (
        f"m.profiled(m.complete(i.live, null)).find(q => q.id === '{IDENT}').read(m.complete(i.live, null), '', i.line)"
    )
    assert js(read, live=live, line=line) == pytest.approx(1000 * losses(live)[line])


def test_a_label_set_can_have_it(js: Js, live: dict[str, Any], demo_items: list[Any]) -> None:
    expression = """(() => { const items = new Map(i.items.map(x => [x.id, x])), r = m.complete(i.live, null)
        const s = m.buildScene(items), p = m.paintWith(m.light, 'plain', items, r, {})
        const words = { set: { ...m.LABEL_SETS[0], buses: [], branches: ['reactive_loss_mvar'] }, units: m.initialPrefs.units }
        return m.labelsFor(s, r, words, p, { k: 1.2, x: 0, y: 0 }, 3000, 2000, new Set()) })()"""
    values = [label["value"] for label in js(expression, live=live, items=demo_items)]
    assert any(v.endswith("Mvar") for v in values)


def test_it_is_held_side_by_side_of_schemes_and_printed(made_up: Quantity, demo_script: dict[str, Any]) -> None:
    network = demo_script["network"]()
    other = next(c.id for c in network.of(Condition) if c.id != network.condition.id)
    found = compare_cases(network, Case(), Case(condition=other))
    table = found.results["branches:reactive_loss_mvar"]
    assert table.label == "Warmth"
    values = np.asarray(found.after.result.tables["branches"]["reactive_loss_mvar"], float)
    assert np.nanmax(np.asarray(table["after"], float)) == pytest.approx(np.nanmax(values))
    assert "<h3>Warmth</h3>" in document_html("D", [], [Section("S", _result(found.results))])


def test_it_is_summed_by_area(made_up: Quantity, demo_script: dict[str, Any]) -> None:
    network = demo_script["network"]()
    result = run_load_flow(network)
    by_level = summarise_groups(network, result.tables, Trace(network), result.quantities)["by_level"]
    column = next(c for c in by_level.columns if c.name == "reactive_loss_mvar")
    whole = np.nansum(np.asarray(result.tables["branches"]["reactive_loss_mvar"], float))
    assert sum(column.values) == pytest.approx(whole)
    light = replace(made_up, name="angle_deg", table="buses", label="Angles")
    summed = summarise_groups(network, result.tables, Trace(network), [light])["by_level"]
    assert sum(summed["angle_deg"]) == pytest.approx(np.nansum(result.tables["buses"]["angle_deg"]))
    assert next(c.label for c in summed.columns if c.name == "angle_deg") == "Angles"


def _result(tables: dict[str, Any]) -> Any:
    from vastmesh.core.flow import Ending
    from vastmesh.core.results import Account, Result

    return Result(Account(Ending.CONVERGED, "", 0), tables, {})


def test_preferences_of_an_earlier_version_are_taken_over(js: Js) -> None:
    kept = {"bands": {"voltage": [0.9, 1, 1.1], "difference": [-1, 0, 1]}, "way": "phases",
            "ownLabels": [{"id": "own", "name": "Mine", "names": True, "buses": [], "bothEnds": True, "injections": [],
                           "branches": ["active_power", "loading_pct", "current_a"]}]}  # fmt: skip
    found = js("m.migrated(i.kept, 1)", kept=kept)
    assert found["bands"] == {"buses.voltage_pu": [0.9, 1, 1.1], "difference": [-1, 0, 1]}
    assert found["ownLabels"][0]["branches"] == ["from_active_power_mw", "loading_pct", "from_current_a"]
    assert found["way"] == "phases"
    assert js("m.migrated(i.kept, 2)", kept=found) == found
