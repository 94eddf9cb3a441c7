"""The profile's arithmetic: trees, summed losses, export."""

from __future__ import annotations

import csv
import io

import pytest

from tests.web.conftest import DECLARED, Js

PROFILE = {"bus": ["s", "a", "b", "c"], "parent": [None, "s", "a", "a"], "element": [None, "s-a", "a-b", "a-c"],
           "distance_km": [0, 1.5, 2.5, 4.0]}  # fmt: skip


def result() -> dict:
    def table(name: str, columns: dict) -> dict:
        return {"name": name, "label": name, "columns": [
            {"name": n, "label": n, "values": v, "fixed": False} for n, v in columns.items()]}  # fmt: skip

    return {"rows": "r", "quantities": DECLARED, "tables": {
        "buses": table("buses", {"id": ["s", "a", "b", "c"], "voltage_pu": [1.0, 0.99, 0.98, None]}),
        "branches": table("branches", {"id": ["s-a", "a-b", "a-c"], "active_loss_mw": [0.03, 0.01, 0.02],
                                       "loading_pct": [80, 40, 20]}),
    }}  # fmt: skip


SETUP = "const r = m.complete(i.result, null), t = m.treeOf(i.profile), q = n => m.profiled(r).find(x => x.id === n);"


def test_losses_add_up_along_each_way(js: Js) -> None:
    found = js(
        f"(() => {{ {SETUP} return m.series(t, q('branches.active_loss_mw summed'), r) }})()",
        result=result(),
        profile=PROFILE,
    )
    assert found == pytest.approx([0, 30, 40, 50])


def test_branches_and_buses_are_read_at_their_rows(js: Js) -> None:
    read = "[m.series(t, q('buses.voltage_pu'), r), m.series(t, q('branches.loading_pct'), r), t.before]"
    volts, loading, before = js(f"(() => {{ {SETUP} return {read} }})()", result=result(), profile=PROFILE)
    assert volts == [1.0, 0.99, 0.98, None]
    assert loading == [None, 80, 40, 20]
    assert before == [-1, 0, 1, 1]


def test_the_export_has_units_pinned_values_and_no_formulas(js: Js) -> None:
    name = "b => b === 'a' ? '=cmd|evil' : b"
    expression = f"(() => {{ {SETUP} return m.asCsv(t, [q('buses.voltage_pu')], r, r, m.LENGTHS[1], {name}) }})()"
    rows = list(csv.reader(io.StringIO(js(expression, result=result(), profile=PROFILE))))
    assert rows[0] == ["bus", "distance_m", "voltage p.u.", "voltage p.u. pinned"]
    assert rows[2] == ["'=cmd|evil", "1500", "0.99", "0.99"]
    assert rows[4] == ["c", "4000", "", ""]


def test_the_export_holds_the_conditions_laid_over_in_the_chosen_unit(js: Js) -> None:
    other = "{ label: 'Summer noon', voltage: new Map([['a', 1.04]]), loading: new Map([['s-a', 33]]) }"
    shown = "[m.inUnits(q('buses.voltage_pu'), i.units), q('branches.loading_pct'), q('branches.voltage_drop_pct')]"
    expression = f"(() => {{ {SETUP} return m.asCsv(t, {shown}, r, null, m.LENGTHS[0], b => b, [{other}]) }})()"
    units = {"power": "MW", "current": "A", "voltage": "%", "digits": 0, "marks": True}
    rows = list(csv.reader(io.StringIO(js(expression, result=result(), profile=PROFILE, units=units))))
    assert rows[0][2:] == ["voltage %", "voltage % Summer noon", "loading %", "loading % Summer noon", "drop %"]
    assert [float(cell) for cell in rows[2][2:6]] == pytest.approx([99, 104, 80, 33])
    assert rows[3][3] == ""  # b is dead under the other condition
