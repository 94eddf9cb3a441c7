"""Many states solved side by side equal load flows one by one; who calls for a decision is left to be solved alone."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

import numpy as np
import pytest

from tests.core.test_outages import random_network
from tests.helpers import bus, line, load, network, run_study, source
from vastmesh.core.electrical import NetArrays, compile_network
from vastmesh.core.electrical.arrays import Floats
from vastmesh.core.flow import Ending
from vastmesh.core.flow.balanced import LoadFlowOptions, Problem, Solution, solve_several
from vastmesh.core.network import Load, Network, Update
from vastmesh.core.network.elements.profile import pack
from vastmesh.core.network.hours import at_moment
from vastmesh.core.results.state import run_load_flow

TIGHT = LoadFlowOptions(tolerance_pu=1e-12)


def powers(arrays: NetArrays, factors: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    load, machine = arrays.tables["load"], arrays.tables["injection"]
    grown = factors[:, None]
    return grown * load["p"], grown * load["q"], np.repeat(machine["p"][None], len(factors), 0), grown * machine["q"]


def alone(problem: Problem, arrays: NetArrays, p: tuple[Floats, ...], k: int, options: LoadFlowOptions) -> Solution:
    tables = dict(arrays.tables)
    tables["load"] = {**tables["load"], "p": p[0][k], "q": p[1][k]}
    tables["injection"] = {**tables["injection"], "p": p[2][k], "q": p[3][k]}
    return problem.solve(replace(arrays, tables=tables), options)


@pytest.mark.parametrize("seed", range(12))
@pytest.mark.parametrize(
    "options", [TIGHT, TIGHT.model_copy(update={"low_voltage_pu": 0.9})], ids=["constant", "eased"]
)
def test_every_state_that_is_met_equals_a_load_flow_of_its_own(seed: int, options: LoadFlowOptions) -> None:
    """From no demand to far beyond what the network carries, with a machine that meets both its limits on the way and demand
    that depends on voltage."""
    net = random_network(seed)
    dice = np.random.default_rng(seed)
    parts = dice.dirichlet((1, 1, 1), len(list(net.of(Load))))
    loads = [Update(id=e.id, values={"constant_power_pct": 100 - 100 * (a + b), "constant_current_pct": 100 * a,
                                      "constant_impedance_pct": 100 * b})
             for e, (a, b, _) in zip(net.of(Load), parts.tolist(), strict=True)]  # fmt: skip
    if seed % 2:
        net.apply(loads)
    arrays = compile_network(net)
    problem = Problem(arrays)
    factors = dice.permutation(np.concatenate([np.linspace(0.0, 2.0, 37), [4.0, 8.0, 40.0]]))
    p = powers(arrays, factors)
    start = problem.solve(arrays, options)
    assert start.attempt.ending is Ending.CONVERGED
    net_powers = problem.net_of_several(arrays, *p)
    found = solve_several(problem, problem.admittance(arrays), net_powers, start.targets, start.attempt.state, options)
    checked = 0
    for k in np.flatnonzero(found.met).tolist():
        one = alone(problem, arrays, p, k, options)
        assert one.attempt.ending is Ending.CONVERGED
        assert np.max(np.abs(found.v[k] - one.attempt.state.v)) < 1e-9
        assert np.max(np.abs(found.theta[k] - one.attempt.state.theta)) < 1e-9
        assert np.array_equal(one.attempt.at_limit, start.attempt.at_limit)
        checked += 1
    assert checked > 4
    for k in np.flatnonzero(~found.met).tolist():
        # Only for a reason: it has no answer, a machine switches, or a voltage is low enough to be looked at.
        one = alone(problem, arrays, p, k, options)
        usual = np.where(one.targets.node_type > 0, one.targets.voltage, 1.0)
        assert (
            one.attempt.ending is not Ending.CONVERGED
            or not np.array_equal(one.attempt.at_limit, start.attempt.at_limit)
            or float(np.min(one.attempt.state.v / usual)) < (0.96 if start.attempt.at_limit.any() else 0.82)
            or float(np.min(one.attempt.state.v)) < options.low_voltage_pu
        ), factors[k]


def driven(seed: int, hours: int = 60) -> Network:
    """A random network through hours in which its machine meets its limits, and in one of which nothing can be carried."""
    net = random_network(seed)
    dice = np.random.default_rng(100 + seed)
    shape = np.clip(1.0 + 0.8 * np.sin(np.arange(hours) / 4) + 0.1 * dice.standard_normal(hours), 0.05, None)
    shape[41] = 100.0
    settings = {"kind": "settings", "id": "settings", "automatic": False, "tolerance_pu": 1e-11}
    items = [*net.to_items(), settings, {"kind": "profile", "id": "p", "name": "p", "packed": pack(shape.tolist())}]
    return Network.from_items(items)


@pytest.mark.parametrize("seed", range(6))
def test_hours_with_limits_and_one_without_an_answer_equal_single_load_flows(seed: int) -> None:
    net = driven(seed)
    found = run_study("over_time", net)
    assert found.summary["steps_without_solution"] == 1
    steps, condition = found.tables["steps"], net.condition
    lost = 0.0
    first = datetime.strptime(steps["begins"][0], "%Y-%m-%d %H:%M")
    for n in range(60):
        moment = first + timedelta(hours=n)
        flow = run_load_flow(net, TIGHT.model_copy(update={"automatic": False}), at_moment(net, condition, moment))
        if n == 41:
            assert not flow.account.converged
            assert not np.isfinite(steps["losses_mw"][n])
            continue
        assert flow.account.converged
        assert steps["lowest_pu"][n] == pytest.approx(np.nanmin(flow.tables["buses"]["voltage_pu"]), abs=1e-8)
        assert steps["highest_pu"][n] == pytest.approx(np.nanmax(flow.tables["buses"]["voltage_pu"]), abs=1e-8)
        assert steps["losses_mw"][n] == pytest.approx(flow.summary["active_loss_mw"], abs=1e-6)
        assert steps["worst_pct"][n] == pytest.approx(np.nanmax(flow.tables["branches"]["loading_pct"]), rel=1e-6)
        lost += float(flow.summary["active_loss_mw"] or 0.0)
    assert found.summary["losses_mwh"] == pytest.approx(lost, rel=1e-6)


def test_where_hours_do_not_go_together_little_is_solved_in_vain(monkeypatch: pytest.MonkeyPatch) -> None:
    """Voltages so low in every hour that each has to be looked at by itself."""
    tried: list[int] = []

    def counted(*given: Any) -> Any:
        tried.append(len(given[2]))
        return solve_several(*given)

    monkeypatch.setattr("vastmesh.core.studies.over_time._run.solve_several", counted)
    shape = [1.0 + 0.01 * (k % 7) for k in range(480)]
    net = network(
        bus("a"), bus("b"), source("a"), line("a", "b", length_km=5.0), load("b", 9.9, 2.2),
        {"kind": "profile", "id": "p", "name": "p", "packed": pack(shape)},
    )  # fmt: skip
    found = run_study("over_time", net, days=20.0)
    assert found.summary["steps"] == 480
    assert found.summary["steps_without_solution"] == 0
    assert float(np.max(found.tables["steps"]["lowest_pu"])) < 0.8
    assert tried
    assert sum(tried) < 200
