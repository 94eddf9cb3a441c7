"""Switching on one sparsity equals the load flow of the network as it is switched, dead parts and rated switches included."""

from __future__ import annotations

import numpy as np
import pytest

from tests.core.test_outages import random_network
from tests.helpers import bus, line, load, network, switch
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
