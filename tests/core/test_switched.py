"""Switching on one sparsity equals the load flow of the network as it is switched, dead parts and rated switches included."""

from __future__ import annotations

import numpy as np
import pytest

from tests.core.test_outages import random_network
from tests.helpers import bus, line, load, network, source, switch, transformer
from vastmesh.core.network import Network
from vastmesh.core.studies.variants import Variants


def switched_network(seed: int) -> Network:
    """A random network with ties between its loops, couplers in a ring and in parallel, and a part that a switch cuts off."""
    items = random_network(seed).to_items()
    items += [
        bus("s1", 33.0), bus("s2", 33.0), bus("s3", 33.0), load("s2", 0.8, 0.2), load("s3", 0.4, 0.1),
        switch("b1", "s1", id="k1", rating_a=60.0), switch("b1", "s1", id="k2"),
        switch("s1", "s2", id="k3", rating_a=20.0), switch("s2", "b3", id="k4", closed=False),
        switch("s3", "b2", id="k5"), {**line("s3", "s2", length_km=2.0, rating_a=100.0), "id": "s3-s2"},
    ]  # fmt: skip
    return network(*items)


@pytest.mark.parametrize("seed", range(10))
def test_states_of_switching_equal_load_flows_of_their_own(seed: int) -> None:
    net = switched_network(seed)
    variants = Variants(net, net.condition)
    arrays = variants.arrays
    closed = arrays.tables["switch"]["closed"].astype(bool)
    branches = len(arrays.tables["branch"]["element"])
    dice = np.random.default_rng(seed)
    compared = dead = 0
    for _ in range(14):
        state = np.where(dice.random(len(closed)) < 0.35, ~closed, closed)
        out = np.flatnonzero(dice.random(branches) < 0.1)
        exact, quick = variants.state(state, out), variants.switched(state, out)
        if quick is None or exact is None:
            continue
        compared += 1
        dead += int((~exact.live).sum())
        assert np.array_equal(quick.live, exact.live)
        assert np.max(np.abs(quick.v - exact.v)) < 1e-6
        assert np.array_equal(quick.kept, exact.kept)
        assert quick.used == pytest.approx(exact.used, rel=1e-5, abs=2e-5)
        assert quick.losses_mw == pytest.approx(exact.losses_mw, abs=1e-6)
    assert compared > 9
    assert dead


def test_what_starts_far_from_any_answer_is_left_to_the_exact_way() -> None:
    """A part that would need more than it can be sent: no answer, and none that is made up."""
    net = switched_network(0)
    items = [i | ({"active_power_mw": 400.0} if i["id"] == "load-s3" else {}) for i in net.to_items()]
    heavy = network(*items)
    variants = Variants(heavy, heavy.condition)
    closed = variants.arrays.tables["switch"]["closed"].astype(bool)
    assert variants.switched(closed, np.zeros(0, np.int64)) is None


def feeders(seed: int) -> Network:
    """Three stations on a ring of 33 kV with two sources, feeders with machines at and near their limits, ties between them."""
    dice = np.random.default_rng(seed)
    items = [bus("g", 33.0), bus("h", 33.0), source("g", voltage_pu=1.02), source("h", voltage_pu=1.015)]
    corners = ["g", "h", "a0", "a1", "a2"]
    items += [bus(a, 33.0) for a in corners[2:]]
    items += [{**line(a, b, length_km=float(dice.uniform(3, 9))), "id": f"ring-{a}"}
              for a, b in zip(corners, [*corners[1:], "g"], strict=True)]  # fmt: skip
    for s in range(3):
        items += [bus(f"s{s}", 11.0), transformer(f"a{s}", f"s{s}", rated_mva=16.0)]
        for f in range(3):
            before = f"s{s}"
            for k in range(5):
                at = f"n{s}{f}{k}"
                items += [
                    bus(f"{at}x", 11.0),
                    bus(at, 11.0),
                    load(at, *dice.uniform(0.05, 0.35, 2).tolist()),
                ]
                items += [
                    switch(before, f"{at}x", id=f"door-{at}"),
                    line(f"{at}x", at, length_km=float(dice.uniform(0.3, 1.5))),
                ]
                before = at
            if f < 2:
                low, high = sorted(dice.uniform(-0.4, 0.4, 2))
                items.append({"kind": "generator", "id": f"g{s}{f}", "bus": before, "active_power_mw": 0.5, "control": "voltage",
                              "voltage_pu": float(dice.uniform(0.98, 1.03)), "q_min_mvar": float(low),
                              "q_max_mvar": float(high)})  # fmt: skip
    ties = [("n004", "n014"), ("n014", "n104"), ("n124", "n204"), ("n104", "n214"), ("n024", "n224"), ("s0", "s1")]
    items += [switch(a, b, id=f"tie-{a}-{b}", closed=False) for a, b in ties]
    return network(*items)


