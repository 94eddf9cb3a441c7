from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Line
from ..arrays import Columns
from . import Context, column, stamp


@stamp(Line)
def line(lines: Sequence[Line], ctx: Context) -> dict[str, Columns]:
    """Nominal pi: series impedance, half the susceptance at each end; circuits in parallel.

    Ends with different nominal voltages keep their own bases: the off-nominal ratio is that of
    the nominal voltages, so ohms stay ohms.
    """
    frm, to = ctx.rows([e.from_bus for e in lines]), ctx.rows([e.to_bus for e in lines])
    kv = ctx.bus_kv[frm]
    ohm = kv**2 / ctx.base_mva
    circuits, length = column(lines, "parallel"), column(lines, "length_km")
    scale = length / circuits / ohm
    half_b = 0.5j * column(lines, "b_us_per_km") * 1e-6 * length * circuits * ohm
    rating = column(lines, "rating_a", blank=np.inf) * circuits
    return {
        "branch": {
            "element": np.arange(len(lines)), "from": frm, "to": to,
            "r": column(lines, "r_ohm_per_km") * scale, "x": column(lines, "x_ohm_per_km") * scale,
            "shunt_from": half_b, "shunt_to": half_b,
            "ratio_to": kv / ctx.bus_kv[to],
            "rating_from_a": rating, "rating_to_a": rating,
            "rating_mva": np.full(len(lines), np.inf),
        }
    }  # fmt: skip
