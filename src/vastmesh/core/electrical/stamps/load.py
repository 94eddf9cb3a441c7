from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Load
from ..arrays import Columns
from . import Context, column, stamp


@stamp(Load)
def load(loads: Sequence[Load], ctx: Context) -> dict[str, Columns]:
    """Demand at nominal voltage with its mix of constant power, current and impedance."""
    power = np.fromiter((e.power_mva() for e in loads), np.complex128, len(loads)) / ctx.base_mva
    return {
        "load": {
            "element": np.arange(len(loads)), "bus": ctx.rows([e.bus for e in loads]),
            "p": power.real, "q": power.imag,
            "share_i": column(loads, "constant_current_pct") / 100,
            "share_z": column(loads, "constant_impedance_pct") / 100,
            "group": np.fromiter((ctx.group(f"class:{e.demand_class}") for e in loads), np.int64, len(loads)),
        }
    }  # fmt: skip
