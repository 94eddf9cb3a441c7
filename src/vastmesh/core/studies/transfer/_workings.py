"""The most a bus can take, from what stands before it as one voltage behind one impedance."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ...electrical import compile_network
from ...flow.balanced import Without
from ...network import Bus, Condition, Network
from ...results import Result
from ...results.state import LiveLoadFlow, live_options
from ...workings import Ledger, Working


def explain(
    network: Network, result: Result, condition: Condition, ident: str, options: Mapping[str, Any]
) -> list[Working]:
    """Workings of a bus that stands in the tables; none of anything else."""
    if not isinstance(network.items.get(ident), Bus):
        return []
    seen = network.under(condition)
    without = Without(compile_network(seen), condition, live_options(network.settings), controls=False)
    found = LiveLoadFlow(network).linearise(condition)
    if without.base is None or found is None or ident not in without.arrays.bus_id:
        return []
    row = without.arrays.bus_id.index(ident)
    v = found.reading.v[row] if ident in found.reading.arrays.bus_id else np.nan
    if not np.isfinite(v):
        return []
    arrays = found.reading.arrays
    at = arrays.bus_id.index(ident)
    demand = found.reading.bus_demand[at]
    by_p, _ = found.by_injection(at)
    # V = E - Z (S/V)*: what a small injection does to V gives Z, the demand that is there already taken into account.
    power_pu, dv = demand / arrays.base_mva, by_p[at]
    z = dv / (1 / np.conj(v) + np.conj(power_pu) * np.conj(dv) / np.conj(v) ** 2)
    base_ohm = arrays.bus_kv[at] ** 2 / arrays.base_mva
    e = v + z * np.conj(demand / arrays.base_mva / v) if abs(demand) else v
    told = Ledger(
        "Most that can be taken here",
        "Everything before the bus as one voltage behind one impedance, both as the equations linearised here give them: what is "
        "beyond that (machines that reach their limits, demand elsewhere that follows the voltage) makes the difference from the "
        "curve.",
    )
    told.given("E", "voltage before it", float(abs(e) * arrays.bus_kv[at]), "kV", "from the state here")
    told.given("R", "resistance before it", float(z.real * base_ohm), "Ω", "from the equations linearised here")
    told.given("X", "reactance before it", float(z.imag * base_ohm), "Ω", "from the equations linearised here")
    power = demand if abs(demand) > 1e-9 else complex(1.0, 0.0)
    told.given(
        "t",
        "reactive over active power of what is taken",
        float(power.imag / power.real) if power.real else 0.0,
        "",
        "demand here",
    )
    told.line("Z2", "square of the impedance", "R**2 + X**2", "Ω²")
    told.line("a", "along the impedance", "R + X * t", "Ω")
    told.line("b", "size by size", "sqrt(Z2 * (1 + t**2))", "Ω")
    told.line(
        "Pm",
        "most active power",
        "E**2 / (2 * (a + b))",
        "MW",
        "E² = V² + 2(PR + QX) + (P² + Q²)Z²/V² has one solution there",
    )
    told.line("Vm", "voltage then", "sqrt(E**2 / 2 - Pm * a)", "kV")
    return [told.working()]
