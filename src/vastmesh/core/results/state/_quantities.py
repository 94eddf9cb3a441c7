"""Quantities of a solved state: what stands for each, by way of looking at it, and how it is shown."""

from __future__ import annotations

from .._quantity import Quantity
from .._table import Table

_LINE = ["line_ab_voltage_pu", "line_bc_voltage_pu", "line_ca_voltage_pu"]
_DECLARED = (
    Quantity("voltage_pu", "Voltage", "buses", "p.u.", 4, scale="voltage",
             parts={"sequences": ["positive_voltage_pu"], "line": _LINE}),
    Quantity("voltage_kv", "Voltage in kV", "buses", "kV", 2, scale="none"),
    Quantity("angle_deg", "Angle", "buses", "°", 2, scale="none"),
    Quantity("demand_mw", "Demand", "buses", "MW", 3, sums=True),
    Quantity("generation_mw", "Generation", "buses", "MW", 3, sums=True),
    Quantity("unbalance_pct", "Unbalance", "buses", "%", 2),
    Quantity("neutral_voltage_v", "Neutral to earth", "buses", "V", 2),
    Quantity("loading_pct", "Loading", "branches", "%", 1, scale="loading", parts={"sequences": ["positive_loading_pct"]}),
    Quantity("from_current_a", "Current", "branches", "A", 1, parts={"sequences": ["positive_current_a"]}),
    Quantity("active_loss_mw", "Losses", "branches", "MW", 4, sums=True),
    Quantity("voltage_drop_pct", "Voltage drop", "branches", "%", 2, scale="around_zero"),
    Quantity("active_power_mw", "Active power", "injections", "MW", 3, sums=True),
    Quantity("reactive_power_mvar", "Reactive power", "injections", "Mvar", 3, sums=True),
    Quantity("current_a", "Current", "injections", "A", 1),
    Quantity("power_factor", "Power factor", "injections", None, 3, scale="none"),
)  # fmt: skip


def state_quantities(tables: dict[str, Table]) -> list[Quantity]:
    """Those that a solved state has columns for."""
    return [q for q in _DECLARED if q.table in tables and any(c.name == q.name for c in tables[q.table].columns)]
