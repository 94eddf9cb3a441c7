"""Compiled kernels made ready before somebody waits for them: compiled once after installing, loaded at every start."""

from __future__ import annotations

from typing import Any

from ..network import Network
from ..results.state import run_load_flow
from .balancing import BalancingOptions, run_balancing
from .base import STUDIES, Inputs
from .harmonics import ScanOptions, run_scan
from .reliability import SimulationOptions


def warm_up() -> None:
    """Call every kernel once, with arguments of the types it has in use. A few seconds the first time, then a fraction."""
    run_load_flow(Network.from_items(_line(11.0, "ABC")))
    run_load_flow(Network.from_items([*_line(11.0, "ABC"), *_too_much()]))  # tries every start, then follows the path
    run_scan(Inputs(Network.from_items(_line(11.0, "ABC"))), ScanOptions(bus="b", to_hz=100.0), _silent)
    fed = Inputs(Network.from_items([*_line(11.0, "ABC"), {**_too_much()[0], "active_power_mw": 0.1}]))
    STUDIES["failure_years"].run(fed, SimulationOptions(years=10), _silent)
    run_balancing(
        Network.from_items(_street()), BalancingOptions(feeder="l", method="exchange", time_limit_s=60), _silent
    )


def _line(kv: float, conductors: str) -> list[dict[str, Any]]:
    return [
        {"kind": "bus", "id": "a", "nominal_kv": kv, "conductors": conductors, "neutral": "earthed"},
        {"kind": "bus", "id": "b", "nominal_kv": kv, "conductors": conductors}, {"kind": "source", "id": "s", "bus": "a"},
        {"kind": "line", "id": "l", "from_bus": "a", "to_bus": "b", "length_km": 0.1, "r_ohm_per_km": 0.3,
         "x_ohm_per_km": 0.3, "conductors": conductors},
    ]  # fmt: skip


def _too_much() -> list[dict[str, Any]]:
    return [
        {"kind": "load", "id": "d", "bus": "b", "active_power_mw": 5000.0, "reactive_power_mvar": 0.0},
        {"kind": "generator", "id": "g", "bus": "b", "active_power_mw": 1.0, "control": "voltage", "q_min_mvar": -1.0,
         "q_max_mvar": 1.0},
    ]  # fmt: skip


def _street() -> list[dict[str, Any]]:
    homes = [{"kind": "load", "id": f"home {k}", "bus": "b", "conductors": "AN", "active_power_mw": 0.002, "power_factor": 1.0}
             for k in range(3)]  # fmt: skip
    return [*_line(0.4, "ABCN"), *homes]


def _silent(share: float, words: str) -> None:
    """Nobody is waiting."""


__all__ = ["warm_up"]