@pytest.mark.parametrize("seed", range(8))
def test_what_is_solved_where_it_changes_equals_the_whole(seed: int) -> None:
    """Any few switches the other way and branches out: parts that go dead, are fed from elsewhere or from two sides, machines
    that meet limits and come back from them. The same voltages to 1e-6, the same dead parts; and seven of ten are found so."""
    net = feeders(seed)
    variants = Variants(net, net.condition)
    tables = variants.arrays.tables
    closed, branches = tables["switch"]["closed"].astype(bool), len(tables["branch"]["element"])
    assert variants.switched(closed, np.zeros(0, np.int64)) is not None
    way = variants._switched
    assert way is not None
    assert way._nearby is not None
    dice = np.random.default_rng(seed)
    met = moved = asked = dead = 0
    for _ in range(40):
        state = closed.copy()
        at = dice.choice(len(closed), int(dice.integers(1, 4)), replace=False)
        state[at] = ~state[at]
        out = dice.choice(branches, int(dice.integers(0, 2)), replace=False)
        kept = way._kept(state, out)
        quick, whole = way._nearby.solve(kept), way.whole(kept)
        if whole is None and quick is not None:  # found from here alone: a load flow of its own knows
            exact, found = variants.state(state, out), variants.switched(state, out)
            assert exact is not None
            assert found is not None
            assert np.max(np.abs(found.v - exact.v)) < 1e-6
        if whole is None:
            continue
        asked += 1
        if quick is None:
            continue
        met += 1
        assert np.array_equal(quick[1], whole[1])
        fed = ~whole[1]
        dead += int((~fed).sum())
        volts, right = (s.v * np.exp(1j * s.theta) for s, _ in (quick, whole))
        assert np.max(np.abs(volts - right)[fed]) < 1e-6
        moved += bool(np.max(np.abs(right - way._nearby._state.v * np.exp(1j * way._nearby._state.theta))[fed]) > 0.01)
    assert asked > 30
    assert met > 0.7 * asked
    assert moved > 10
    assert dead


def test_where_the_rest_itself_comes_apart_the_whole_is_solved() -> None:
    """A line of the ring out of service: the known state says nothing, and the answer is right all the same."""
    net = feeders(0)
    variants = Variants(net, net.condition)
    closed = variants.arrays.tables["switch"]["closed"].astype(bool)
    ring = [k for k, e in enumerate(variants.arrays.tables["branch"]["element"].tolist())
            if variants.arrays.element_id[e].startswith("ring-")]  # fmt: skip
    out = np.array(ring[:1])
    quick, exact = variants.switched(closed, out), variants.state(closed, out)
    way = variants._switched
    assert way is not None
    assert way._nearby is not None
    assert way._nearby.solve(way._kept(closed, out)) is None
    assert quick is not None
    assert exact is not None
    assert np.max(np.abs(quick.v - exact.v)) < 1e-6
