"""The load flow per phase after an edit: the same as from scratch, whatever was edited, and compiled anew only where need be."""

from __future__ import annotations

import random
from typing import Any

import numpy as np
import pytest

from vastmesh.cli import demo_network
from vastmesh.core.flow.phases import UnbalancedOptions
from vastmesh.core.network import Network, Update
from vastmesh.core.results.state import LiveUnbalanced
from vastmesh.core.results.state.phases import _live

# Taps have a band to rest in: where they rest depends on where they came from.
AS_ENTERED = UnbalancedOptions(tolerance_pu=1e-10, automatic=False, start="last")


@pytest.fixture
def street() -> Network:
    return demo_network()[0]


def edited(live: LiveUnbalanced, net: Network, ident: str, values: dict[str, Any]) -> None:
    before = {ident: net[ident]}
    net.apply([Update(id=ident, values=values)])
    live.changed([ident], before)


def same_as_anew(live: LiveUnbalanced, net: Network) -> None:
    found, fresh = live.solve(options=AS_ENTERED), LiveUnbalanced(net).solve(options=AS_ENTERED)
    assert found.account.converged
    assert fresh.account.converged
    for table in ("buses", "branches", "injections"):
        for column in fresh.tables[table].columns:
            mine = found.tables[table][column.name]
            if isinstance(column.values, np.ndarray) and column.values.dtype.kind == "f":
                if column.name == "mismatch_mva" or column.name.endswith(("_deg", "power_factor")):
                    continue  # rounding, and angles of next to nothing
                np.testing.assert_allclose(mine, column.values, rtol=2e-6, atol=2e-6, err_msg=f"{table} {column.name}")
            else:
                assert list(mine) == list(column.values), (table, column.name)
    assert {(f.element, f.quantity) for f in found.findings} == {(f.element, f.quantity) for f in fresh.findings}


VALUES: dict[str, tuple[tuple[str, tuple[Any, ...]], ...]] = {
    "load": (("active_power_mw", (0.001, 0.004, 0.02)), ("power_factor", (0.9, 0.97, 1.0)), ("note", ("seen", "")),
             ("conductors", ("AN", "BN", "CN")), ("constant_impedance_pct", (0.0, 40.0)), ("demand_class", ("domestic", "own"))),
    "inverter": (("active_power_mw", (0.0, 0.003, 0.006)), ("note", ("i",)), ("curve_q_pct", (20.0, 44.0))),
    "generator": (("active_power_mw", (5.0, 12.0)), ("voltage_pu", (0.99, 1.01)), ("note", ("n",))),
    "line": (("length_km", (0.03, 0.05)), ("name", ("Renamed", "Again")), ("rating_a", (150.0, 300.0))),
    "transformer": (("tap_position", (-2, 0, 1)), ("note", ("t",))),
    "bus": (("name", ("A bus", "Another")), ("x", (5.0, 15.0))),
}  # fmt: skip


@pytest.mark.parametrize("seed", range(4))
def test_any_run_of_edits_ends_where_a_fresh_start_does(street: Network, seed: int) -> None:
    pick = random.Random(seed)
    live = LiveUnbalanced(street)
    live.solve()
    by_kind = {k: [e for e in street.elements() if e.kind == k] for k in VALUES}
    for step in range(12):
        kind = pick.choice([k for k in VALUES if by_kind[k]])
        ident = pick.choice(by_kind[kind]).id
        name, choices = pick.choice(VALUES[kind])
        value = pick.choice(choices)
        if name == "conductors" and len(street[ident].conductors) != 2:  # type: ignore[attr-defined]
            continue
        edited(live, street, ident, {name: value})
        if step % 4 == 3:
            same_as_anew(live, street)
    same_as_anew(live, street)


def test_notes_places_and_demand_are_not_compiled_anew(street: Network, monkeypatch: pytest.MonkeyPatch) -> None:
    live = LiveUnbalanced(street)
    live.solve()
    compiled: list[int] = []
    own = _live.compile_conductors
    monkeypatch.setattr(_live, "compile_conductors", lambda net: compiled.append(1) or own(net))
    loads = [e.id for e in street.elements() if e.kind == "load" and e.conductors == "AN"]
    line = next(e.id for e in street.elements() if e.kind == "line")
    for ident, values in (
        (loads[0], {"note": "looked at"}), (street[loads[0]].bus, {"x": 1.0}), (line, {"name": "Renamed"}),
        (loads[1], {"active_power_mw": 0.009}), (loads[2], {"power_factor": 0.9}),
    ):  # fmt: skip
        edited(live, street, ident, values)
        found = live.solve()
    assert not compiled
    assert found.tables["branches"]["name"][found.tables["branches"]["id"].index(line)] == "Renamed"
    same_as_anew(live, street)
    # An impedance is compiled anew, and solved from the last answer: fewer steps than from scratch.
    compiled.clear()
    edited(live, street, line, {"length_km": street[line].length_km * 1.01})  # type: ignore[attr-defined]
    found, fresh = live.solve(options=AS_ENTERED), LiveUnbalanced(street).solve(options=AS_ENTERED)
    assert compiled
    assert found.account.method.endswith("last answer")
    assert found.account.iterations < fresh.account.iterations
