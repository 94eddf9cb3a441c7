"""The network model: what is refused, what is marked as typical, and that every change has an exact inverse."""

from __future__ import annotations

import copy
import pickle
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.helpers import (
    assert_balanced,
    bus,
    line,
    load,
    network,
    networks,
    source,
    switch,
    transformer,
    volts,
)
from vastmesh.core.catalogue import source_impedance_ohm
from vastmesh.core.errors import (
    DuplicateElement,
    FieldProblem,
    InvalidFields,
    SingularMatrix,
    StillReferenced,
    UnknownElement,
    UnreadableFile,
)
from vastmesh.core.network import (
    REGISTRY,
    SHOOTS,
    Add,
    Bus,
    Change,
    Demand,
    Element,
    FieldType,
    Grown,
    GrowOptions,
    Line,
    Load,
    Network,
    Origin,
    Remove,
    Source,
    Transformer,
    Update,
    conflicts,
    grow,
    join,
    make_item,
    neutral_ohm,
    removal,
    specs,
    with_rules,
)
from vastmesh.core.results.state import run_load_flow


def base() -> Network:
    return network(
        {"kind": "area", "id": "north"}, bus("a", area="north"), bus("b"), source("a"), line("a", "b"), load("b", 1.0)
    )


# Refusals name element, field, value and what is allowed.

REFUSED: list[tuple[dict[str, Any], str, str]] = [
    (bus("x", -1.0), "nominal_kv", "-1.0 is not allowed; enter a number from 0.001 to 1500 kV"),
    (bus("x", float("nan")), "nominal_kv", "enter a number from 0.001"),
    (bus("x", "eleven"), "nominal_kv", "'eleven' is not allowed"),  # type: ignore[arg-type]
    (bus("x", kV=11), "kV", "a bus has no such field"),
    (bus("x", conductors="CBA"), "conductors", "'CBA' is not allowed"),
    (bus("x\n"), "id", "control characters"),
    (line("a", "b", length_km=0.0), "length_km", "enter a number from 1e-06 to 2000 km"),
    (line("a", "a"), "to_bus", "a line joins two different buses"),
    (line("a", "b", r_ohm_per_km=0.0, x_ohm_per_km=0.0), "x_ohm_per_km", "use a closed switch"),
    (line("a", "b", parallel=1.5), "parallel", "enter a whole number from 1 to 20"),
    (transformer("a", "b", vector_group="Dyn12"), "vector_group", "write it as YNd1"),
    (transformer("a", "b", tap_min=1, tap_max=-1), "tap_min", "above the highest"),
    (transformer("a", "b", tap_min=-2, tap_max=2, tap_position=5), "tap_position", "from -2 to 2"),
    (transformer("a", "b", load_loss_kw=900.0), "load_loss_kw", "exceed the impedance"),
    (source("a", fault_min_mva=2000.0), "fault_min_mva", "above the highest, 1000 MVA"),
    (load("a", 1.0, 1.0, apparent_power_mva=3.0), "active_power_mw", "that do not say the same"),
    (load("a", 1.0, constant_power_pct=50.0), "constant_power_pct", "add up to 50 %"),
    ({"kind": "generator", "id": "g", "bus": "a", "q_min_mvar": 2, "q_max_mvar": 1}, "q_min_mvar", "above the highest"),
    ({"kind": "shunt", "id": "s", "bus": "a", "steps": 2, "steps_on": 3}, "steps_on", "only 2 are installed"),
    ({"kind": "switch", "id": "s", "from_bus": "a", "to_bus": "b", "device": "lever"}, "device", "breaker, disconnector, fuse"),
    ({"kind": "tree", "id": "t"}, "kind", "choose one of acknowledgement, area, backdrop, bus"),
    ({"kind": "voltage_limits", "id": "v", "low_breach_pu": 1.2}, "low_watch_pu", "limits must rise"),
]  # fmt: skip


