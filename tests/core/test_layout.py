"""Automatic layout: everything gets a place of its own, feeders run straight, what is placed stays."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from scipy.sparse import csr_array

from tests.helpers import bus, line, load, network, networks, source, transformer
from vastmesh.core.layout import COLUMN, free_spot, place
from vastmesh.core.layout._mesh import mesh_positions
from vastmesh.core.network import Bus, Network
from vastmesh.exchange import read_network


def positions(net: Network) -> dict[str, tuple[float, float]]:
    return {b.id: (b.x, b.y) for b in net.of(Bus)}  # type: ignore[misc]


@settings(max_examples=60, deadline=None)
@given(networks())
def test_every_bus_gets_a_place_of_its_own(net: Network) -> None:
    net.apply(place(net))
    found = positions(net)
    assert all(x is not None and y is not None for x, y in found.values())
    assert len(set(found.values())) == len(found)


def test_a_feeder_is_a_straight_line() -> None:
    names = [f"n{i}" for i in range(8)]
    net = network(
        bus("s"), *map(bus, names), source("s"), *(line(a, b) for a, b in zip(["s", *names], names, strict=False))
    )
    net.apply(place(net))
    at = positions(net)
    assert len({at[n][1] for n in names}) == 1
    xs = [at[n][0] for n in names]
    assert np.diff(xs) == pytest.approx([COLUMN] * 7)


def test_the_trunk_is_the_deepest_path_and_laterals_leave_it() -> None:
    net = network(
        *map(bus, ["s", "a", "b", "c", "d", "x"]), source("s"),
        line("s", "a"), line("a", "x"), line("a", "b"), line("b", "c"), line("c", "d"),
    )  # fmt: skip
    net.apply(place(net))
    at = positions(net)
    assert at["a"][1] == at["b"][1] == at["c"][1] == at["d"][1] != at["x"][1]


def test_transformers_lead_downwards() -> None:
    net = network(bus("s", 33), bus("a", 33), bus("l", 11), source("s"), line("s", "a"), transformer("a", "l"))
    net.apply(place(net))
    at = positions(net)
    assert at["l"][1] > at["a"][1]
    assert at["l"][0] == at["a"][0]


def test_places_that_are_given_stay() -> None:
    net = network(bus("s", x=500.0, y=40.0), bus("a"), source("s"), line("s", "a"))
    assert [c.id for c in place(net)] == ["a"]  # type: ignore[union-attr]
    net.apply(place(net))
    assert positions(net)["s"] == (500.0, 40.0)
    assert place(net) == []
    assert len(place(net, anew=True)) == 2


def test_a_ring_opens_up(nine_bus_file: bytes) -> None:
    """Neighbours of the nine-bus ring end nearer than opposite buses, and nothing lies on top of another."""
    net = read_network(nine_bus_file).network
    net.apply(place(net))
    at = {k: np.array(v) for k, v in positions(net).items()}
    gaps = [np.linalg.norm(at[a] - at[b]) for a in at for b in at if a < b]
    assert min(gaps) > 60
    assert np.linalg.norm(at["4"] - at["5"]) < np.linalg.norm(at["4"] - at["8"])


@pytest.mark.parametrize("n", [1, 2, 30, 600])
def test_mesh_positions_are_finite_and_distinct(n: int) -> None:
    rows = np.r_[np.arange(n), np.arange(n)]
    cols = np.r_[(np.arange(n) + 1) % n, (np.arange(n) + 2) % n]
    graph = csr_array((np.ones(2 * n), (rows, cols)), shape=(n, n))
    found = mesh_positions(csr_array(graph + graph.T))
    assert np.isfinite(found).all()
    assert len(np.unique(found.round(6), axis=0)) == n


def test_a_new_bus_finds_a_free_spot() -> None:
    net = network(bus("a", x=0.0, y=0.0), bus("b", x=90.0, y=0.0), line("a", "b"))
    ways = [(90.0, 0.0), (90.0, 100.0)]
    assert free_spot(net, 0.0, 0.0, ways) == (90.0, 100.0)
    assert free_spot(net, 90.0, 0.0, ways) == (180.0, 0.0)


def test_laying_out_thousands_of_buses_takes_one_pass() -> None:
    """A comb of 3,000 buses: the packing must not lose or stack any of them."""
    items = [bus("b0"), source("b0")]
    for i in range(1, 3000):
        parent = i - 1 if i % 3 else i - 3
        items += [bus(f"b{i}"), line(f"b{max(parent, 0)}", f"b{i}")]
    net = network(*items)
    net.apply(place(net))
    assert len(set(positions(net).values())) == 3000


def test_feeders_begin_clear_of_the_bar_they_leave() -> None:
    feeders = [f"f{i}" for i in range(6)]
    net = network(
        bus("h", 33), bus("s"), source("h"), transformer("h", "s"), *map(bus, feeders), *(line("s", f) for f in feeders)
    )  # fmt: skip
    net.apply(place(net))
    bar = net["s"]
    assert isinstance(bar, Bus)
    at = positions(net)
    assert len({at[f][1] for f in feeders}) == 6
    assert all(at[f][0] > bar.x + bar.bar / 2 for f in feeders)  # type: ignore[operator]


@pytest.mark.parametrize("count", [1, 4, 6, 9, 14])
def test_what_hangs_from_a_node_has_room_to_its_left(count: int) -> None:
    """Loads stand 22 apart from the node leftwards; the first of the node before keeps clear of the last of them."""
    loads = [load("b", 0.01, id=f"d{k}") for k in range(count)]
    net = network(bus("s"), source("s"), bus("a"), bus("b"), bus("c"), line("s", "a"), line("a", "b"), line("b", "c"),
                  load("a", 0.1), *loads)  # fmt: skip
    net.apply(place(net))
    at = positions(net)
    assert at["b"][0] - 22 * (count - 1) >= at["a"][0] + 20
    assert at["c"][0] - at["b"][0] == COLUMN, "what has nothing below it stands as near as ever"
    roofs = [
        {"kind": "inverter", "id": f"r{k}", "bus": "b", "rated_mva": 0.01, "active_power_mw": 0.005} for k in range(9)
    ]
    up = network(bus("s"), source("s"), bus("a"), bus("b"), line("s", "a"), line("a", "b"), *roofs)
    up.apply(place(up))
    assert positions(up)["b"][0] - positions(up)["a"][0] == COLUMN, "what stands up needs no room below"
