from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Filter
from ..arrays import Columns
from . import Context, stamp


@stamp(Filter)
def harmonic_filter(filters: Sequence[Filter], ctx: Context) -> dict[str, Columns]:
    """What the steps in service are at the network's frequency: a constant admittance, capacitive."""
    bus = ctx.rows([e.bus for e in filters])
    y = np.fromiter((admittance_pu(e, float(ctx.bus_kv[b]), ctx.base_mva, ctx.frequency_hz) for e, b in
                     zip(filters, bus.tolist(), strict=True)), np.complex128, len(bus))  # fmt: skip
    return {"shunt": {"element": np.arange(len(filters)), "bus": bus, "y": y}}


def admittance_pu(e: Filter, kv: float, base_mva: float, frequency_hz: float, order: float = 1.0) -> complex:
    """Of all steps in service at an order, per unit."""
    if not e.steps_on:
        return 0j
    return complex(e.steps_on / e.circuit(kv, frequency_hz).impedance(order) * kv**2 / base_mva)
