from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Inverter
from ..arrays import FIXED, Columns
from . import Context, column, stamp


@stamp(Inverter)
def inverter(plants: Sequence[Inverter], ctx: Context) -> dict[str, Columns]:
    """Fixed active power; reactive power fixed, or by a curve of the voltage at the bus."""
    n = len(plants)
    bus = ctx.rows([e.bus for e in plants])
    rated = column(plants, "rated_mva") / ctx.base_mva
    follows = np.flatnonzero(np.fromiter((e.control == "voltage_curve" for e in plants), np.bool_, n))
    by_curve = [plants[i] for i in follows.tolist()]
    return {
        "injection": {
            "element": np.arange(n), "bus": bus, "p": column(plants, "active_power_mw") / ctx.base_mva,
            "q": np.fromiter((e.set_reactive_mvar() for e in plants), np.float64, n) / ctx.base_mva,
            "control": np.full(n, FIXED), "q_min": -rated, "q_max": rated, "weight": rated,
            "group": np.fromiter((ctx.group(f"energy:{e.energy}") for e in plants), np.int64, n),
        },
        "curve": {
            "element": follows, "bus": bus[follows],
            **{v: column(by_curve, f"{v}_pu") for v in ("v1", "v2", "v3", "v4")},
            "q": column(by_curve, "curve_q_pct") / 100 * rated[follows],
        },
    }  # fmt: skip