@pytest.mark.parametrize(("data", "field", "words"), REFUSED, ids=lambda v: str(v)[:50] if isinstance(v, str) else "")
def test_bad_values_are_refused_by_name(data: dict[str, Any], field: str, words: str) -> None:
    net = base()
    before = net.to_items()
    with pytest.raises(InvalidFields) as caught:
        net.apply([Add(item=data)])
    problem = caught.value.problems[0]
    assert problem.element == str(data["id"])
    assert problem.field.startswith(field)
    assert words in str(caught.value) or words in problem.allowed
    assert net.to_items() == before


def test_every_bad_value_of_a_group_is_named_and_none_applied() -> None:
    net = base()
    with pytest.raises(InvalidFields) as caught:
        net.apply([Update(id="a-b", values={"length_km": 3.0}), Add(item=bus("x", -1.0)), Add(item=bus("y", -2.0))])
    assert [p.element for p in caught.value.problems] == ["x", "y"]
    assert net["a-b"].length_km == 1.0  # type: ignore[attr-defined]


@pytest.mark.parametrize(
    ("change", "error"),
    [
        (Add(item=bus("a")), DuplicateElement),
        (Update(id="nobody", values={"name": "x"}), UnknownElement),
        (Remove(id="nobody"), UnknownElement),
        (Remove(id="b"), StillReferenced),
        (Add(item=line("a", "nowhere")), UnknownElement),
        (Add(item=line("a", "north")), InvalidFields),
        (Update(id="a", values={"id": "z"}), InvalidFields),
        (Update(id="a", values={"colour": "red"}), InvalidFields),
    ],
)
def test_impossible_changes_leave_everything_as_it_was(change: Change, error: type[Exception]) -> None:
    net = base()
    before = net.copy()
    with pytest.raises(error):
        net.apply([Update(id="a", values={"name": "first"}), change])
    assert net == before
    assert list(net.items) == list(before.items)
    assert net.referrers("b") == before.referrers("b")


def test_errors_survive_a_process_pool() -> None:
    errors = [
        InvalidFields([FieldProblem("a", "b", 1, "c")]), UnknownElement("a", "b"), DuplicateElement("a"),
        StillReferenced("a", ["b"]), UnreadableFile("why", 3, "x"), SingularMatrix("here"),
    ]  # fmt: skip
    for error in errors:
        assert str(pickle.loads(pickle.dumps(error))) == str(error)
        assert error.code == type(error).code


# Origins


def test_what_nobody_entered_is_marked_as_typical() -> None:
    item = make_item(transformer("a", "b", iron_loss_kw=4.0))
    assert item.origins["vector_group"] is Origin.TYPICAL
    assert "iron_loss_kw" not in item.origins
    assert "rated_mva" not in item.origins


def test_catalogue_values_are_marked_and_overruled_by_entry() -> None:
    net = base()
    net.apply([Update(id="a-b", values={"type": "Al 1×185 XLPE 11 kV cable"})])
    found = net["a-b"]
    assert isinstance(found, Line)
    assert (found.r_ohm_per_km, found.rating_a) == (0.2103, 320)
    assert found.origins["r_ohm_per_km"] is Origin.CATALOGUE
    net.apply([Update(id="a-b", values={"rating_a": 250.0})])
    assert "rating_a" not in net["a-b"].origins
    net.apply([Update(id="a-b", values={"type": "Al 1×300 XLPE 11 kV cable"})])
    assert net["a-b"].rating_a == 420  # type: ignore[attr-defined]


def test_confirming_a_typical_value_takes_the_mark_off() -> None:
    net = network(bus("a", 33), bus("b", 11), transformer("a", "b"))
    net.apply([Update(id="a/b", values={"vector_group": "Dyn11"})])
    assert "vector_group" not in net["a/b"].origins
    kept = Update(id="a/b", values={"tap_step_pct": 2.0}, origins={"tap_step_pct": Origin.TYPICAL})
    net.apply([kept])
    assert net["a/b"].origins["tap_step_pct"] is Origin.TYPICAL


# Changes and their inverses


