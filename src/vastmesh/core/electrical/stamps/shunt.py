from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Shunt
from ..arrays import Columns
from . import Context, column, stamp


@stamp(Shunt)
def shunt(shunts: Sequence[Shunt], ctx: Context) -> dict[str, Columns]:
    """Constant admittance: a capacitor has positive susceptance, a reactor negative."""
    bus = ctx.rows([e.bus for e in shunts])
    rated = np.fromiter((e.rated_kv or ctx.bus_kv[b] for e, b in zip(shunts, bus, strict=True)), np.float64, len(bus))
    sign = np.fromiter((1.0 if e.device == "capacitor" else -1.0 for e in shunts), np.float64, len(bus))
    per_step = column(shunts, "step_loss_kw") / 1e3 + 1j * sign * column(shunts, "step_mvar")
    y = per_step * column(shunts, "steps_on") / ctx.base_mva * (ctx.bus_kv[bus] / rated) ** 2
    auto = [i for i, e in enumerate(shunts) if e.automatic]
    mine = [shunts[i] for i in auto]
    one = per_step[auto] / ctx.base_mva * (ctx.bus_kv[bus[auto]] / rated[auto]) ** 2
    return {
        "shunt": {"element": np.arange(len(shunts)), "bus": bus, "y": y},
        "bank": {
            "element": np.array(auto, np.int64), "bus": bus[auto], "y": one, "on": column(mine, "steps_on"),
            "steps": column(mine, "steps"), "sense": sign[auto], "below": column(mine, "on_below_pu"),
            "above": column(mine, "off_above_pu"),
        },
    }  # fmt: skip
