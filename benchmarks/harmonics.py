"""Frequencies and orders against the bare complex factorise-and-solve work inside them. A kind of ``run.py``."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np

STEP_HZ = 10.0  # of the scan of every bus: a tenth of the frequencies of the scan of one
FIFTY = [h for h in range(2, 77) if h % 3][:50]  # none of them of zero sequence


def measure_harmonics(n_bus: int) -> dict[str, Any]:
    """A scan of 50 to 2,500 Hz in steps of 1 Hz at one bus, and the distortion of eight orders from a hundred sources."""
    from synthetic import synthetic

    from vastmesh.core.network import Add, Load, Network, Update
    from vastmesh.core.results.state import LiveLoadFlow
    from vastmesh.core.studies.harmonics import ScanOptions
    from vastmesh.core.studies.harmonics._grid import Grid

    network: Network = synthetic(n_bus)
    loads = network.of(Load)
    chosen = loads[:: max(1, len(loads) // 100)][:100]
    network.apply([Update(id=e.id, values={"spectrum": "Six-pulse drive with choke"}) for e in chosen])
    found = LiveLoadFlow(network).linearise()
    assert found is not None
    bus = chosen[0].bus
    options = ScanOptions(bus=bus, step_hz=1.0)
    grid = Grid(network, found.reading, options)
    row = grid.row(bus)
    orders = np.arange(50, 2501) / 50
    some = orders[:: max(1, len(orders) // (400 if n_bus < 5000 else 60))]

    def whole() -> None:
        for h in some:
            grid.factorise(float(h))
            grid.unit(row)

    values = []
    for h in some[:20]:
        values.append(grid.values(float(h)).copy())
    lu, unit = grid._lu, np.zeros(grid.pattern.n, np.complex128)
    unit[row] = 1.0

    def bare() -> None:
        for k in range(len(some)):
            lu._klu.refactor(values[k % len(values)])
            lu.solve(unit)

    whole(), bare()
    took = {"whole": [], "bare": []}
    for _ in range(3):
        for name, work in (("whole", whole), ("bare", bare)):
            started = time.perf_counter()
            work()
            took[name].append((time.perf_counter() - started) * 1e3 / len(some))
    one, floor = min(took["whole"]), min(took["bare"])
    everywhere = _timed(lambda: (grid.factorise(float(some[3])), grid.everywhere()), 20)
    network.apply(
        [
            Add(
                item={
                    "kind": "own_type",
                    "id": "fifty",
                    "family": "spectrum",
                    "orders": "; ".join(f"{h} {100 / h:.3f}" for h in FIFTY),
                }
            )
        ]
    )
    seconds = {}
    for name, spectrum in (("8 orders", "Six-pulse drive with choke"), ("50 orders", "fifty")):
        network.apply([Update(id=e.id, values={"spectrum": spectrum}) for e in chosen])
        seconds[name] = _timed(lambda: _run("distortion", network), 2) / 1e3
    seconds["every bus"] = _timed(lambda: _run("resonances", network, step_hz=STEP_HZ, from_hz=50, to_hz=2500), 1) / 1e3
    return {
        "buses": n_bus, "one frequency, ms": one, "bare, ms": floor, "ratio": one / floor,
        "scan of 2,451, s": one * len(orders) / 1e3,
        "one at all buses, ms": everywhere, "ratio, all buses": everywhere / floor,
        f"{int(2450 / STEP_HZ) + 1} at all buses, s": seconds["every bus"],
        "distortion, 8 orders, s": seconds["8 orders"], "distortion, 50 orders, s": seconds["50 orders"],
    }  # fmt: skip


def _timed(work: Callable[[], Any], repeats: int) -> float:
    """Least milliseconds of several, after one that does not count."""
    work()
    took = []
    for _ in range(repeats):
        started = time.perf_counter()
        work()
        took.append((time.perf_counter() - started) * 1e3)
    return min(took)


def _run(name: str, network: Any, **options: Any) -> None:
    from vastmesh.core.studies import STUDIES, Inputs

    study = STUDIES[name]
    study.run(Inputs(network), study.options(**options), lambda share, words: None)
