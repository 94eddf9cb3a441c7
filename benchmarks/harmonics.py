"""Frequencies and orders against the bare complex factorise-and-solve work inside them. A kind of ``run.py``."""

from __future__ import annotations

import time
from typing import Any

import numpy as np


def measure_harmonics(n_bus: int) -> dict[str, Any]:
    """A scan of 50 to 2,500 Hz in steps of 1 Hz at one bus, and the distortion of eight orders from a hundred sources."""
    from synthetic import synthetic

    from vastmesh.core.network import Load, Network, Update
    from vastmesh.core.results.state import LiveLoadFlow
    from vastmesh.core.studies import STUDIES, Inputs
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
    study = STUDIES["distortion"]
    asked = study.options()
    study.run(Inputs(network), asked, lambda share, words: None)
    started = time.perf_counter()
    study.run(Inputs(network), asked, lambda share, words: None)
    return {"buses": n_bus, "one frequency, ms": one, "bare, ms": floor, "ratio": one / floor,
            "scan of 2,451, s": one * len(orders) / 1e3, "distortion, 8 orders, s": time.perf_counter() - started}  # fmt: skip
