"""Synthetic networks of any size: a meshed 132 kV grid with radial 11 kV feeders below it, seeded."""

from __future__ import annotations

from typing import Any

import numpy as np

from vastmesh.core.catalogue import typical_transformer
from vastmesh.core.network import Network

Item = dict[str, Any]
_FEEDERS, _NODES = 6, 12  # feeders of a substation, nodes of a feeder
_PER_SITE = 2 + _FEEDERS * _NODES


def synthetic(n_bus: int, seed: int = 1) -> Network:
    """About ``n_bus`` buses: a 132 kV grid on a square lattice, at every crossing a 132/11 kV station with feeders."""
    rng = np.random.default_rng(seed)
    sites = max(round(n_bus / _PER_SITE), 2)
    side = int(np.ceil(np.sqrt(sites)))
    items: list[Item] = []
    for s in range(sites):
        items += _site(s, rng)
        row, col = divmod(s, side)
        for other in ([s - 1] if col else []) + ([s - side] if row else []):
            items.append(
                {"kind": "line", "id": f"grid-{other}-{s}", "from_bus": f"H{other}", "to_bus": f"H{s}",
                 "length_km": float(rng.uniform(4, 9)), "type": "Al/St 380 132 kV overhead", "parallel": 2}
            )  # fmt: skip
    for s in range(0, sites, 9):  # supply points all over the grid
        items.append({"kind": "source", "id": f"S{s}", "bus": f"H{s}", "voltage_pu": 1.02})
    return Network.from_items(items)


def _site(s: int, rng: np.random.Generator) -> list[Item]:
    high, low = f"H{s}", f"L{s}"
    items: list[Item] = [
        {"kind": "bus", "id": high, "nominal_kv": 132.0},
        {"kind": "bus", "id": low, "nominal_kv": 11.0},
        {"kind": "transformer", "id": f"T{s}", "hv_bus": high, "lv_bus": low, "rated_mva": 40.0,
         **typical_transformer(40.0, 132.0, 11.0), "tap_position": -3},
    ]  # fmt: skip
    for f in range(_FEEDERS):
        before = low
        for k in range(_NODES):
            node = f"N{s}.{f}.{k}"
            parent = before if k % 4 != 3 else f"N{s}.{f}.{k - 2}"
            items += [
                {"kind": "bus", "id": node, "nominal_kv": 11.0},
                {"kind": "line", "id": f"F{s}.{f}.{k}", "from_bus": parent, "to_bus": node,
                 "length_km": float(rng.uniform(0.2, 0.9)), "type": "Al 1×185 XLPE 11 kV cable"},
                {"kind": "load", "id": f"D{s}.{f}.{k}", "bus": node, "active_power_mw": float(rng.uniform(0.1, 0.4)),
                 "power_factor": 0.95},
            ]  # fmt: skip
            before = node
        if f == 0:
            items.append(
                {"kind": "generator", "id": f"G{s}", "bus": before, "active_power_mw": 1.0, "rated_mva": 2.0,
                 "control": "voltage", "voltage_pu": 1.0, "q_min_mvar": -0.6, "q_max_mvar": 0.6}
            )  # fmt: skip
    return items