@settings(max_examples=60, deadline=None)
@given(networks(), st.data())
def test_every_change_has_an_exact_inverse(net: Network, data: st.DataObject) -> None:
    before, plain = net.copy(), net.to_items()
    element = data.draw(st.sampled_from(list(net.elements())))
    choice = data.draw(st.sampled_from(["remove", "update", "add", "retype"]))
    changes: list[Change] = []
    if choice == "remove":
        changes = removal(net, [element.id])
    elif choice == "add":
        changes = [Add(item=bus("new", 33.0), before=element.id), Add(item=load("new", 1.0))]
    elif choice == "retype" and isinstance(element, Line):
        changes = [Update(id=element.id, values={"type": "Al 1×185 XLPE 11 kV cable"})]
    else:
        changes = [Update(id=element.id, values={"in_service": False, "note": "out", "name": "renamed"})]
    kinds = {type(i) for i in net.items.values()} | {Bus, Load, Line}

    def listed_in_order() -> bool:
        return all(net.of(k) == [i for i in net.items.values() if type(i) is k] for k in kinds)

    assert listed_in_order()
    done = net.apply(changes)
    assert net != before
    assert listed_in_order()
    with pytest.raises(UnknownElement):  # of a group that fails nothing stays, not even the order
        net.apply([*removal(net, [next(net.elements()).id]), Remove(id="nobody")])
    assert listed_in_order()
    net.apply(done.inverse)
    assert net == before
    assert listed_in_order()
    assert net.to_items() == plain
    again = net.apply(changes)
    assert again.changed == done.changed


@settings(max_examples=30, deadline=None)
@given(networks())
def test_plain_data_round_trips(net: Network) -> None:
    twin = Network.from_items(copy.deepcopy(net.to_items()))
    assert twin == net
    assert list(twin.items) == list(net.items)


def test_a_copy_is_independent() -> None:
    net = base()
    twin = net.copy()
    twin.apply([Update(id="a", values={"name": "other"}), *removal(twin, ["b"])])
    assert net["a"].name == "a"
    assert net.referrers("b") == ["a-b", "load-b"]


def test_removing_a_bus_takes_its_equipment_along_and_clears_mere_mentions() -> None:
    net = base()
    net.apply(removal(net, ["b"]))
    assert set(net.items) == {"north", "a", "source-a"}
    net.apply(removal(net, ["north"]))
    assert net["a"].area is None  # type: ignore[attr-defined]


@pytest.mark.parametrize(
    ("first", "values", "expected"),
    [
        ({"active_power_mw": 2.0, "power_factor": 0.9}, {"reactive_power_mvar": 1.0}, (2.0, 1.0, None, None)),
        ({"active_power_mw": 2.0, "reactive_power_mvar": 1.0}, {"power_factor": 0.9}, (2.0, None, None, 0.9)),
        ({"apparent_power_mva": 2.0, "power_factor": 0.9}, {"active_power_mw": 1.0}, (1.0, None, None, 0.9)),
        ({"active_power_mw": 2.0, "power_factor": 0.9}, {"apparent_power_mva": 3.0}, (None, None, 3.0, 0.9)),
    ],
)
def test_a_third_power_figure_replaces_the_one_it_contradicts(
    first: dict[str, float], values: dict[str, float], expected: tuple[float | None, ...]
) -> None:
    net = network(bus("a"), {"kind": "load", "id": "d", "bus": "a", **first})
    net.apply([Update(id="d", values=values)])
    found = net["d"]
    assert isinstance(found, Load)
    assert (found.active_power_mw, found.reactive_power_mvar, found.apparent_power_mva, found.power_factor) == expected


def test_load_power_from_any_pair() -> None:
    by_factor = make_item({"kind": "load", "id": "d", "bus": "a", "apparent_power_mva": 5.0, "power_factor": 0.8})
    assert isinstance(by_factor, Load)
    assert by_factor.power_mva() == pytest.approx(4 + 3j)
    leading = make_item({"kind": "load", "id": "d", "bus": "a", "active_power_mw": 4.0, "power_factor": -0.8})
    assert isinstance(leading, Load)
    assert leading.power_mva() == pytest.approx(4 - 3j)


