from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Generator
from ..arrays import FIXED, HOLDS_VOLTAGE, Columns
from . import Context, column, stamp


@stamp(Generator)
def generator(machines: Sequence[Generator], ctx: Context) -> dict[str, Columns]:
    """Fixed active power; reactive power fixed, or free within its limits to hold the voltage."""
    own = ctx.rows([e.bus for e in machines])
    held = ctx.rows_or([e.held_bus if e.control == "voltage" else None for e in machines], own)
    away = np.flatnonzero(held != own)
    far = [machines[i] for i in away.tolist()]
    weight = np.fromiter(
        (e.rated_mva or abs(e.active_power_mw or 0) or 1.0 for e in machines), np.float64, len(machines)
    )
    holds = np.fromiter((e.control == "voltage" for e in machines), np.bool_, len(machines))
    return {
        "injection": {
            "element": np.arange(len(machines)), "bus": own,
            "p": column(machines, "active_power_mw") / ctx.base_mva,
            "q": np.fromiter((e.set_reactive_mvar() for e in machines), np.float64, len(machines)) / ctx.base_mva,
            "control": np.where(holds & (held == own), HOLDS_VOLTAGE, FIXED),
            "voltage": column(machines, "voltage_pu"),
            "q_min": column(machines, "q_min_mvar", blank=-np.inf) / ctx.base_mva,
            "q_max": column(machines, "q_max_mvar", blank=np.inf) / ctx.base_mva,
            "weight": weight, "participation": np.fromiter((e.shares() for e in machines), np.float64, len(machines)),
            "group": np.fromiter((ctx.group(f"energy:{e.energy}") for e in machines), np.int64, len(machines)),
        },
        "remote": {
            "element": away, "bus": held[away], "voltage": column(far, "voltage_pu"), "weight": weight[away],
            "q_min": column(far, "q_min_mvar", blank=-np.inf) / ctx.base_mva,
            "q_max": column(far, "q_max_mvar", blank=np.inf) / ctx.base_mva,
        },
    }  # fmt: skip
