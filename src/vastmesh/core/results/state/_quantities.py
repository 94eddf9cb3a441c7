"""Quantities of a solved state: what stands for each, by way of looking at it, and how it is shown."""

from __future__ import annotations

from .._quantity import Quantity, Total
from .._table import Table


def _each(pattern: str, parts: str = "a b c") -> list[str]:
    return [pattern.replace("*", p) for p in parts.split()]


_LINE = _each("line_*_voltage_pu", "ab bc ca")
_DECLARED = (
    Quantity("voltage_pu", "Voltage", "buses", "p.u.", 4, scale="voltage", lens=True, band=(0.94, 1.0, 1.06), along=True,
             parts={"sequences": ["positive_voltage_pu"], "line": _LINE},
             each={"phases": _each("phase_*_voltage_pu"), "line": _LINE}),
    Quantity("voltage_kv", "Voltage in kV", "buses", "kV", 2, scale="none"),
    Quantity("neutral_voltage_v", "Neutral to earth", "buses", "V", 2, along=True),
    Quantity("unbalance_pct", "Unbalance", "buses", "%", 2, along=True),
    Quantity("negative_voltage_pct", "Negative sequence", "buses", "%", 2),
    Quantity("zero_voltage_pct", "Zero sequence", "buses", "%", 2),
    Quantity("angle_deg", "Angle", "buses", "°", 2, scale="none"),
    Quantity("demand_mw", "Demand", "buses", "MW", 3, sums=True),
    Quantity("generation_mw", "Generation", "buses", "MW", 3, sums=True),
    Quantity("from_active_power_mw", "Active power", "branches", "MW", 3, scale="none", far="to_active_power_mw"),
    Quantity("from_reactive_power_mvar", "Reactive power", "branches", "Mvar", 3, scale="none", far="to_reactive_power_mvar"),
    Quantity("loading_pct", "Loading", "branches", "%", 1, scale="loading", lens=True, band=(0.0, 50.0, 80.0, 100.0), along=True,
             parts={"sequences": ["positive_loading_pct"]}, each={"phases": _each("phase_*_loading_pct")}),
    Quantity("neutral_loading_pct", "Neutral loading", "branches", "%", 1, scale="loading", band=(0.0, 50.0, 80.0, 100.0)),
    Quantity("from_current_a", "Current", "branches", "A", 1, far="to_current_a", along=True,
             parts={"sequences": ["positive_current_a"]}, each={"phases": [*_each("phase_*_current_a"), "neutral_current_a"]}),
    Quantity("neutral_current_a", "Neutral current", "branches", "A", 1),
    Quantity("voltage_drop_pct", "Voltage drop", "branches", "%", 2, short="drop", lens=True, band=(0.0, 3.0), along=True),
    Quantity("from_power_factor", "Power factor", "branches", None, 3, scale="falling", short="cos φ", lens=True,
             band=(0.8, 1.0), far="to_power_factor", along=True),
    Quantity("active_loss_mw", "Losses", "branches", "MW", 4, sums=True, lens=True, along=True,
             each={"phases": _each("phase_*_loss_kw")}),
    Quantity("active_power_mw", "Active power", "injections", "MW", 3, sums=True),
    Quantity("reactive_power_mvar", "Reactive power", "injections", "Mvar", 3, sums=True),
    Quantity("current_a", "Current", "injections", "A", 1),
    Quantity("power_factor", "Power factor", "injections", None, 3, scale="none"),
)  # fmt: skip
# Of the whole state; those after generation's are added where two states are held against each other.
STATE_TOTALS = (
    Total("breaches", "Breaches", None, 0, short="Breaches"), Total("watches", "To be watched", None, 0),
    Total("overloaded", "Overloaded", None, 0, short="Overloaded"),
    Total("demand_mw", "Demand", "MW", 2, overview=True), Total("demand_mvar", "Demand", "Mvar", 2, overview=True),
    Total("generation_mw", "Generation", "MW", 2, overview=True),
    Total("generation_mvar", "Generation", "Mvar", 2, overview=True),
    Total("lowest_voltage_pu", "Lowest voltage", "p.u.", 4, short="Lowest", overview=True),
    Total("highest_voltage_pu", "Highest voltage", "p.u.", 4, short="Highest", overview=True),
    Total("highest_neutral_v", "Highest neutral to earth", "V", 2, short="N to earth", overview=True),
    Total("highest_unbalance_pct", "Highest unbalance", "%", 2, short="Unbalance", overview=True),
    Total("worst_loading_pct", "Highest loading", "%", 1), Total("worst_neutral_pct", "Highest loading of a neutral", "%", 1),
    Total("active_loss_mw", "Losses", "MW", 4, short="Losses", overview=True),
    Total("loss_pct", "Losses", "%", 2, overview=True),
    Total("live_buses", "Buses with supply", None, 0, overview=True),
    Total("dead_buses", "Buses without", None, 0, overview=True),
    Total("cost_k", "Cost", "k", 1),
)  # fmt: skip


def state_quantities(tables: dict[str, Table]) -> list[Quantity]:
    """Those that a solved state has columns for."""
    return [q for q in _DECLARED if q.table in tables and any(c.name == q.name for c in tables[q.table].columns)]
