"""Distances on the globe, lengths from routes, and one arrangement made from the other."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.helpers import bus, line, network
from vastmesh.core.errors import InvalidFields
from vastmesh.core.geography import (
    EARTH_KM,
    distance_km,
    lengths_from_routes,
    map_from_schematic,
    route_km,
    schematic_from_map,
)
from vastmesh.core.network import Bus, Line

PLACES = st.tuples(st.floats(-179, 179), st.floats(-84, 84))


def test_known_distances() -> None:
    """A quarter of a meridian, and a degree along the equator."""
    assert distance_km((0, 0), (90, 0)) == pytest.approx(EARTH_KM * 3.141592653589793 / 2)
    assert distance_km((10, 0), (11, 0)) == pytest.approx(111.195, abs=0.001)
    assert distance_km((10, 60), (11, 60)) == pytest.approx(111.195 / 2, rel=1e-4)


@given(PLACES, PLACES, PLACES)
def test_distance_is_a_distance(a: tuple[float, float], b: tuple[float, float], c: tuple[float, float]) -> None:
    assert distance_km(a, a) == pytest.approx(0, abs=1e-6)
    assert distance_km(a, b) == pytest.approx(distance_km(b, a), abs=1e-6)
    assert distance_km(a, c) <= distance_km(a, b) + distance_km(b, c) + 1e-6


def placed() -> list[dict[str, object]]:
    return [bus("a", longitude=-4.0, latitude=50.0), bus("b", longitude=-4.0, latitude=50.1),
            line("a", "b", route=[[-3.9, 50.05]]), bus("c"), line("b", "c")]  # fmt: skip


def test_a_line_takes_the_length_of_its_route() -> None:
    net = network(*placed())
    whole = distance_km((-4, 50), (-3.9, 50.05)) + distance_km((-3.9, 50.05), (-4, 50.1))
    route = net["a-b"]
    assert isinstance(route, Line)
    assert route_km(net, route) == pytest.approx(whole)
    assert whole > distance_km((-4, 50), (-4, 50.1))
    changes = lengths_from_routes(net)
    assert [c.id for c in changes] == ["a-b"]  # type: ignore[union-attr]
    net.apply(changes)
    assert net["a-b"].length_km == pytest.approx(whole, abs=1e-4)  # type: ignore[attr-defined]
    assert not lengths_from_routes(net)


def test_the_map_from_the_schematic_and_back_keeps_the_shape() -> None:
    net = network(bus("a", x=0, y=0), bus("b", x=400, y=0), bus("c", x=400, y=300), line("a", "b", length_km=4.0),
                  line("b", "c", length_km=3.0))  # fmt: skip
    net.apply(map_from_schematic(net))
    spots = {b.id: (b.longitude or 0.0, b.latitude or 0.0) for b in net.of(Bus)}
    assert distance_km(spots["a"], spots["b"]) == pytest.approx(4.0, rel=1e-3)
    assert distance_km(spots["b"], spots["c"]) == pytest.approx(3.0, rel=1e-3)
    assert spots["c"][1] < spots["b"][1]  # downwards on the sheet is south
    assert not map_from_schematic(net)
    net.apply(schematic_from_map(net))
    at = {b.id: (b.x or 0.0, b.y or 0.0) for b in net.of(Bus)}
    assert (at["b"][0] - at["a"][0]) / (at["c"][1] - at["b"][1]) == pytest.approx(4 / 3, rel=1e-2)


def test_only_what_has_no_place_is_put_on_the_map_unless_all_is_wanted() -> None:
    net = network(
        bus("a", x=0, y=0, longitude=-4.0, latitude=50.0), bus("b", x=100, y=0), line("a", "b", length_km=1.0)
    )
    assert [c.id for c in map_from_schematic(net)] == ["b"]  # type: ignore[union-attr]
    assert len(map_from_schematic(net, anew=True)) == 2
    assert not schematic_from_map(network(bus("x")))


@pytest.mark.parametrize("values", [{"longitude": 181.0}, {"latitude": 90.0}])
def test_places_off_the_globe_are_refused(values: dict[str, float]) -> None:
    with pytest.raises(InvalidFields, match="enter a number from"):
        network(bus("a", **values))
