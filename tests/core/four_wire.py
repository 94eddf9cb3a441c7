"""The published four-wire feeder as a network of ours: shared by the tests that solve, permute and balance it."""

from __future__ import annotations

import json
from math import sqrt
from pathlib import Path
from typing import Any

from vastmesh.core.network import Network

Item = dict[str, Any]
_DATA = Path(__file__).parent.parent / "data"


def given() -> dict[str, Any]:
    found: dict[str, Any] = json.loads((_DATA / "four-wire.json").read_text())
    return found


def expected() -> dict[str, Any]:
    found: dict[str, Any] = json.loads((_DATA / "four-wire.expected.json").read_text())["cases"]["multi_earthed"]
    return found


def triangle(matrix: list[list[float]]) -> str:
    """The lower triangle as it is entered."""
    return "; ".join(" ".join(repr(matrix[i][j]) for j in range(i + 1)) for i in range(len(matrix)))


def items(turn: dict[str, str] | None = None) -> list[Item]:
    """Items of the feeder; ``turn`` gives every phase another letter."""
    data = given()
    letters = {**{c: c for c in "ABCN"}, **(turn or {})}

    def named(conductors: str) -> str:
        return "".join(sorted(letters[c] for c in conductors.upper()))

    source = data["source"]
    z = source["kv_ll"] ** 2 / source["short_circuit_mva"]
    x = z / sqrt(1 + source["r_over_x"] ** 2)
    r = x * source["r_over_x"]
    found: list[Item] = [
        {"kind": "settings", "id": "settings", "name": "Feeder", "base_mva": 1.0, "tolerance_pu": 1e-11},
        # The emf is a source stiff in every sequence; its impedance is a line without coupling.
        {"kind": "bus", "id": "EMF", "nominal_kv": 10.0}, {"kind": "bus", "id": "MV", "nominal_kv": 10.0},
        {"kind": "source", "id": "Grid", "bus": "EMF", "fault_max_mva": 1e6, "fault_min_mva": 1e6, "neutral": "solid"},
        {"kind": "line", "id": "Source impedance", "from_bus": "EMF", "to_bus": "MV", "length_km": 1.0, "r_ohm_per_km": r,
         "x_ohm_per_km": x, "r0_ohm_per_km": r, "x0_ohm_per_km": x},
    ]  # fmt: skip
    for name, kind in data["line_types"].items():
        order = [letters[c] for c in kind["wires"].upper()]
        at = sorted(range(len(order)), key=lambda i: order[i])
        r_rows, x_rows = ([[kind[p][i][j] for j in at] for i in at] for p in "rx")
        found.append({"kind": "line_matrix", "id": name, "order": "".join(sorted(order)), "r_rows": triangle(r_rows),
                      "x_rows": triangle(x_rows)})  # fmt: skip
    single = {"N7", "N8"}
    nodes = sorted({line["from"] for line in data["lines"]} | {line["to"] for line in data["lines"]})
    found += [
        {"kind": "bus", "id": n, "nominal_kv": 0.4, "conductors": named("BN") if n in single else "ABCN"} for n in nodes
    ]
    t = data["transformer"]
    found.append({
        "kind": "transformer", "id": "T", "hv_bus": "MV", "lv_bus": "N0", "rated_mva": t["kva"] / 1e3, "hv_kv": t["hv_kv"],
        "lv_kv": t["lv_kv"], "impedance_pct": t["uk_pct"], "load_loss_kw": t["pk_kw"], "vector_group": t["vector_group"],
        "tap_step_pct": abs(t["hv_tap_pct"]), "tap_min": -2, "tap_max": 2, "tap_position": -1, "lv_neutral": "isolated",
        "z0_pct": t["uk_pct"],
    })  # fmt: skip
    for line in data["lines"]:
        found.append({
            "kind": "line", "id": line["id"], "from_bus": line["from"], "to_bus": line["to"], "length_km": line["km"],
            "matrix": line["type"], "conductors": named(data["line_types"][line["type"]]["wires"]),
        })  # fmt: skip
    shares = {"PQ": (100, 0, 0), "I": (0, 100, 0), "Z": (0, 0, 100)}
    for d in data["loads"]:
        power, current, impedance = shares[d["model"]]
        found.append({
            "kind": "load", "id": d["id"], "bus": d["node"], "conductors": named(d["connection"].replace("-", "")),
            "active_power_mw": d["kw"] / 1e3, "reactive_power_mvar": d["kvar"] / 1e3, "constant_power_pct": power,
            "constant_current_pct": current, "constant_impedance_pct": impedance,
        })  # fmt: skip
    for node, ohm in data["cases"]["multi_earthed"]["earth_electrodes"].items():
        found.append({"kind": "electrode", "id": f"Rod {node}", "bus": node, "resistance_ohm": ohm})
    return found


def network(turn: dict[str, str] | None = None) -> Network:
    return Network.from_items(items(turn))
