"""What a plant may deliver and what that costs: the same fields wherever something can be dispatched."""

from __future__ import annotations

from typing import Any

from ..fields import choice, quantity

TYPICAL_COST = {
    "hydro": 6.0, "wind": 0.0, "solar": 0.0, "thermal": 60.0, "storage": 45.0, "other": 50.0, "source": 55.0,
}  # fmt: skip


def movable(default: bool = True) -> Any:
    return choice("Dispatched", "Whether an optimal flow may set its active power; else it stays as it is", default=default,
                  group="dispatch")  # fmt: skip


def least_power(otherwise: str) -> Any:
    return quantity("Least power", f"Least active power it can be set to; {otherwise} when blank", unit="MW", default=None,
                    ge=-1e6, le=1e6, group="dispatch")  # fmt: skip


def most_power(otherwise: str) -> Any:
    return quantity("Most power", f"Most active power it can be set to; {otherwise} when blank", unit="MW", default=None, ge=-1e6,
                    le=1e6, group="dispatch")  # fmt: skip


def cost() -> Any:
    return quantity("Cost", "Of a MWh; typical for its energy when blank", unit="1/MWh", default=None, ge=-1e6, le=1e6,
                    group="dispatch")  # fmt: skip


def rising_cost() -> Any:
    return quantity("Rising cost", "Of an hour at a power P: this times P², beside the cost of the energy", unit="1/MW²h",
                    default=0.0, ge=0, le=1e6, group="dispatch")  # fmt: skip


def running_cost() -> Any:
    return quantity("Cost of running", "Of an hour, whatever it delivers", unit="1/h", default=0.0, ge=0, le=1e9,
                    group="dispatch")  # fmt: skip


def check_powers(e: Any) -> None:
    """Raises ValueError where the least power is above the most."""
    if e.least_mw is not None and e.most_mw is not None and e.least_mw > e.most_mw:
        raise ValueError(f"least_mw: the least power is above the most, {e.most_mw:g} MW")


def price_of(e: Any) -> float:
    """Cost of a MWh: its own, or what is typical for its energy."""
    if e.cost_per_mwh is not None:
        return float(e.cost_per_mwh)
    return TYPICAL_COST.get(getattr(e, "energy", "source"), TYPICAL_COST["other"])