def test_one_share_of_the_demand_mix_fills_up_the_rest() -> None:
    net = network(bus("a"), load("a", 1.0))
    net.apply([Update(id="load-a", values={"constant_impedance_pct": 30.0})])
    assert net["load-a"].constant_power_pct == 70.0  # type: ignore[attr-defined]


def test_conflicts_are_two_changes_of_one_field() -> None:
    mine: list[Change] = [Update(id="a", values={"x": 1.0}), Update(id="b", values={"name": "n"})]
    assert conflicts(mine, [Update(id="a", values={"y": 2.0})]) == set()
    assert conflicts(mine, [Update(id="a", values={"x": 2.0})]) == {("a", "x")}
    assert conflicts(mine, [Remove(id="b")]) == {("b", "name")}


# Declarations: the one source about fields


@pytest.mark.parametrize("kind", sorted(REGISTRY))
def test_every_field_is_fully_declared(kind: str) -> None:
    for name, spec in specs(REGISTRY[kind]).items():
        assert spec.label, name
        assert spec.label[0].isupper() or spec.label[0] in "XQ", name
        if spec.type in (FieldType.NUMBER, FieldType.INTEGER):
            assert spec.unit, f"{name} has no unit"
        if spec.group == "data" and spec.type is not FieldType.OTHER:
            assert spec.meaning, f"{name} has no meaning"


BOUNDED = [
    (kind, name) for kind, cls in sorted(REGISTRY.items()) for name, spec in specs(cls).items()
    if spec.type in (FieldType.NUMBER, FieldType.INTEGER) and spec.minimum is not None
]  # fmt: skip


@pytest.mark.parametrize(("kind", "name"), BOUNDED)
def test_every_figure_refuses_nonsense_naming_field_value_and_range(kind: str, name: str) -> None:
    cls = REGISTRY[kind]
    spec = specs(cls)[name]
    ends = {n: f"bus {i}" for i, (n, s) in enumerate(specs(cls).items()) if s.ref and s.required}
    assert spec.minimum is not None
    below = spec.minimum if spec.exclusive_minimum else spec.minimum - 1
    above = [1e300] if spec.maximum is not None else []
    for bad in (below, *above, float("nan"), "a lot"):
        with pytest.raises(InvalidFields) as caught:
            make_item({"kind": kind, "id": "x", **ends, name: bad})
        problem = next((p for p in caught.value.problems if p.field == name), None)
        assert problem is not None, f"{bad!r}: {caught.value}"
        assert problem.element == "x"
        if bad == below:
            assert problem.allowed == spec.allowed()
            assert f"{spec.minimum:g}" in str(caught.value)


def test_elements_know_their_terminals() -> None:
    assert Transformer.terminals() == ("hv_bus", "lv_bus")
    elements = [c for c in REGISTRY.values() if issubclass(c, Element) and c is not Bus]
    assert all(c.terminals() for c in elements)


# Growing


def grown_at(what: str, kv: float) -> tuple[Network, Grown]:
    """Something grown at a bus, in a line or between two buses, wherever it can."""
    net = network(bus("a", kv), source("a"))
    if "bus" in SHOOTS[what].at:
        plan = grow(net, "a", what)
    else:
        net.apply([Add(item=bus("z", kv)), Add(item=line("a", "z", length_km=2.0))])
        plan = grow(net, "a-z", what)
    return net, plan


