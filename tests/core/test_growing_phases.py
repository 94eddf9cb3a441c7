"""Growing single-phase equipment, what hangs together in other phases, electrodes and taps of phases."""

from __future__ import annotations

from math import log, pi, sqrt
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import quad

from tests.helpers import Item, bus, line, load, source, transformer
from vastmesh.core.catalogue import find_type, rod_ohm, strip_ohm
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Network, Unit, grow, unit_of, units
from vastmesh.core.results.state import run_unbalanced


def net(*items: Item) -> Network:
    start = {"kind": "settings", "id": "settings", "name": "s", "base_mva": 1.0, "study": "per_phase"}
    return Network.from_items([start, *items])


def made(network: Network, at: str, what: str) -> list[Any]:
    """The elements that growing adds, in the network."""
    plan = grow(network, at, what)
    before = set(network.items)
    network.apply(plan.changes)
    return [network[i] for i in network.items if i not in before]


def four_wire(*more: Item) -> Network:
    return net(bus("a", 0.4, conductors="ABCN"), source("a"), *more)


# Growing


def test_a_lateral_takes_the_phase_that_loads_use_least() -> None:
    network = four_wire(
        load("a", 0.004, id="on A", conductors="AN"), load("a", 0.002, id="on B", conductors="BN"),
        {"kind": "load", "id": "on C", "bus": "a", "apparent_power_mva": 0.003, "power_factor": 0.9, "conductors": "CN"},
    )  # fmt: skip
    new = made(network, "a", "lateral")
    assert {e.conductors for e in new} == {"BN"}
    assert [e.kind for e in new] == ["bus", "line"]


def test_plants_do_not_count_as_load_of_their_phase() -> None:
    network = four_wire(
        {"kind": "inverter", "id": "roof", "bus": "a", "active_power_mw": 0.005, "rated_mva": 0.006, "conductors": "AN"},
        load("a", 0.001, id="on B", conductors="BN"), load("a", 0.001, id="on C", conductors="CN"),
    )  # fmt: skip
    assert {e.conductors for e in made(network, "a", "lateral")} == {"AN"}


def test_what_grows_on_a_lateral_is_on_its_phase() -> None:
    network = four_wire(load("a", 0.004, id="on A", conductors="AN"))
    far = next(e for e in made(network, "a", "lateral") if e.kind == "bus")
    home = made(network, far.id, "load")[0]
    further = made(network, far.id, "cable")
    assert {home.conductors, *(e.conductors for e in further)} == {far.conductors}
    result = run_unbalanced(network)
    assert result.account.converged
    assert not [f for f in result.findings if f.limit_name == "Model"]


def test_a_lateral_of_a_lateral_is_refused_in_words() -> None:
    network = four_wire(load("a", 0.004, id="on A", conductors="AN"))
    far = next(e for e in made(network, "a", "lateral") if e.kind == "bus")
    with pytest.raises(InvalidFields, match="choose a bus with more than one phase"):
        grow(network, far.id, "lateral")


@pytest.mark.parametrize(("what", "volts"), [("single_transformer", 240.0), ("service_transformer", 120.0)])
@pytest.mark.parametrize("conductors", ["ABC", "ABCN"])
def test_single_phase_units_give_their_rated_voltage(what: str, volts: float, conductors: str) -> None:
    """Unloaded, each end of the winding stands at its rated share of the supply's voltage."""
    network = net(bus("a", 11.0, conductors=conductors), source("a", fault_max_mva=1e5, fault_min_mva=1e5))
    new = made(network, "a", what)
    low = next(e for e in new if e.kind == "bus")
    result = run_unbalanced(network)
    assert result.account.converged
    row = next(r for r in result.tables["buses"].records() if r["id"] == low.id)
    base = low.nominal_kv * 1e3 / (2 if low.split_phase else sqrt(3))
    found = [row[f"phase_{p}_voltage_pu"] for p in "abc"]
    ends = [v * base for v in found if v is not None]
    assert len(ends) == (2 if what == "service_transformer" else 1)
    # With iron loss and magnetising current alone the drop is far below a thousandth.
    assert ends == pytest.approx([volts] * len(ends), rel=2e-3)


def test_a_capacitor_for_each_phase_there_is() -> None:
    network = net(bus("a", 0.4, conductors="ABCN"), source("a"), bus("x", 0.4, conductors="ACN"),
                  line("a", "x", conductors="ACN"))  # fmt: skip
    assert [e.conductors for e in made(network, "a", "phase_capacitor")] == ["AN", "BN", "CN"]
    assert [e.conductors for e in made(network, "x", "phase_capacitor")] == ["AN", "CN"]


def test_an_electrode_brings_the_neutral_it_earths() -> None:
    network = net(bus("a", 11.0), source("a"))
    electrode = made(network, "a", "electrode")[0]
    assert network["a"].conductors == "ABCN"  # type: ignore[attr-defined]
    assert electrode.resistance_ohm == find_type("electrode", "Earth rod 3 m in loam").values["resistance_ohm"]  # type: ignore[union-attr]


# Units


