from __future__ import annotations

from collections.abc import Sequence
from math import sqrt

import numpy as np

from ...network import Transformer
from ..arrays import Columns
from . import Context, column, stamp


@stamp(Transformer)
def transformer(units: Sequence[Transformer], ctx: Context) -> dict[str, Columns]:
    """Leakage impedance between two ideal ratios, the no-load admittance at the HV terminals' inner side.

    The impedance in ohms belongs to the side without taps and does not change with the tap; the
    ratio at each end is (rated voltage * turns) / nominal voltage of the bus.
    """
    hv, lv = ctx.rows([e.hv_bus for e in units]), ctx.rows([e.lv_bus for e in units])
    rated = column(units, "rated_mva")
    turns = np.fromiter((e.tapped_turns() for e in units), np.float64, len(units))
    on_hv = np.fromiter((e.tap_side == "hv" for e in units), np.bool_, len(units))
    rated_hv, rated_lv = column(units, "hv_kv"), column(units, "lv_kv")
    z = np.fromiter((e.impedance_pu() for e in units), np.complex128, len(units)) * ctx.base_mva / rated
    y0 = np.fromiter((e.magnetising_pu() for e in units), np.complex128, len(units)) * rated / ctx.base_mva
    amps = rated * 1e3 / sqrt(3)
    auto = [i for i, e in enumerate(units) if e.regulates and e.tap_step_pct and e.tap_max > e.tap_min]
    mine = [units[i] for i in auto]
    side = np.where(on_hv[auto], 0, 1)
    held = ctx.rows_or([e.held_bus for e in mine], lv[auto])
    ohm = ctx.bus_kv[lv[auto]] ** 2 / ctx.base_mva
    shifters = [i for i, e in enumerate(units) if e.holds_flow]
    turning = [units[i] for i in shifters]
    further = np.radians(column(turning, "phase_shift_deg"))
    return {
        "branch": {
            "element": np.arange(len(units)), "from": hv, "to": lv, "r": z.real, "x": z.imag, "shunt_from": y0,
            "ratio_from": rated_hv / ctx.bus_kv[hv] * np.where(on_hv, turns, 1.0),
            "ratio_to": rated_lv / ctx.bus_kv[lv] * np.where(on_hv, 1.0, turns),
            "shift": np.fromiter((e.clock_shift_rad() for e in units), np.float64, len(units)),
            "rating_from_a": amps / rated_hv, "rating_to_a": amps / rated_lv, "rating_mva": rated,
        },
        "tap": {
            "element": np.array(auto, np.int64), "bus": held, "side": side,
            "ratio": np.where(side == 0, rated_hv[auto] / ctx.bus_kv[hv[auto]], rated_lv[auto] / ctx.bus_kv[lv[auto]]),
            "step": column(mine, "tap_step_pct") / 100, "neutral": column(mine, "tap_neutral"),
            "low": column(mine, "tap_min"), "high": column(mine, "tap_max"), "position": column(mine, "tap_position"),
            # More turns on the HV side lower the LV voltage, and the other way round for a bus held on the HV side.
            "sense": np.where(side == 0, -1, 1) * np.where(held == hv[auto], -1, 1), "target": column(mine, "target_pu"),
            "band": column(mine, "band_pct") / 100, "r": column(mine, "ldc_r_ohm") / ohm,
            "x": column(mine, "ldc_x_ohm") / ohm, "delay": column(mine, "delay_s"),
            "continuous": np.fromiter((e.continuous for e in mine), np.bool_, len(mine)),
        },
        "phase": {
            "element": np.array(shifters, np.int64), "target": column(turning, "flow_mw") / ctx.base_mva,
            "band": column(turning, "flow_band_mw") / ctx.base_mva, "step": np.radians(column(turning, "shift_step_deg")),
            "zero": np.fromiter((e.clock_shift_rad() for e in turning), np.float64, len(turning)) - further,
            "position": further / np.radians(column(turning, "shift_step_deg", blank=1.0)),
            "most": np.radians(column(turning, "shift_most_deg")),
        },
    }  # fmt: skip
