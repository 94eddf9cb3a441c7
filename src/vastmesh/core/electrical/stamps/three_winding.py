from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...catalogue import SQRT3
from ...network import ThreeWinding
from ..arrays import Columns
from . import Context, column, stamp


@stamp(ThreeWinding)
def three_winding(units: Sequence[ThreeWinding], ctx: Context) -> dict[str, Columns]:
    """Three branches from the windings to a star point of the element's own, in the order HV, MV, LV of each unit.

    The star point stands at the HV winding's rated voltage; the no-load admittance is there.
    """
    if not units:
        return {}
    n = len(units)
    star = np.fromiter((ctx.inner_bus(e.id, e.hv_kv or 1.0) for e in units), np.int64, n)
    rated = column(units, "hv_mva")
    z = np.array([e.star_pu() for e in units]) * (ctx.base_mva / rated)[:, None]
    y0 = np.fromiter((e.magnetising_pu() for e in units), np.complex128, n) * rated / ctx.base_mva
    shift = np.array([(0.0, -e.shifts_rad()[0], -e.shifts_rad()[1]) for e in units])
    turns = np.fromiter((e.turns() for e in units), np.float64, n)
    buses = np.stack([ctx.rows([getattr(e, f"{s}_bus") for e in units]) for s in ("hv", "mv", "lv")], axis=1)
    kv = np.stack([column(units, f"{s}_kv") for s in ("hv", "mv", "lv")], axis=1)
    mva = np.stack([column(units, f"{s}_mva") for s in ("hv", "mv", "lv")], axis=1)
    ratio = kv / ctx.bus_kv[buses]
    ratio[:, 0] *= turns
    shunt = np.zeros((n, 3), np.complex128)
    shunt[:, 0] = y0
    return {
        "branch": {
            "element": np.repeat(np.arange(n), 3), "from": buses.ravel(), "to": np.repeat(star, 3),
            "r": z.real.ravel(), "x": z.imag.ravel(), "shunt_to": shunt.ravel(), "ratio_from": ratio.ravel(),
            "shift": shift.ravel(), "rating_from_a": (mva * 1e3 / SQRT3 / kv).ravel(),
            "rating_to_a": np.full(3 * n, np.inf), "rating_mva": mva.ravel(),
        }
    }  # fmt: skip
