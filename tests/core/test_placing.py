"""Places of capacitors and regulators against exhaustive search by load flows of their own."""

from __future__ import annotations

from itertools import combinations, product
from typing import Any

import numpy as np
import pytest

from tests.helpers import at, bus, line, load, network, run_study, source
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Add, Network, SchemeChange
from vastmesh.core.results.state import solve_as_set


def feeder(seed: int, *more: dict[str, Any]) -> Network:
    rng = np.random.default_rng(seed)
    items: list[dict[str, Any]] = [bus("s", 11), source("s", voltage_pu=1.0)]
    last = "s"
    for k in range(4):
        items += [bus(f"n{k}", 11), load(f"n{k}", float(rng.uniform(0.3, 1.2)), float(rng.uniform(0.2, 0.9))),
                  line(last, f"n{k}", id=f"l{k}", length_km=float(rng.uniform(1, 3)), r_ohm_per_km=0.35, x_ohm_per_km=0.35,
                       b_us_per_km=3.0, rating_a=400.0)]  # fmt: skip
        last = f"n{k}"
    return network(*items, *more)


def losses(net: Network) -> float:
    flow = solve_as_set(net)
    assert flow.account.converged
    return float(flow.summary["active_loss_mw"] or 0.0)


def bank(place: str, n: int) -> Add:
    return Add(
        item={"kind": "shunt", "id": f"c-{place}", "bus": place, "step_mvar": 0.3, "steps": max(n, 1), "steps_on": n}
    )


PRICES = {"loss_price": 60.0, "limit_price": 0.0, "cost_mvar": 900.0, "step_mvar": 0.3, "steps": 2}


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("method", ["exchange", "exact"])
def test_capacitors_stand_where_exhaustive_search_puts_them(seed: int, method: str) -> None:
    net = feeder(seed)
    result = run_study("placing", net, most=2, method=method, over="present", switched=False, **PRICES)
    best = losses(net) * 8760 * 60
    places = ["s", *(f"n{k}" for k in range(4))]
    for count in (1, 2):
        for where in combinations(places, count):
            for sizes in product([1, 2], repeat=count):
                tried = net.copy()
                tried.apply([bank(p, n) for p, n in zip(where, sizes, strict=True)])
                best = min(best, losses(tried) * 8760 * 60 + 900 * 0.3 * sum(sizes))
    assert result.summary["cost"] == pytest.approx(best, rel=1e-6)
    with_it = net.copy()
    with_it.apply([SchemeChange.model_validate(c).change for c in result.scheme])
    devices = float(np.sum(result.tables["places"]["cost"]))
    assert losses(with_it) * 8760 * 60 + devices == pytest.approx(best, rel=1e-6)
    assert float(np.sum(result.tables["places"]["gain"])) == pytest.approx(result.summary["saved"], rel=1e-6)


def test_steps_that_go_with_the_condition_save_more_than_fixed_ones() -> None:
    conditions = (
        {"kind": "condition", "id": "light", "demand_factor": 0.15},
        {"kind": "condition", "id": "full", "demand_factor": 1.0},
    )
    net = feeder(1, *conditions)
    fixed = run_study("placing", net, most=1, switched=False, **PRICES)
    switched = run_study("placing", net, most=1, **PRICES)
    assert switched.summary["cost"] < fixed.summary["cost"]  # type: ignore[operator]
    assert len(switched.tables["conditions"]) == 2


def test_a_regulator_lifts_what_lies_behind_it() -> None:
    net = feeder(2)
    net.apply([Add(item={"kind": "load", "id": "far", "bus": "n3", "active_power_mw": 1.6, "reactive_power_mvar": 0.6}),
               Add(item={"kind": "voltage_limits", "id": "v", "low_breach_pu": 0.95, "low_watch_pu": 0.96})])  # fmt: skip
    before = solve_as_set(net)
    assert at(before, "buses", "n3", "voltage_pu") < 0.95
    result = run_study("placing", net, devices="regulators", most=1, over="present", limit_price=50.0)
    assert result.summary["devices"] == 1, result.statement
    assert result.tables["conditions"]["excess"][0] == pytest.approx(0.0, abs=1e-3)
    with_it = net.copy()
    with_it.apply([SchemeChange.model_validate(c).change for c in result.scheme])
    after = solve_as_set(with_it)
    assert at(after, "buses", "n3", "voltage_pu") >= 0.95 - 1e-4
    assert after.summary["active_loss_mw"] == pytest.approx(result.tables["conditions"]["losses_mw"][0], rel=1e-3)


def test_where_nothing_pays_nothing_is_placed_and_what_can_t_be_is_said() -> None:
    net = feeder(0)
    assert "No device pays" in run_study("placing", net, cost_mvar=1e6, over="present").statement
    with pytest.raises(InvalidFields, match="widen the voltages"):
        run_study("placing", net, above_kv=50.0, up_to_kv=60.0)
    with pytest.raises(InvalidFields, match="more than 5000"):
        run_study("placing", net, method="exact", most=6, steps=5)
