"""Schemes: laid in order, clashing where two set one field, recorded into, merged, and never overwriting the present network."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_per_phase_findings import street
from tests.helpers import Item, bus, line, load, network, source, switch
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import (
    Add,
    Change,
    Network,
    Remove,
    Scheme,
    SchemeChange,
    Update,
    layered,
    merged,
    recorded,
    removal,
    route,
    schemes_in_order,
)
from vastmesh.core.results.state import Case, changed_data, compare_cases, run_unbalanced, solve_case


def base(*more: Item) -> Network:
    return Network.from_items([
        bus("a"), source("a"), bus("b"), line("a", "b"), load("b", 1.0, 0.3), bus("c"), line("b", "c"), load("c", 0.5), *more,
    ])  # fmt: skip


def update(ident: str, **values: Any) -> Item:
    return {"change": {"op": "update", "id": ident, "values": values}}


def scheme(ident: str, *changes: Item, rank: int = 1, active: bool = True, **more: Any) -> Item:
    return {"kind": "scheme", "id": ident, "rank": rank, "active": active, "changes": list(changes), **more}


def test_without_schemes_the_network_is_itself() -> None:
    net = base(scheme("s", update("load-b", active_power_mw=2.0), active=False))
    assert layered(net).network is net


def test_a_scheme_lies_on_the_network_and_leaves_it_alone() -> None:
    net = base(scheme("s", update("load-b", active_power_mw=2.0)))
    before = net.to_items()
    found = layered(net)
    assert found.network["load-b"].active_power_mw == 2.0  # type: ignore[attr-defined]
    assert found.by == {"load-b": ["s"]}
    assert net.to_items() == before


def test_the_later_of_two_that_clash_counts_and_the_clash_is_named() -> None:
    first, second = update("load-b", active_power_mw=2.0), update("load-b", active_power_mw=3.0)
    net = base(scheme("one", first, rank=1), scheme("two", second, rank=2))
    found = layered(net)
    assert found.network["load-b"].active_power_mw == 3.0  # type: ignore[attr-defined]
    assert [(c.element, c.field, c.earlier, c.later) for c in found.clashes] == [
        ("load-b", "active_power_mw", "one", "two")
    ]
    net.apply([Update(id="two", values={"rank": 1}), Update(id="one", values={"rank": 2})])
    assert [s.id for s in schemes_in_order(net)] == ["two", "one"]
    assert layered(net).network["load-b"].active_power_mw == 2.0  # type: ignore[attr-defined]


def test_a_change_left_out_counts_for_nothing() -> None:
    off = {**update("load-b", active_power_mw=2.0), "on": False}
    found = layered(base(scheme("s", off, update("load-c", active_power_mw=0.7))))
    assert found.network["load-b"].active_power_mw == 1.0  # type: ignore[attr-defined]
    assert found.by == {"load-c": ["s"]}


def test_what_does_not_fit_any_more_is_left_out_and_named() -> None:
    found = layered(base(scheme("s", update("gone", active_power_mw=2.0), update("load-c", active_power_mw=0.7))))
    assert [(u.scheme, u.number, u.element) for u in found.unfit] == [("s", 0, "gone")]
    assert "gone" in found.unfit[0].text
    assert found.network["load-c"].active_power_mw == 0.7  # type: ignore[attr-defined]


def test_schemes_stack_on_what_others_add() -> None:
    extra = {"change": {"op": "add", "item": bus("d")}}
    way = {"change": {"op": "add", "item": line("c", "d")}}
    net = base(
        scheme("ground", extra, way, rank=1), scheme("more", {"change": {"op": "add", "item": load("d", 0.2)}}, rank=2)
    )
    found = layered(net)
    assert {"d", "c-d", "load-d"} <= set(found.network.items)
    assert found.added == {"d": "ground", "c-d": "ground", "load-d": "more"}
    net.apply([Update(id="ground", values={"active": False})])
    assert [u.element for u in layered(net).unfit] == ["load-d"], "it stands on what is switched off"


def test_a_scheme_may_not_change_schemes() -> None:
    with pytest.raises(InvalidFields, match="not schemes or settings"):
        base(scheme("s", {"change": {"op": "add", "item": {"kind": "scheme", "id": "t"}}}))


# Recording


def routed(net: Network, changes: list[Change], recording: str | None) -> Network:
    """The present network after edits of what its schemes show."""
    before = layered(net)
    after = before.network.copy()
    after.apply(changes)
    net.apply(route(before, after, changes, recording))
    return net


def test_edits_go_into_the_recorded_scheme_and_show() -> None:
    net = base(scheme("s"))
    routed(net, [Update(id="load-b", values={"active_power_mw": 2.0})], "s")
    assert net["load-b"].active_power_mw == 1.0  # type: ignore[attr-defined]
    assert layered(net).network["load-b"].active_power_mw == 2.0  # type: ignore[attr-defined]
    assert "1 → 2" in net["s"].changes[0].label  # type: ignore[attr-defined]


def test_several_edits_of_one_element_are_one_change() -> None:
    net = base(scheme("s"))
    for mw in (2.0, 3.0, 4.0):
        routed(net, [Update(id="load-b", values={"active_power_mw": mw})], "s")
    assert len(net["s"].changes) == 1  # type: ignore[attr-defined]


def test_what_is_added_and_removed_again_leaves_no_trace() -> None:
    net = base(scheme("s"))
    routed(net, [Add(item=bus("d")), Add(item=line("c", "d"))], "s")
    routed(net, [Update(id="c-d", values={"length_km": 2.5})], "s")
    assert layered(net).network["c-d"].length_km == 2.5  # type: ignore[attr-defined]
    routed(net, [Remove(id="c-d"), Remove(id="d")], "s")
    assert net["s"].changes == ()  # type: ignore[attr-defined]


def test_what_a_scheme_added_is_changed_within_it_without_recording() -> None:
    net = base(scheme("s", {"change": {"op": "add", "item": load("c", 0.1) | {"id": "new"}}}))
    routed(net, [Update(id="new", values={"active_power_mw": 0.4})], None)
    assert "new" not in net
    assert layered(net).network["new"].active_power_mw == 0.4  # type: ignore[attr-defined]


def test_places_and_conditions_stay_with_the_present_network() -> None:
    net = base(scheme("s"), {"kind": "condition", "id": "winter"})
    moved = Update(id="b", values={"x": 50.0, "nominal_kv": 11.5})
    routed(net, [moved, Update(id="winter", values={"demand_factor": 1.2})], "s")
    assert net["b"].x == 50.0  # type: ignore[attr-defined]
    assert net["b"].nominal_kv == 11.0  # type: ignore[attr-defined]
    assert net["winter"].demand_factor == 1.2  # type: ignore[attr-defined]
    assert layered(net).network["b"].nominal_kv == 11.5  # type: ignore[attr-defined]


def test_merging_puts_the_changes_into_the_present_network() -> None:
    off = {**update("load-c", active_power_mw=9.0), "on": False}
    net = base(scheme("s", update("load-b", active_power_mw=2.0), off))
    shown = layered(net).network["load-b"]
    net.apply(merged(net, "s"))
    assert net["load-b"] == shown
    kept = net["s"]
    assert isinstance(kept, Scheme)
    assert not kept.active
    assert [c.change.id for c in kept.changes] == ["load-c"]  # type: ignore[union-attr]
    with pytest.raises(InvalidFields, match="name a scheme"):
        merged(net, "load-b")


VALUES = st.tuples(st.sampled_from(["load-b", "load-c"]), st.sampled_from(["active_power_mw", "reactive_power_mvar"]),
                   st.floats(0.1, 5.0))  # fmt: skip


@settings(max_examples=40, deadline=None)
@given(st.lists(VALUES, max_size=6), st.lists(VALUES, max_size=6))
def test_recording_shows_what_editing_would_have_done(first: list[Any], second: list[Any]) -> None:
    """Edits recorded into a scheme and merged give the network that plain editing gives."""
    plain, net = base(), base(scheme("s"))
    for ident, field, value in [*first, *second]:
        plain.apply([Update(id=ident, values={field: value})])
        routed(net, [Update(id=ident, values={field: value})], "s")
    laid = layered(net).network
    for ident in ("load-b", "load-c"):
        assert laid[ident] == plain[ident]
    net.apply(merged(net, "s"))
    assert [net[i] for i in ("load-b", "load-c")] == [plain[i] for i in ("load-b", "load-c")]


def test_recorded_names_what_was_and_what_is_to_be() -> None:
    net = base(scheme("s"))
    found = recorded(net["s"], [Update(id="load-b", values={"active_power_mw": 2.0}), Remove(id="load-c")], net)  # type: ignore[arg-type]
    assert [c.label for c in found] == ["load-b: active power 1 → 2", "Remove load-c"]
    assert all(isinstance(c, SchemeChange) for c in found)


# Comparison


def test_two_cases_side_by_side() -> None:
    net = base(
        scheme("relief", update("a-b", parallel=2), active=False, cost_k=40.0, year=2028),
        {"kind": "condition", "id": "peak", "demand_factor": 9.0}, {"kind": "condition", "id": "low", "demand_factor": 0.3},
        {"kind": "settings", "id": "settings", "condition": "peak"},
    )  # fmt: skip
    found = compare_cases(net, Case(), Case(schemes=["relief"]))
    summary = {r["id"]: r for r in found.summary.records()}
    assert summary["active_loss_mw"]["change"] < 0
    assert summary["lowest_voltage_pu"]["change"] > 0
    assert summary["cost_k"]["after"] == 40.0
    assert [(r["id"], r["field"]) for r in found.data.records()] == [("a-b", "Circuits")]
    assert found.lost
    assert not found.gained
    low = compare_cases(net, Case(condition="low"), Case(condition="peak"))
    assert not len(low.data)
    assert low.gained
    assert low.results["buses:voltage_pu"]["change"][0] < 0


def test_names_that_are_not_there_are_refused() -> None:
    net = base()
    with pytest.raises(InvalidFields, match="name schemes"):
        solve_case(net, Case(schemes=["none"]))
    with pytest.raises(InvalidFields, match="name a condition"):
        solve_case(net, Case(condition="load-b"))


def test_changed_data_tells_added_and_removed() -> None:
    net, other = base(), base(bus("d"))
    other.apply([Remove(id="load-c")])
    rows = {r["id"]: r["after"] for r in changed_data(net, other).records()}
    assert rows == {"d": "added", "load-c": "removed"}


@pytest.mark.parametrize("gone", [["a"], ["b", "a"], ["a", "b"], ["b", "s"]])
def test_what_is_taken_out_fits_change_by_change(gone: list[str]) -> None:
    """A scheme lays its changes one by one: whatever refers to something goes before it."""
    net = network(
        {"kind": "area", "id": "north"}, bus("s"), source("s"), bus("a", area="north"), bus("b"), bus("c"), line("s", "a"),
        line("a", "b"), line("b", "c"), load("a", 1.0), load("b", 1.0), bus("d"), switch("a", "d"),
        {"kind": "current_transformer", "id": "ct", "at": "a|d"},
        {"kind": "relay", "id": "relay", "trips": "a|d", "measures": "ct"},
    )  # fmt: skip
    changes = [{"change": c.model_dump()} for c in removal(net, gone)]
    net.apply([Add(item={"kind": "scheme", "id": "less", "active": True, "changes": changes})])
    found = layered(net)
    assert found.unfit == []
    whole = net.copy()
    whole.apply(removal(net, gone))
    assert set(found.network.items) == set(whole.items)
    assert not set(gone) & set(found.network.items)


def test_totals_tell_what_is_overloaded_and_the_fullest_neutral() -> None:
    """Taking the heavy load off one phase cures the cable and its neutral; the totals of both sides say so."""
    heavy = load("b", 0.02, 0.0, id="heavy", conductors="AN")
    net = street(heavy, rating_a=125.0)
    net.apply([Add(item={"kind": "scheme", "id": "cure", "name": "Cure", "cost_k": 3.0, "changes": [
        {"change": {"op": "update", "id": "heavy", "values": {"conductors": "CN"}}, "label": "heavy: A → C"},
        {"change": {"op": "update", "id": "a-b", "values": {"neutral_rating_a": 140.0}}, "label": "a-b: neutral"},
    ]})])  # fmt: skip
    found = compare_cases(net, Case(), Case(schemes=["cure"]))
    rows = {r["id"]: r for r in found.summary.records()}
    tables = run_unbalanced(net).tables["branches"]
    assert rows["worst_neutral_pct"]["before"] == pytest.approx(np.nanmax(tables["neutral_loading_pct"]))
    over = {f.element for f in run_unbalanced(net).findings if f.severity == "breach" and "loading" in f.quantity}
    assert rows["overloaded"]["before"] == len(over) > 0
    assert rows["overloaded"]["after"] < rows["overloaded"]["before"]
    assert rows["worst_neutral_pct"]["change"] < 0
    assert rows["cost_k"]["after"] == 3.0
