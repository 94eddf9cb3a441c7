"""What stands in a line: voltage regulators and series reactors."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Regulator, SeriesReactor
from ..arrays import Columns
from . import Context, column, stamp


@stamp(Regulator)
def regulator(units: Sequence[Regulator], ctx: Context) -> dict[str, Columns]:
    """A small reactance at the supply side and an ideal ratio at the regulated side."""
    frm, to = ctx.rows([e.from_bus for e in units]), ctx.rows([e.to_bus for e in units])
    ohm = ctx.bus_kv[frm] ** 2 / ctx.base_mva
    rating = column(units, "rating_a", blank=np.inf)
    auto = [i for i, e in enumerate(units) if e.automatic]
    mine = [units[i] for i in auto]
    return {
        "tap": {
            "element": np.array(auto, np.int64), "bus": ctx.rows_or([e.held_bus for e in mine], to[auto]),
            "side": np.ones(len(auto), np.int64),
            "ratio": ctx.bus_kv[frm[auto]] / ctx.bus_kv[to[auto]], "step": column(mine, "step_pct") / 100,
            "low": column(mine, "tap_min"), "high": column(mine, "tap_max"), "position": column(mine, "tap_position"),
            "sense": np.ones(len(auto), np.int64), "target": column(mine, "target_pu"),
            "band": column(mine, "band_pct") / 100, "r": column(mine, "ldc_r_ohm") * ctx.base_mva / ctx.bus_kv[to[auto]] ** 2,
            "x": column(mine, "ldc_x_ohm") * ctx.base_mva / ctx.bus_kv[to[auto]] ** 2, "delay": column(mine, "delay_s"),
            "continuous": np.fromiter((e.continuous for e in mine), np.bool_, len(mine)),
        },
        "branch": {
            "element": np.arange(len(units)), "from": frm, "to": to,
            "r": np.zeros(len(units)), "x": column(units, "x_ohm") / ohm,
            "ratio_to": np.fromiter((e.ratio() for e in units), np.float64, len(units)) * ctx.bus_kv[frm] / ctx.bus_kv[to],
            "rating_from_a": rating, "rating_to_a": rating, "rating_mva": np.full(len(units), np.inf),
        }
    }  # fmt: skip


@stamp(SeriesReactor)
def series_reactor(units: Sequence[SeriesReactor], ctx: Context) -> dict[str, Columns]:
    """Series impedance; ohms stay ohms at the from bus."""
    frm, to = ctx.rows([e.from_bus for e in units]), ctx.rows([e.to_bus for e in units])
    x = column(units, "x_ohm") * ctx.base_mva / ctx.bus_kv[frm] ** 2
    rating = column(units, "rating_a", blank=np.inf)
    return {
        "branch": {
            "element": np.arange(len(units)), "from": frm, "to": to, "r": x / column(units, "x_over_r"), "x": x,
            "ratio_to": ctx.bus_kv[frm] / ctx.bus_kv[to],
            "rating_from_a": rating, "rating_to_a": rating, "rating_mva": np.full(len(units), np.inf),
        }
    }  # fmt: skip