@pytest.mark.parametrize("what", sorted(SHOOTS))
@pytest.mark.parametrize("kv", [0.4, 11.0, 33.0, 132.0, 400.0])
def test_growing_gives_connected_typical_and_solvable_equipment(what: str, kv: float) -> None:
    net, plan = grown_at(what, kv)
    done = net.apply(plan.changes)
    assert plan.select in done.changed
    if "bus" in SHOOTS[what].at:
        new = next(e for i in done.changed if isinstance(e := net[i], Element) and not isinstance(e, Bus))
        assert "a" in new.buses()
        if what != "switch":
            assert Origin.TYPICAL in new.origins.values()
    transforms = what in ("transformer", "three_winding", "auto", "single_transformer", "service_transformer")
    for b in plan.buses:
        assert transforms or net[b].nominal_kv == kv  # type: ignore[attr-defined]
    assert not any(e.missing() for e in net.elements())
    result = run_load_flow(net)
    assert result.account.converged
    assert result.summary["dead_buses"] == 0
    assert_balanced(net, result)
    net.apply(done.inverse)
    assert run_load_flow(net).account.converged


@pytest.mark.parametrize("what", sorted(n for n, s in SHOOTS.items() if "pair" in s.at))
def test_growing_between_two_buses_joins_them(what: str) -> None:
    low = 11.0 if what in ("transformer", "auto") else 33.0
    net = network(bus("a", 33.0), source("a"), bus("b", low))
    # From the lower voltage upwards as well: the higher one is the HV side whichever was chosen first.
    net.apply(grow(net, "b", what, to="a").changes)
    new = next(e for e in net.elements() if len(e.buses()) == 2)
    assert set(new.buses()) == {"a", "b"}
    if isinstance(new, Transformer):
        assert (new.hv_bus, new.lv_bus) == ("a", "b")
    assert run_load_flow(net).summary["dead_buses"] == 0


def test_sections_grow_in_a_row_with_their_spacing() -> None:
    net = network(bus("F 1"), source("F 1"))
    plan = grow(net, "F 1", "section", options=GrowOptions(count=5, spacing_km=0.4))
    net.apply(plan.changes)
    lines, loads = net.of(Line), net.of(Load)
    assert (len(lines), len(loads)) == (5, 5)
    assert [(e.from_bus, e.to_bus) for e in lines] == [(f"F {n}", f"F {n + 1}") for n in range(1, 6)]
    assert {e.length_km for e in lines} == {0.4}
    assert all("length_km" not in e.origins for e in lines), "a spacing that was said is not typical"


def test_splitting_a_line_leaves_the_network_as_it_was_electrically() -> None:
    net = network(bus("a"), source("a"), bus("b"), line("a", "b", length_km=4.0, rating_a=200.0), load("b", 2.0, 0.5))
    before = run_load_flow(net)
    net.apply(grow(net, "a-b", "insert_bus", options=GrowOptions(distance_km=1.0)).changes)
    after = run_load_flow(net)
    assert sorted(e.length_km or 0 for e in net.of(Line)) == [1.0, 3.0]
    assert volts(after)["b"] == pytest.approx(volts(before)["b"], abs=1e-9)
    with pytest.raises(InvalidFields, match="above 0 and below 1 km"):
        grow(net, "a-b", "insert_bus", options=GrowOptions(distance_km=9.0))


def test_joining_two_ends_makes_one_node() -> None:
    net = network(bus("a"), source("a"), bus("b"), bus("c"), bus("d"), line("a", "b"), line("c", "d"), switch("b", "c"),
                  load("d", 1.0))  # fmt: skip
    before = net.copy()
    done = net.apply(join(net, "c", "b"))
    assert "c" not in net
    assert "b|c" not in net, "what joined only the two has fallen away"
    assert net["c-d"].from_bus == "b"  # type: ignore[attr-defined]
    assert run_load_flow(net).summary["dead_buses"] == 0
    net.apply(done.inverse)
    assert net == before
    net.apply([Add(item=bus("low", 0.4))])
    with pytest.raises(InvalidFields, match="one nominal voltage"):
        join(net, "low", "b")


def test_growing_twice_gives_distinct_names() -> None:
    net = network(bus("F1"), source("F1"))
    for _ in range(3):
        net.apply(grow(net, "F1", "line").changes)
        net.apply(grow(net, "F1", "load").changes)
    assert {"F2", "F3", "F4", "Load F1", "Load F1 (2)", "Load F1 (3)"} <= set(net.items)


