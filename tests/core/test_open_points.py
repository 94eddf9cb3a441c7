"""Open points against exhaustive search by load flows of their own."""

from __future__ import annotations

from itertools import combinations
from typing import Any

import numpy as np
import pytest

from tests.helpers import bus, line, load, network, run_study, source
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Network, SchemeChange, Update
from vastmesh.core.results.state import solve_as_set


def feeder(seed: int) -> Network:
    """Two or three radial feeders of 11 kV with ties between them."""
    rng = np.random.default_rng(seed)
    items: list[dict[str, Any]] = [bus("s", 11), source("s", voltage_pu=1.02)]
    ends = []
    count = 0
    for f in range(int(rng.integers(2, 4))):
        last = "s"
        for _ in range(int(rng.integers(2, 4))):
            name = f"n{count}"
            count += 1
            items += [bus(name, 11), load(name, float(rng.uniform(0.3, 1.5)), float(rng.uniform(0.05, 0.4))),
                      line(last, name, id=f"l{count}", length_km=float(rng.uniform(0.5, 3)), r_ohm_per_km=0.3, x_ohm_per_km=0.3,
                           b_us_per_km=3.0, rating_a=400.0)]  # fmt: skip
            last = name
        ends.append(last)
        assert f >= 0
    for k, (a, b) in enumerate([*combinations(ends, 2)][:2]):
        items.append({"kind": "switch", "id": f"t{k}", "from_bus": a, "to_bus": b, "closed": False})
    return network(*items)


def best_by_trying(net: Network) -> float:
    """Least losses of every radial way to switch, each by a load flow of the network."""
    edges = [e.id for e in net.elements() if e.kind in ("line", "switch")]
    ties = [e.id for e in net.elements() if e.kind == "switch"]
    buses = [e.id for e in net.elements() if e.kind == "bus"]
    least = np.inf
    for opened in combinations(edges, len(ties)):
        tried = net.copy()
        tried.apply(
            [
                Update(id=i, values={"closed": i not in opened} if i in ties else {"in_service": i not in opened})
                for i in edges
            ]
        )
        flow = solve_as_set(tried)
        if not flow.account.converged:
            continue
        volts = dict(zip(flow.tables["buses"]["id"], flow.tables["buses"]["voltage_pu"], strict=True))
        if len(volts) < len(buses) or any(np.isnan(volts[b]) for b in buses):
            continue
        if any(f.severity == "breach" for f in flow.findings):
            continue
        least = min(least, flow.summary["active_loss_mw"])  # type: ignore[type-var]
    return least


@pytest.mark.parametrize("seed", range(5))
@pytest.mark.parametrize("method", ["exchange", "exact", "mixed_integer"])
def test_the_open_points_are_the_best_of_all(seed: int, method: str) -> None:
    net = feeder(seed)
    result = run_study("open_points", net, method=method)
    least = best_by_trying(net)
    assert result.summary["losses_mw"] == pytest.approx(least, rel=1e-6)
    with_it = net.copy()
    with_it.apply([SchemeChange.model_validate(c).change for c in result.scheme])
    flow = solve_as_set(with_it)
    assert flow.summary["active_loss_mw"] == pytest.approx(result.summary["losses_mw"], rel=1e-6)
    gains = np.nansum(result.tables["changes"]["gain_kw"])
    assert gains == pytest.approx(1e3 * (result.summary["losses_mw_before"] - result.summary["losses_mw"]), abs=1e-6)  # type: ignore[operator]


def test_a_loop_is_opened_where_it_costs_least() -> None:
    net = feeder(1)
    ties = [e.id for e in net.elements() if e.kind == "switch"]
    net.apply([Update(id=i, values={"closed": True}) for i in ties])
    meshed = run_study("open_points", net, loops="none")
    radial = run_study("open_points", feeder(1), method="exact")
    assert meshed.summary["losses_mw"] == pytest.approx(radial.summary["losses_mw"], rel=1e-6)
    assert len(meshed.tables["open"]) == len(ties)


def test_few_changes_and_the_lowest_loading() -> None:
    net = feeder(3)
    one = run_study("open_points", net, most_changes=1, method="exact")
    any_ = run_study("open_points", net, method="exact")
    assert any_.summary["losses_mw"] <= one.summary["losses_mw"]  # type: ignore[operator]
    assert len(one.tables["changes"]) <= 2
    low = run_study("open_points", net, best="loading", method="exact")
    assert low.summary["worst_pct"] <= any_.summary["worst_pct"] + 1e-9  # type: ignore[operator]


def test_conditions_count_together() -> None:
    """Losses are the mean of both conditions, each by a load flow of the network with the answer; and no lower one is missed."""
    conditions = [
        {"kind": "condition", "id": "c1", "demand_factor": 0.5},
        {"kind": "condition", "id": "c2", "demand_factor": 1.1},
    ]
    net = Network.from_items(
        [*feeder(2).to_items(), *conditions, {"kind": "settings", "id": "settings", "condition": "c1"}]
    )

    def mean(changed: Network) -> float:
        losses = []
        for ident in ("c1", "c2"):
            under = changed.copy()
            under.apply([Update(id="settings", values={"condition": ident})])
            losses.append(solve_as_set(under).summary["active_loss_mw"])
        return float(np.mean(losses))

    result = run_study("open_points", net, over="conditions", method="exact")
    with_it = net.copy()
    with_it.apply([SchemeChange.model_validate(c).change for c in result.scheme])
    assert mean(with_it) == pytest.approx(result.summary["losses_mw"], rel=1e-6)
    assert result.summary["losses_mw"] < mean(net)  # type: ignore[operator]
    assert run_study("open_points", net, over="conditions").summary["losses_mw"] == pytest.approx(
        result.summary["losses_mw"], rel=1e-9
    )


def test_what_can_t_be_is_said() -> None:
    with pytest.raises(InvalidFields, match="ties"):
        run_study("open_points", network(bus("a", 11), bus("b", 11), source("a"), load("b", 1.0), line("a", "b")))
    net = feeder(0)
    with pytest.raises(InvalidFields, match="one condition"):
        run_study("open_points", net, method="mixed_integer", over="conditions")
    with pytest.raises(InvalidFields, match="nothing that is live"):
        run_study("open_points", net, up_to_kv=1.0)
