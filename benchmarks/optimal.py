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
    # One source does not carry ten thousand buses at this voltage.
    more = range(500, n, 500) if n > 3000 else ()
    items += [{**items[-1], "id": f"s{k}", "bus": f"b{k}"} for k in more]
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


def _timed(work: Any) -> tuple[float, Any]:
    started = time.perf_counter()
    found = work()
    return time.perf_counter() - started, found


def measure_optimal(n: int) -> dict[str, Any]:
    """AC: from scratch, again with other demand (nothing is built anew), a bare factorisation of a matrix like that of a step."""
    from scipy.sparse import bmat, csc_array, eye_array
    from scipy.sparse.linalg import splu

    from vastmesh.core.network import Update
    from vastmesh.core.studies.optimal_flow import OptimalFlowOptions, _problem
    from vastmesh.core.studies.optimal_flow._build import build
    from vastmesh.core.studies.optimal_flow._grid import Rows, Soft
    from vastmesh.core.studies.optimal_flow._prices import balance_jacobian

    network = meshed(n)
    options = OptimalFlowOptions()
    building, case = _timed(lambda: build(network, network.condition, options))
    took, found = _timed(lambda: _problem.solve([case.state], lambda share, words: None)[0])
    network.apply([Update(id=f"d{k}", values={"active_power_mw": 2.0}) for k in range(0, n, 7)])
    arrays_s, other = _timed(lambda: build(network, network.condition, options))
    again, second = _timed(lambda: _problem.solve([other.state], lambda share, words: None)[0])
    lookup, _ = _timed(lambda: _problem._program([other.state], Rows(), Soft()))
    jacobian = balance_jacobian(case.grid, found.v * np.exp(1j * found.theta))
    one = eye_array(jacobian.shape[0])
    kkt = csc_array(bmat([[one, jacobian.T], [jacobian, None]]))
    floor = min(_timed(lambda: splu(kkt))[0] for _ in range(3))
    step = again / max(second.iterations, 1)
    return {"buses": n, "ending": found.ending, "iterations": found.iterations, "AC, s": took, "arrays, s": building,
            "again: iterations": second.iterations, "again, s": again, "rebuilding, % of again": 100 * lookup / again,
            "arrays again, s": arrays_s, "a step, ms": 1e3 * step, "bare factorisation, ms": 1e3 * floor,
            "ratio": step / floor}  # fmt: skip


def measure_linear(n: int) -> dict[str, Any]:
    """The linear one: with costs that rise (quadratic), and without."""
    from vastmesh.core.network import Update
    from vastmesh.core.studies.optimal_flow import OptimalFlowOptions
    from vastmesh.core.studies.optimal_flow._build import build
    from vastmesh.core.studies.optimal_flow._linear import solve_linear
    from vastmesh.core.studies.optimal_flow._linear_study import drawn_of, linear_branches

    network = meshed(n)
    options = OptimalFlowOptions(equations="linear")
    found: dict[str, Any] = {"buses": n}
    for name in ("quadratic", "linear"):
        arrays_s, case = _timed(lambda: build(network, network.condition, options))
        took, answer = _timed(
            lambda case=case: solve_linear([case.state], linear_branches(case), [drawn_of(case)])[0][0]
        )
        found |= {f"{name}: arrays, s": arrays_s, f"{name}, s": took, f"{name}: value": answer.value}
        network.apply(
            [
                Update(id=e.id, values={"cost_rising": 0.0})
                for e in network.elements()
                if e.kind in ("generator", "source")
            ]
        )
    return found


def measure_day(n: int) -> dict[str, Any]:
    """A day of 24 hours with two storages."""
    from vastmesh.core.network import Add
    from vastmesh.core.studies import Inputs
    from vastmesh.core.studies.optimal_flow import OptimalFlowOptions, run_optimal_flow

    network = meshed(n)
    network.apply([Add(item={"kind": "generator", "id": f"st{k}", "bus": f"b{k}", "energy": "storage", "rated_mva": 30.0,
                             "active_power_mw": 0.0, "energy_mwh": 120.0, "control": "voltage", "q_min_mvar": -20,
                             "q_max_mvar": 20})
                   for k in (7, n // 2)])  # fmt: skip
    found: dict[str, Any] = {"buses": n}
    for equations in ("linear", "exact"):
        options = OptimalFlowOptions(time="day", equations=equations)
        took, result = _timed(
            lambda options=options: run_optimal_flow(Inputs(network), options, lambda share, words: None)
        )
        found |= {f"{equations}, s": took, f"{equations}: cost": result.summary.get("cost")}
    return found