def test_a_feeder_grows_with_its_own_conductor() -> None:
    net = network(bus("a"), bus("b"), line("a", "b", type="Alloy 50 11 kV overhead"))
    net.apply(grow(net, "b", "line").changes)
    assert next(e for e in net.of(Line) if e.from_bus == "b").type == "Alloy 50 11 kV overhead"


def test_growing_somewhere_impossible_is_refused() -> None:
    net = base()
    with pytest.raises(UnknownElement):
        grow(net, "load-b", "line")
    with pytest.raises(InvalidFields):
        grow(net, "a", "castle")
    with pytest.raises(InvalidFields, match="another bus"):
        grow(net, "a", "line", to="a")


def test_an_unknown_type_is_refused_with_an_example() -> None:
    with pytest.raises(InvalidFields, match="choose a type of the catalogue, for example"):
        network(bus("a"), bus("b"), line("a", "b", type="no such"))


def test_a_type_of_ones_own_fills_what_uses_it_and_takes_it_along() -> None:
    own = {"kind": "own_type", "id": "My cable", "family": "line", "values": {"r_ohm_per_km": 0.2, "x_ohm_per_km": 0.1,
           "rating_a": 300.0, "construction": "cable"}}  # fmt: skip
    bare = {"kind": "line", "id": "ab", "from_bus": "a", "to_bus": "b", "length_km": 1.0, "type": "My cable"}
    net = network(bus("a"), bus("b"), own, bare, {**bare, "id": "ab2", "rating_a": 250.0})
    one, two = net["ab"], net["ab2"]
    assert isinstance(one, Line)
    assert isinstance(two, Line)
    assert (one.r_ohm_per_km, one.rating_a, one.origins["rating_a"]) == (0.2, 300.0, Origin.CATALOGUE)
    assert (two.rating_a, "rating_a" in two.origins) == (250.0, False)
    changed = net.apply([Update(id="My cable", values={"values": {**own["values"], "rating_a": 320.0}})])
    net.apply(net.consequences(changed.changed))
    assert net["ab"].rating_a == 320.0  # type: ignore[attr-defined]
    assert net["ab2"].rating_a == 250.0, "what was entered over the type stays"  # type: ignore[attr-defined]
    assert net.consequences(changed.changed) == []
    assert net.referrers("My cable") == ["ab", "ab2"]
    net.apply(removal(net, ["My cable"]))
    assert net["ab"].type is None  # type: ignore[attr-defined]
    with pytest.raises(InvalidFields, match="has this name already"):
        network({**own, "id": "Al 1×185 XLPE 11 kV cable"})


# Two figures give a load, a source or a neutral; entering another one replaces what it contradicts.


@pytest.mark.parametrize(
    ("given", "p", "q"),
    [
        ({"active_power_mw": 3.0, "reactive_power_mvar": 4.0}, 3.0, 4.0),
        ({"apparent_power_mva": 5.0, "power_factor": 0.6}, 3.0, 4.0),
        ({"apparent_power_mva": 5.0, "power_factor": -0.6}, 3.0, -4.0),
        ({"active_power_mw": 3.0, "apparent_power_mva": 5.0}, 3.0, 4.0),
        ({"apparent_power_mva": 5.0, "reactive_power_mvar": 4.0}, 3.0, 4.0),
        ({"reactive_power_mvar": 4.0, "power_factor": 0.6}, 3.0, 4.0),
        ({"current_a": 5e3 / (3**0.5 * 11.0), "power_factor": 0.6}, 3.0, 4.0),
        ({"current_a": 5e3 / (3**0.5 * 11.0), "active_power_mw": 3.0}, 3.0, 4.0),
    ],
)
@pytest.mark.parametrize("kind", ["load", "lumped"])
def test_any_two_figures_give_a_load(kind: str, given: dict[str, float], p: float, q: float) -> None:
    net = network(bus("a"), {"kind": kind, "id": "l", "bus": "a", **given})
    item = net["l"]
    assert isinstance(item, Demand)
    assert item.missing() == ()
    assert item.power_mva() == pytest.approx(complex(p, q))


