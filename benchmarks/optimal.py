"""The optimal flow of a meshed network: iterations, time, a step against the bare factorisation of a matrix like its own."""

from __future__ import annotations

import time
from typing import Any

import numpy as np


def meshed(n: int, seed: int = 1) -> Any:
    """A network of 132 kV as it is meshed in the field: three branches for two buses, between neighbours; demand everywhere, a
    plant at every tenth bus, its cost rising."""
    from vastmesh.core.network import Network

    rng = np.random.default_rng(seed)
    items: list[dict[str, Any]] = [{"kind": "bus", "id": f"b{k}", "nominal_kv": 132} for k in range(n)]
    items.append({"kind": "source", "id": "s", "bus": "b0", "cost_per_mwh": 50.0, "cost_rising": 0.05})
    pairs = {(max(0, k - int(rng.integers(1, 12))), k) for k in range(1, n)}
    pairs |= {(k, min(n - 1, k + int(rng.integers(2, 25)))) for k in rng.choice(n, n // 2, replace=False).tolist()}
    for f, t in sorted(p for p in pairs if p[0] != p[1]):
        ends = {"id": f"l{f}-{t}", "from_bus": f"b{f}", "to_bus": f"b{t}"}
        items.append({"kind": "line", **ends, "r_ohm_per_km": 0.06, "x_ohm_per_km": 0.4, "b_us_per_km": 2.8,
                      "length_km": float(rng.uniform(3, 12)), "rating_a": 600.0})  # fmt: skip
    for k in range(n):
        items.append({"kind": "load", "id": f"d{k}", "bus": f"b{k}", "active_power_mw": float(rng.uniform(0.5, 6)),
                      "reactive_power_mvar": float(rng.uniform(0, 2))})  # fmt: skip
        if k % 10 == 5:
            items.append({"kind": "generator", "id": f"g{k}", "bus": f"b{k}", "active_power_mw": 30.0, "rated_mva": 80.0,
                          "control": "voltage", "q_min_mvar": -30, "q_max_mvar": 40,
                          "cost_per_mwh": float(rng.uniform(20, 60)), "cost_rising": float(rng.uniform(0.02, 0.3))})  # fmt: skip
    return Network.from_items(items)


def measure_optimal(n: int) -> dict[str, Any]:
    from scipy.sparse import bmat, csc_array, eye_array
    from scipy.sparse.linalg import splu

    from vastmesh.core.studies import Inputs
    from vastmesh.core.studies.optimal_flow import OptimalFlowOptions
    from vastmesh.core.studies.optimal_flow._build import build
    from vastmesh.core.studies.optimal_flow._prices import balance_jacobian
    from vastmesh.core.studies.optimal_flow._problem import solve
    from vastmesh.core.studies.optimal_flow._study import run_optimal_flow

    network = meshed(n)
    case = build(network, network.condition, OptimalFlowOptions())
    assert case is not None
    started = time.perf_counter()
    found = solve([case.state], lambda share, words: None)[0]
    took = time.perf_counter() - started
    started = time.perf_counter()
    run_optimal_flow(Inputs(network), OptimalFlowOptions(equations="linear"), lambda share, words: None)
    linear = time.perf_counter() - started
    jacobian = balance_jacobian(case.grid, found.v * np.exp(1j * found.theta))
    one = eye_array(jacobian.shape[0])
    kkt = csc_array(bmat([[one, jacobian.T], [jacobian, None]]))
    floor = []
    for _ in range(3):
        started = time.perf_counter()
        splu(kkt)
        floor.append(time.perf_counter() - started)
    return {"buses": n, "ending": found.ending, "iterations": found.iterations, "AC, s": took, "linear, s": linear,
            "a step, ms": 1e3 * took / max(found.iterations, 1), "bare factorisation, ms": 1e3 * min(floor),
            "ratio": took / max(found.iterations, 1) / min(floor)}  # fmt: skip
