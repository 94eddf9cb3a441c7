from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Demand, InductionMotor, Load, LumpedLoad, SynchronousMotor
from ..arrays import Columns
from . import Context, column, stamp


@stamp(Load)
def load(loads: Sequence[Load], ctx: Context) -> dict[str, Columns]:
    """Demand at nominal voltage with its mix of constant power, current and impedance."""
    mix = {
        "share_i": column(loads, "constant_current_pct") / 100,
        "share_z": column(loads, "constant_impedance_pct") / 100,
    }
    return demand(loads, ctx, mix)


@stamp(LumpedLoad)
def lumped(loads: Sequence[LumpedLoad], ctx: Context) -> dict[str, Columns]:
    """Motors draw constant power; the rest of the mix follows the voltage."""
    return demand(
        loads, ctx, {"share_i": column(loads, "current_pct") / 100, "share_z": column(loads, "impedance_pct") / 100}
    )


@stamp(InductionMotor)
def induction_motor(motors: Sequence[InductionMotor], ctx: Context) -> dict[str, Columns]:
    """Constant power."""
    return demand(motors, ctx, {})


@stamp(SynchronousMotor)
def synchronous_motor(motors: Sequence[SynchronousMotor], ctx: Context) -> dict[str, Columns]:
    """Constant power, the reactive part set by the excitation."""
    return demand(motors, ctx, {})


def demand(
    loads: Sequence[Demand | InductionMotor | SynchronousMotor], ctx: Context, mix: Columns
) -> dict[str, Columns]:
    """Rows of the load table for whatever has a power and a demand class: one for each bus that draws it."""
    spread = [e.drawn_at(ctx.find) if isinstance(e, Demand) and e.along else (e.bus,) for e in loads]
    spread = [at if all(b in ctx.bus_row for b in at) else (e.bus,) for at, e in zip(spread, loads, strict=True)]
    parts = np.array([len(at) for at in spread], np.int64)
    power = np.fromiter((e.power_mva() for e in loads), np.complex128, len(loads)) / ctx.base_mva / parts
    areas = (ctx.group(f"area:{getattr(ctx.find(e.bus), 'area', None) or ''}") for e in loads)
    row = np.repeat(np.arange(len(loads)), parts)
    group = np.fromiter((ctx.group(f"class:{e.demand_class}") for e in loads), np.int64, len(loads))
    area = np.fromiter(areas, np.int64, len(loads))
    return {
        "load": {
            "element": row, "bus": ctx.rows([b for at in spread for b in at]), "p": power.real[row], "q": power.imag[row],
            "group": group[row], "area": area[row], **{share: values[row] for share, values in mix.items()},
        }
    }  # fmt: skip