def test_a_third_figure_replaces_what_it_contradicts() -> None:
    net = network(bus("a"), load("a", 3.0, 4.0))
    for field, value in (
        ("current_a", 200.0),
        ("power_factor", 0.8),
        ("apparent_power_mva", 2.0),
        ("active_power_mw", 1.0),
    ):
        net.apply([Update(id="load-a", values={field: value})])
        item = net["load-a"]
        assert isinstance(item, Load)
        assert getattr(item, field) == value
        assert item.missing() == (), field


def test_ohms_of_a_source_give_its_fault_level_and_back() -> None:
    net = network(bus("a", 33.0), source("a"))
    net.apply([Update(id="source-a", values={"r_ohm": 0.1, "x_ohm": 1.0})])
    found = net["source-a"]
    assert isinstance(found, Source)
    z = abs(0.1 + 1j)
    assert (found.fault_max_mva, found.x_over_r) == pytest.approx((33.0**2 / z, 10.0))
    back = source_impedance_ohm(found.fault_max_mva, found.x_over_r, 33.0)
    assert back == pytest.approx(0.1 + 1j)
    net.apply([Update(id="source-a", values={"fault_max_mva": 500.0})])
    found = net["source-a"]
    assert isinstance(found, Source)
    assert (found.r_ohm, found.fault_max_mva) == (None, 500.0)
    assert found.fault_min_mva <= 500.0


def test_a_neutral_is_given_by_ohms_or_by_its_current() -> None:
    net = network(bus("a", 33), bus("b", 11), transformer("a", "b", vector_group="Dyn11", lv_neutral="resistor"))
    net.apply([Update(id="a/b", values={"lv_neutral_a": 1000.0})])
    unit = net["a/b"]
    assert isinstance(unit, Transformer)
    assert neutral_ohm(unit.lv_neutral, unit.lv_neutral_ohm, unit.lv_neutral_a, 11.0) == pytest.approx(
        11e3 / 3**0.5 / 1000
    )
    net.apply([Update(id="a/b", values={"lv_neutral_ohm": 6.0})])
    assert net["a/b"].lv_neutral_a is None  # type: ignore[attr-defined]
    assert neutral_ohm("solid", None, None, None) == 0
    assert neutral_ohm("isolated", 5.0, None, 11.0) is None
    assert neutral_ohm("reactor", 5.0, None, 11.0) == 5j


def test_what_a_switch_carries_is_the_least_of_its_limits() -> None:
    values = {"rating_a": 630.0, "sensor_a": 630.0, "plug_a": 500.0, "long_x": 0.8}
    net = network(bus("a", 0.4), bus("b", 0.4), switch("a", "b", **values))
    assert net["a|b"].carries_a() == 400.0  # type: ignore[attr-defined]
    net.apply([Update(id="a|b", values={"fuse_a": 315.0})])
    assert net["a|b"].carries_a() == 315.0  # type: ignore[attr-defined]
    with pytest.raises(InvalidFields, match="at most the sensor's rated current, 630 A"):
        net.apply([Update(id="a|b", values={"plug_a": 800.0})])


def test_rules_are_added_once() -> None:
    net = base()
    net.apply(with_rules(net))
    assert net.settings.condition == net.condition.id
    assert with_rules(net) == []


def test_switch_positions_and_service_recompile(demo: Network) -> None:
    assert run_load_flow(demo).summary["dead_buses"] == 0
    demo.apply([Update(id="Saltern F2-08", values={"in_service": False})])
    dead = run_load_flow(demo).summary["dead_buses"]
    assert dead > 0
    demo.apply([Update(id="Tie Moor End", values={"closed": True})])
    assert run_load_flow(demo).summary["dead_buses"] < dead


def test_connected_equipment_is_found_from_either_bus() -> None:
    net = network(bus("a"), bus("b"), switch("a", "b"))
    assert [e.id for e in net.connected("a")] == [e.id for e in net.connected("b")] == ["a|b"]
