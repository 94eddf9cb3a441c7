from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Generator
from ..arrays import FIXED, HOLDS_VOLTAGE, Columns
from . import Context, column, stamp


@stamp(Generator)
def generator(machines: Sequence[Generator], ctx: Context) -> dict[str, Columns]:
    """Fixed active power; reactive power fixed, or free within its limits to hold the voltage."""
    holds = np.fromiter((e.control == "voltage" for e in machines), np.bool_, len(machines))
    return {
        "injection": {
            "element": np.arange(len(machines)), "bus": ctx.rows([e.bus for e in machines]),
            "p": column(machines, "active_power_mw") / ctx.base_mva,
            "q": np.fromiter((e.set_reactive_mvar() for e in machines), np.float64, len(machines)) / ctx.base_mva,
            "control": np.where(holds, HOLDS_VOLTAGE, FIXED),
            "voltage": column(machines, "voltage_pu"),
            "q_min": column(machines, "q_min_mvar", blank=-np.inf) / ctx.base_mva,
            "q_max": column(machines, "q_max_mvar", blank=np.inf) / ctx.base_mva,
            "weight": np.fromiter((e.rated_mva or abs(e.active_power_mw or 0) or 1.0 for e in machines), np.float64,
                                  len(machines)),
            "group": np.fromiter((ctx.group(f"energy:{e.energy}") for e in machines), np.int64, len(machines)),
        }
    }  # fmt: skip