@st.composite
def streets(draw: st.DrawFn) -> Network:
    """A four-wire trunk with laterals, laterals of laterals, and loads anywhere."""
    items = [bus("n0", 0.4, conductors="ABCN"), source("n0")]
    at = {"n0": "ABCN"}
    for k in range(1, draw(st.integers(2, 14))):
        above = draw(st.sampled_from(sorted(at)))
        there = at[above].replace("N", "")
        kept = draw(st.sampled_from([there, there, draw(st.sampled_from(sorted(there)))]))
        if len(there) == 3 and draw(st.integers(0, 5)) == 0:
            kept = "AB"
        at[f"n{k}"] = kept + "N"
        items += [bus(f"n{k}", 0.4, conductors=kept + "N"), line(above, f"n{k}", length_km=0.03, conductors=kept + "N")]
    for k in range(draw(st.integers(1, 10))):
        where = draw(st.sampled_from(sorted(at)))
        phase = draw(st.sampled_from(sorted(at[where].replace("N", ""))))
        items.append(load(where, 0.001, id=f"home {k}", conductors=phase + "N"))
    return net(*items)


def reached(network: Network, start: str, without: str) -> set[str]:
    """Buses that still hang together with one when a line is taken out: by search over the plain items."""
    ends = [e.buses() for e in network.elements() if len(e.buses()) == 2 and e.id != without]
    seen, grown = {start}, True
    while grown:
        wider = seen | {b for pair in ends if set(pair) & seen for b in pair}
        seen, grown = wider, wider != seen
    return seen


@settings(max_examples=80, deadline=None)
@given(streets())
def test_a_lateral_is_what_its_line_cuts_off(network: Network) -> None:
    found = units(network)
    for unit in found:
        if unit.kind != "lateral":
            continue
        head, foot = network[unit.ident].buses()  # type: ignore[attr-defined]
        cut = reached(network, foot, unit.ident)
        assert head not in cut
        hung = {e.id for e in network.elements() if e.buses() and set(e.buses()) <= cut} | cut | {unit.ident}
        assert set(unit.elements) == hung
        assert unit.elements[0] == unit.ident
    of = [e for u in found for e in u.elements]
    assert len(of) == len(set(of)), "nothing moves with two units"


@settings(max_examples=80, deadline=None)
@given(streets())
def test_the_unit_of_an_element_is_the_one_that_holds_it(network: Network) -> None:
    """Looked for around the element only; the whole network gives the same."""
    everywhere = {e: u for u in units(network) for e in u.elements}
    for e in network.elements():
        if e.kind == "bus":
            assert unit_of(network, e.id) is None
        else:
            assert unit_of(network, e.id) == everywhere.get(e.id)


@settings(max_examples=60, deadline=None)
@given(streets(), st.data())
def test_units_at_some_buses_are_those_of_the_network_that_start_there(network: Network, data: st.DataObject) -> None:
    buses = set(data.draw(st.lists(st.sampled_from([e.id for e in network.elements() if e.kind == "bus"]), min_size=1)))

    def starts(u: Unit) -> str:
        ends = network[u.ident].buses()  # type: ignore[attr-defined]
        return ends[0] if len(ends) == 1 else next(b for b in ends if b not in u.elements)

    assert units(network, buses) == [u for u in units(network) if starts(u) in buses]


# Electrodes and taps


def mean_potential_ohm(length: float, radius: float, soil: float, image: float | None) -> float:
    """Resistance by the mean potential of a straight wire with even leakage: own field and that of its image in the
    surface, which lies ``image`` beside it, or end to end with it (None). Double integrals of 1/distance, one by hand."""

    def along(gap: float, other: float) -> float:
        def inner(x: float) -> float:
            return float(np.arcsinh((other + length - x) / gap) - np.arcsinh((other - x) / gap))

        return float(quad(inner, 0.0, length, limit=400)[0])

    own = along(radius, 0.0)
    mirrored = along(radius, -length) if image is None else along(image, 0.0)
    return soil / (4 * pi * length**2) * (own + mirrored)


@pytest.mark.parametrize("length", [1.5, 3.0, 9.0])
@pytest.mark.parametrize("soil", [30.0, 300.0])
def test_a_rod_by_the_mean_potential_of_a_line_of_current(length: float, soil: float) -> None:
    assert rod_ohm(length, soil) == pytest.approx(mean_potential_ohm(length, 0.008, soil, None), rel=0.005)


@pytest.mark.parametrize("length", [10.0, 40.0])
def test_a_strip_by_the_mean_potential_of_a_line_of_current(length: float) -> None:
    """A strip is a round wire of a quarter of its width in radius; its image is twice its depth away."""
    assert strip_ohm(length, 100.0) == pytest.approx(mean_potential_ohm(length, 0.0075, 100.0, 1.2), rel=0.03)


def test_the_rod_of_three_metres_in_loam_by_hand() -> None:
    assert rod_ohm(3.0, 100.0) == pytest.approx(100 / (6 * pi) * (log(24 / 0.016) - 1), rel=1e-12)
    assert rod_ohm(3.0, 100.0) == pytest.approx(33.5, abs=0.1)


@pytest.mark.parametrize("phase", ["a", "b", "c"])
@pytest.mark.parametrize("kind", ["transformer", "regulator"])
def test_a_tap_of_a_phase_outside_the_range_is_named(kind: str, phase: str) -> None:
    range_ = {"tap_min": -3, "tap_max": 3, "taps": "per_phase", f"tap_{phase}": 4}
    unit: Item = transformer("a", "b", **range_) if kind == "transformer" else {
        "kind": "regulator", "id": "r", "from_bus": "a", "to_bus": "b", "x_ohm": 0.1, "rating_a": 100.0, **range_}  # fmt: skip
    with pytest.raises(InvalidFields, match=f"tap_{phase}: 4 is not allowed; enter a position from -3 to 3"):
        net(bus("a", 33.0), bus("b", 11.0 if kind == "transformer" else 33.0), source("a"), unit)
