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


def unbalanced_feeder(nodes: int, seed: int = 1) -> Network:
    """An 11 kV feeder with four-wire 400 V streets below it, single-phase loads and laterals: about so many conductor nodes."""
    rng = np.random.default_rng(seed)
    items: list[Item] = [
        {"kind": "settings", "id": "settings", "name": "Feeder", "base_mva": 10.0, "study": "per_phase"},
        {"kind": "bus", "id": "b0", "nominal_kv": 11.0},
        {"kind": "source", "id": "grid", "bus": "b0", "voltage_pu": 1.04, "fault_max_mva": 300.0, "fault_min_mva": 200.0},
    ]  # fmt: skip
    trunk, made, k = ["b0"], 3, 0
    while made < nodes:
        k += 1
        here = f"m{k}"
        items += [
            {"kind": "bus", "id": here, "nominal_kv": 11.0},
            {"kind": "line", "id": f"F{k}", "from_bus": trunk[max(0, len(trunk) - 1 - int(rng.integers(0, 4)))], "to_bus": here,
             "length_km": float(rng.uniform(0.03, 0.15)), "type": "Al 1×300 XLPE 11 kV cable"},
        ]  # fmt: skip
        trunk.append(here)
        made += 3
        if k % 2 == 0:
            street, count = _street(k, here, rng)
            items += street
            made += count
    return Network.from_items(items)


def _street(k: int, above: str, rng: np.random.Generator) -> tuple[list[Item], int]:
    """A transformer with a street of homes; its items and how many conductor nodes they add."""
    head = f"t{k}"
    items: list[Item] = [
        {"kind": "bus", "id": head, "nominal_kv": 0.4, "conductors": "ABCN"},
        {"kind": "transformer", "id": f"T{k}", "hv_bus": above, "lv_bus": head, "rated_mva": 0.2, "vector_group": "Dyn11",
         **{f: v for f, v in typical_transformer(0.2, 11.0, 0.4).items() if f != "vector_group"}},
    ]  # fmt: skip
    made, before = 4, head
    for j in range(int(rng.integers(8, 20))):
        node, phase = f"{head}.{j}", "ABC"[int(rng.integers(3))]
        lateral = rng.random() < 0.25
        conductors = f"{phase}N" if lateral else "ABCN"
        items += [
            {"kind": "bus", "id": node, "nominal_kv": 0.4, "conductors": conductors},
            {"kind": "line", "id": f"S{node}", "from_bus": before, "to_bus": node, "length_km": 0.02,
             "type": "Al 4×95 XLPE 0.4 kV cable" if lateral else "Al 4×185 XLPE 0.4 kV cable", "conductors": conductors},
        ]  # fmt: skip
        made += len(conductors)
        for home in range(1 if lateral else 2):
            on = phase if lateral else "ABC"[int(rng.integers(3))]
            items.append({"kind": "load", "id": f"D{node}.{home}", "bus": node, "conductors": f"{on}N", "power_factor": 0.96,
                          "active_power_mw": float(rng.uniform(0.0003, 0.0022))})  # fmt: skip
        before = before if lateral else node
    return items, made


def street_of_homes(loads: int, seed: int = 1) -> Network:
    """One street with so many single-phase loads, most of them on one phase."""
    rng = np.random.default_rng(seed)
    items: list[Item] = [
        {"kind": "settings", "id": "settings", "name": "Street", "base_mva": 1.0, "study": "per_phase"},
        {"kind": "bus", "id": "m", "nominal_kv": 11.0},
        {"kind": "source", "id": "grid", "bus": "m", "fault_max_mva": 100.0, "fault_min_mva": 80.0},
        {"kind": "bus", "id": "n0", "nominal_kv": 0.4, "conductors": "ABCN"},
        {"kind": "transformer", "id": "T", "hv_bus": "m", "lv_bus": "n0", "rated_mva": 0.4, "hv_kv": 11.0, "lv_kv": 0.41,
         "impedance_pct": 4.0, "vector_group": "Dyn11"},
    ]  # fmt: skip
    for k in range(1, loads // 4 + 1):
        items += [
            {"kind": "bus", "id": f"n{k}", "nominal_kv": 0.4, "conductors": "ABCN"},
            {"kind": "line", "id": f"main {k}", "from_bus": f"n{k - 1}", "to_bus": f"n{k}", "length_km": 0.03,
             "type": "Al 4×240 XLPE 0.4 kV cable", "conductors": "ABCN"},
        ]  # fmt: skip
        for j in range(4):
            phase = "A" if rng.random() < 0.6 else "BC"[int(rng.integers(2))]
            items.append({"kind": "load", "id": f"home {k} {j}", "bus": f"n{k}", "conductors": f"{phase}N", "power_factor": 0.96,
                          "active_power_mw": float(rng.uniform(0.0002, 0.0008))})  # fmt: skip
    return Network.from_items(items)
