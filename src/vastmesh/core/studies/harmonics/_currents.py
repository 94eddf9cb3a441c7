"""Harmonic currents at a point of common coupling, held against the ratio of short-circuit to demand current.

Limits of the network's own, the first that fits; else in the manner of IEEE 519-2014, tables 2 to 4: per cent of the demand
current by order and ratio; even orders a quarter of the odd ones around them.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from ...electrical.fault import fault_current_ka
from ...errors import FieldProblem, InvalidFields
from ...network import Bus, CurrentLimits, Network
from ...results import Column, Finding, Table
from ...severity import Severity
from ._models import Model, Order
from ._options import DistortionOptions

_BANDS = (3, 11, 17, 23, 35, 51)
# Up to which ratio, odd orders of each band, and total demand distortion.
_UP_TO_69 = (
    (20, (4.0, 2.0, 1.5, 0.6, 0.3), 5.0), (50, (7.0, 3.5, 2.5, 1.0, 0.5), 8.0), (100, (10.0, 4.5, 4.0, 1.5, 0.7), 12.0),
    (1000, (12.0, 5.5, 5.0, 2.0, 1.0), 15.0), (float("inf"), (15.0, 7.0, 6.0, 2.5, 1.4), 20.0),
)  # fmt: skip
_ABOVE_161 = (
    (25, (1.0, 0.5, 0.38, 0.15, 0.1), 1.5), (50, (2.0, 1.0, 0.75, 0.3, 0.15), 2.5),
    (float("inf"), (3.0, 1.5, 1.15, 0.45, 0.22), 3.75),
)  # fmt: skip


def current_limits(kv: float, ratio: float) -> tuple[tuple[float, ...], float]:
    """Limits of the bands of odd orders and of total demand distortion, per cent of the demand current."""
    table = _ABOVE_161 if kv > 161 else _UP_TO_69
    bands, total = next((bands, total) for up_to, bands, total in table if ratio < up_to or up_to == float("inf"))
    share = 0.5 if 69 < kv <= 161 else 1.0
    return tuple(share * b for b in bands), share * total


def limit_of(order: float, bands: tuple[float, ...]) -> float:
    """Limit of one order, per cent; orders beyond the bands have that of the nearest."""
    n = next(
        (n for n, (low, high) in enumerate(pairwise(_BANDS)) if low <= order < high), 0 if order < 3 else len(bands) - 1
    )
    return bands[n] * (0.25 if order == round(order) and round(order) % 2 == 0 else 1.0)


def limits_at(network: Network, kv: float, ratio: float, orders: list[float]) -> tuple[list[float], float, str]:
    """Limits of orders and of the total, per cent of the demand current, and whose they are."""
    bands, total = current_limits(kv, ratio)
    generic = [limit_of(h, bands) for h in orders]
    own = next((e for e in network.of(CurrentLimits) if e.holds(kv, ratio)), None)
    if own is None:
        return generic, total, "IEEE 519"
    known = own.by_order()
    limits = [
        next((pct for o, pct in known if abs(o - h) < 1e-9), own.others_pct if own.others_pct is not None else g)
        for h, g in zip(orders, generic, strict=True)
    ]
    return limits, own.total_pct if own.total_pct is not None else total, own.name


def at_coupling(
    network: Network, model: Model, options: DistortionOptions, found: list[Order]
) -> tuple[Table, list[Finding]] | None:
    """The table of a point of common coupling and what exceeds its limits; None where none is asked for. Raises
    :class:`InvalidFields` for a branch that carries nothing here."""
    ident = options.coupling
    if ident is None:
        return None
    rows = [n for n, e in enumerate(model.wires.element) if e == ident and model.wires.conductor[n] != "N"]
    if not rows:
        text = "name a line, transformer or reactor of this network that carries current"
        raise InvalidFields([FieldProblem("options", "coupling", ident, text)])
    amps = np.array([o.amps[rows].max() for o in found])
    first = float(model.wires.first[rows].max())
    demand = options.demand_a or first
    where = model.wires.bus[rows[0]]
    bus = network[where]
    kv = float(bus.nominal_kv or 1.0) if isinstance(bus, Bus) else 1.0
    level = fault_current_ka(network, [where]).get(where, 0.0)
    ratio = 1e3 * level / demand if demand else float("inf")
    orders = [o.order for o in found]
    limits, total, by = limits_at(network, kv, ratio, orders)
    shares = 100 * amps / demand if demand else np.full(len(amps), np.nan)
    tdd = float(np.sqrt((shares**2).sum()))
    names = [*(f"order {h:g}" for h in orders), "total demand distortion"]
    values, most = np.append(shares, tdd), np.append(limits, total)
    table = Table("coupling", f"Currents at {network[ident].name}", [
        Column("id", "Id", [ident] * len(names), fixed=True), Column("what", "Order", names, fixed=True),
        Column("amps", "Current", np.append(amps, np.sqrt((amps**2).sum())), "A", 2, "At the from end"),
        Column("share_pct", "Of demand", values, "%", 2, f"Demand current {demand:.4g} A"),
        Column("limit_pct", "At most", most, "%", 2, f"By {by}: short-circuit current {level:.3g} kA, {ratio:.0f} times demand"),
    ])  # fmt: skip
    made = []
    for name, value, limit in zip(names, values.tolist(), most.tolist(), strict=True):
        if value > 0.8 * limit:
            severity = Severity.BREACH if value > limit else Severity.WATCH
            text = (f"{name} {value:.2f} % of the demand current of {demand:.4g} A; at most {limit:.3g} % where the "
                    f"short-circuit current is {ratio:.0f} times as large, by {by}")  # fmt: skip
            made.append(Finding(ident, "coupling", "share_pct", value, "%", limit, "Current limit", severity, "above",
                                value / limit - 1, text))  # fmt: skip
    return table, made
