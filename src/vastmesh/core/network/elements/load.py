from __future__ import annotations

from math import sqrt
from typing import Annotated, Any, Literal, Self

from pydantic import Field, model_validator

from ..fields import choice, quantity, reference
from ..items import Element

# Any two of these fix a load, in the order in which one gives way to a newly entered one.
_PAIRS = (
    {"active_power_mw", "reactive_power_mvar"},
    {"active_power_mw", "power_factor"},
    {"apparent_power_mva", "power_factor"},
)
_POWER = ("active_power_mw", "reactive_power_mvar", "apparent_power_mva", "power_factor")


class Load(Element):
    """Demand at a bus, by two of active, reactive, apparent power and power factor."""

    label, plural = "Load", "Loads"

    kind: Literal["load"] = "load"
    bus: str = reference("Bus", "Bus it is connected to", to="bus", terminal=True)
    active_power_mw: float | None = quantity(
        "Active power", "At nominal voltage and 100 % demand", unit="MW", ge=-1e5, le=1e5
    )
    reactive_power_mvar: float | None = quantity(
        "Reactive power", "At nominal voltage and 100 % demand; positive is inductive", unit="Mvar", ge=-1e5, le=1e5
    )
    apparent_power_mva: float | None = quantity(
        "Apparent power", "At nominal voltage and 100 % demand", unit="MVA", ge=0, le=1e5
    )
    power_factor: float | None = quantity(
        "Power factor", "Active over apparent power; negative when capacitive", unit="1", ge=-1, le=1
    )
    constant_power_pct: float = quantity(
        "Constant power", "Share whose power does not depend on voltage", unit="%", default=100.0, ge=0, le=100,
        typical=True,
    )  # fmt: skip
    constant_current_pct: float = quantity(
        "Constant current", "Share whose power follows the voltage", unit="%", default=0.0, ge=0, le=100, typical=True
    )
    constant_impedance_pct: float = quantity(
        "Constant impedance", "Share whose power follows the voltage squared", unit="%", default=0.0, ge=0, le=100,
        typical=True,
    )  # fmt: skip
    demand_class: Annotated[str, Field(min_length=1, max_length=40)] = choice(
        "Class", "Kind of customer; conditions scale demand by it", default="domestic", typical=True
    )
    customers: int = quantity("Customers", "Number of customers supplied", unit="1", default=1, ge=0, le=10_000_000)

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        given = {f for f in _POWER if getattr(self, f) is not None}
        if len(given) > 2 or (len(given) == 2 and given not in _PAIRS):
            raise ValueError(
                "active_power_mw, reactive_power_mvar, apparent_power_mva, power_factor: give active power with "
                "reactive power or power factor, or apparent power with power factor"
            )
        if self.power_factor is not None and abs(self.power_factor) < 0.05:
            raise ValueError("power_factor: enter a value from 0.05 to 1, or from -1 to -0.05")
        total = self.constant_power_pct + self.constant_current_pct + self.constant_impedance_pct
        if abs(total - 100) > 1e-6:
            raise ValueError(
                "constant_power_pct: the shares of constant power, current and impedance add up to "
                f"{total:g} %, they must add up to 100 %"
            )
        return self

    def _missing_beyond_fields(self) -> tuple[str, ...]:
        given = {f for f in _POWER if getattr(self, f) is not None}
        if given in _PAIRS:
            return ()
        return next((tuple(p - given) for p in _PAIRS if given < p), ("active_power_mw", "reactive_power_mvar"))

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """Entering a third power figure replaces the one it contradicts; shares are filled up to 100 %."""
        entered = {f for f in _POWER if values.get(f) is not None}
        kept = {f for f in _POWER if f not in values and getattr(self, f) is not None}
        if entered and entered | kept not in _PAIRS and len(entered) <= 2:
            for pair in _PAIRS:
                if entered <= pair and (pair - entered <= kept or pair == entered):
                    values = {**dict.fromkeys(kept - pair), **values}
                    break
        shares = ("constant_power_pct", "constant_current_pct", "constant_impedance_pct")
        changed = [s for s in shares if s in values]
        if len(changed) == 1 and isinstance(values[changed[0]], int | float):
            filler = next(s for s in shares if s != changed[0])
            rest = 100 - values[changed[0]] - sum(getattr(self, s) for s in shares if s not in (filler, changed[0]))
            if 0 <= rest <= 100:
                values = {**values, filler: rest}
        return values

    def power_mva(self) -> complex:
        """P + jQ in MW and Mvar at nominal voltage and 100 % demand."""
        p, q, s, pf = (getattr(self, f) for f in _POWER)
        if p is not None and q is not None:
            return complex(p, q)
        if pf is None or (p is None and s is None):
            return 0j
        p = s * abs(pf) if p is None else p
        tan = sqrt(1 - pf * pf) / pf
        return complex(p, p * tan)
