"""Outages on meshed networks: work per outage in bare Newton steps, one process and two, screening alone."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
from synthetic import Item, synthetic

from vastmesh.core.electrical import compile_network
from vastmesh.core.flow.balanced import LoadFlowOptions, Without
from vastmesh.core.network import Network


def meshed(n_bus: int, seed: int = 3) -> Network:
    """A grid of 132 kV with a source at every 15th crossing, a load at every bus, machines at one bus in twenty, rated lines."""
    dice = np.random.default_rng(seed)
    side = int(np.sqrt(n_bus))
    items: list[Item] = []
    for r in range(side):
        for c in range(side):
            b = f"b{r}-{c}"
            items.append({"kind": "bus", "id": b, "nominal_kv": 132.0})
            p = float(dice.uniform(0.5, 4.0))
            items.append(
                {"kind": "load", "id": f"l{b}", "bus": b, "active_power_mw": p, "reactive_power_mvar": 0.3 * p}
            )
            if dice.random() < 0.05:
                items.append({"kind": "generator", "id": f"g{b}", "bus": b, "active_power_mw": 30.0, "rated_mva": 50.0,
                              "control": "voltage", "voltage_pu": 1.01, "q_min_mvar": -20.0, "q_max_mvar": 25.0})  # fmt: skip
            for dr, dc in ((0, 1), (1, 0)):
                if r + dr < side and c + dc < side and dice.random() < 0.85:
                    items.append({
                        "kind": "line", "id": f"{b}>{dr}{dc}", "from_bus": b, "to_bus": f"b{r + dr}-{c + dc}",
                        "length_km": float(dice.uniform(3, 12)), "r_ohm_per_km": 0.08, "x_ohm_per_km": 0.4, "b_us_per_km": 2.8,
                        "rating_a": 600.0,
                    })  # fmt: skip
    for r in range(0, side, 15):
        for c in range(0, side, 15):
            items.append({"kind": "source", "id": f"s{r}-{c}", "bus": f"b{r}-{c}", "voltage_pu": 1.02})
    return Network.from_items(items)


def measure_outages(n_bus: int, most: int = 300) -> dict[str, Any]:
    """Milliseconds per outage, and that in bare Newton steps of the same network (evaluation, factors, solution)."""
    from vastmesh.core.flow.balanced._methods import NewtonStep
    from vastmesh.core.flow.balanced._run import Run

    net = meshed(n_bus)
    ready = Without(compile_network(net), net.condition, LoadFlowOptions(), controls=False)
    assert ready.solved
    lines = [i.id for i in net.elements() if i.kind == "line"]
    chosen = [lines[k] for k in np.linspace(0, len(lines) - 1, min(most, len(lines))).astype(int).tolist()]
    run = Run(ready.problem, ready.nodal, ready.solution.targets, ready.start, ready.options)
    step = NewtonStep.of(ready.problem)

    def bare() -> None:
        run.evaluate(run.state)
        step.direction_again(run.jac, run.f)

    ready.lose([chosen[0]])
    own, steps, times = 0, [], []
    for ident in chosen:
        began = time.perf_counter()
        after = ready.lose([ident])
        times.append(time.perf_counter() - began)
        own += after.own
        began = time.perf_counter()
        bare()
        steps.append(time.perf_counter() - began)
    per, one = float(np.median(times)) * 1e3, float(np.median(steps)) * 1e3
    return {
        "buses": len(ready.arrays.bus_id), "outages": len(chosen), "ms per outage": round(per, 3), "bare step ms": round(one, 3),
        "steps": round(per / one, 2), "mean ms": round(float(np.mean(times)) * 1e3, 3), "on a topology of their own": own,
        "all lines, s": round(float(np.mean(times)) * len(lines), 1),
    }  # fmt: skip


def measure_in_parts(workers: int) -> dict[str, Any]:
    """All single lines of 1,000 buses through the runner, with so many processes that are warm; memory of the service."""
    import psutil

    from vastmesh.core.studies import STUDIES, Inputs
    from vastmesh.runner import LocalPool, Runner

    net, study = meshed(1000), STUDIES["outages"]
    pool = LocalPool(workers)
    runner = Runner(pool=pool)
    took = []
    before = psutil.Process().memory_info().rss
    for _ in range(3):
        job = runner.submit(study, Inputs(net), study.options(of="lines"), project="bench")
        job.wait(900)
        assert job.record.state == "finished", job.record.problem
        took.append(job.record.took_s)
    grown = (psutil.Process().memory_info().rss - before) / 1e6
    runner.close()
    pool.close()
    lines = sum(1 for i in net.elements() if i.kind == "line")
    return {"workers": workers, "outages": lines, "seconds": min(took), "memory more, MB": grown}


def measure_year(n_bus: int) -> dict[str, Any]:
    """Steps of a year, from ten days: milliseconds, and that in bare Newton steps; no buses: the demonstration."""
    import runpy
    from pathlib import Path

    from vastmesh.core.flow.balanced._methods import NewtonStep
    from vastmesh.core.flow.balanced._run import Run as Iteration
    from vastmesh.core.network.elements.profile import pack
    from vastmesh.core.studies import Inputs
    from vastmesh.core.studies.over_time._options import OverTimeOptions
    from vastmesh.core.studies.over_time._run import BalancedRun

    if n_bus:
        plain = synthetic(n_bus).to_items()
        dice = np.random.default_rng(1)
        shape = (0.6 + 0.3 * np.sin(2 * np.pi * np.arange(240) / 24) + 0.03 * dice.standard_normal(240)).tolist()
        net = Network.from_items([*plain, {"kind": "profile", "id": "p", "packed": pack(shape)}])
    else:
        net = runpy.run_path(str(Path(__file__).parents[1] / "demo" / "corvane_coast.py"))["network"]()
    run = BalancedRun(Inputs(net), OverTimeOptions(days=10.0))
    n = run.advance(run.advance(0))  # the second one compiles
    first, began = n, time.perf_counter()
    while n < run.clock.count:
        n = run.advance(n)
    per = (time.perf_counter() - began) / (n - first) * 1e3
    arrays = run.drive.at(100)
    problem = run.problem
    solution = problem.solve(arrays, run.load_flow, run.last)
    iteration = Iteration(problem, problem.admittance(arrays), solution.targets, solution.attempt.state, run.load_flow)
    step = NewtonStep.of(problem)
    for turn in range(61):
        if turn == 1:  # the first one loads what is compiled
            began = time.perf_counter()
        iteration.evaluate(iteration.state)
        step.direction_again(iteration.jac, iteration.f)
    one = (time.perf_counter() - began) / 60 * 1e3
    return {"buses": problem.n, "ms per hour": round(per, 3), "bare step ms": round(one, 3), "steps": round(per / one, 2),
            "a year, s": round(per * 8.76, 1)}  # fmt: skip
