"""Motors, described by their name plates."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from ...catalogue import SQRT3, reactive
from ..fields import choice, quantity, reference
from ..items import Element


class _Motor(Element):
    bus: str = reference("Bus", "Bus it is connected to", to="bus", terminal=True)
    rated_kw: float | None = quantity(
        "Rated power", "Mechanical power at the shaft", unit="kW", gt=0, le=1e6, required=True
    )
    rated_kv: float | None = quantity("Rated voltage", "Line-to-line voltage of the name plate", unit="kV", gt=0, le=50)
    efficiency_pct: float = quantity(
        "Efficiency", "At rated power", unit="%", default=93.0, ge=20, le=100, typical=True
    )
    load_factor_pct: float = quantity(
        "Load factor", "Mechanical power drawn now, of rated power", unit="%", default=100.0, ge=0, le=150
    )
    count: int = quantity("Number", "Equal motors running side by side", unit="1", default=1, ge=1, le=1000)
    demand_class: Annotated[str, Field(min_length=1, max_length=40)] = choice(
        "Class", "Kind of customer; conditions scale demand by it", default="industrial", typical=True
    )

    def input_mw(self) -> float:
        """Electrical power drawn by all of them together, MW."""
        return (self.rated_kw or 0.0) / 1e3 * self.count * self.load_factor_pct / self.efficiency_pct

    def rated_input_mva(self, power_factor: float) -> float:
        """Apparent power of all of them together at rated load, MVA."""
        return (self.rated_kw or 0.0) / 1e3 * self.count / (self.efficiency_pct / 100) / abs(power_factor)

    def rated_a(self, power_factor: float, kv: float) -> float:
        """Rated current of one motor, A."""
        return self.rated_input_mva(power_factor) / self.count * 1e3 / SQRT3 / kv


class InductionMotor(_Motor):
    """An induction motor: draws constant power at its shaft; starts with several times its rated current."""

    label, plural = "Induction motor", "Induction motors"

    kind: Literal["induction_motor"] = "induction_motor"
    power_factor: float = quantity("Power factor", "At rated power", unit="1", default=0.87, ge=0.2, le=1, typical=True)
    starting_current_x: float = quantity(
        "Starting current", "Locked-rotor current, in rated currents", unit="1", default=6.0, ge=2, le=15, typical=True
    )
    starting_power_factor: float = quantity(
        "Starting power factor", "With the rotor locked", unit="1", default=0.3, ge=0.05, le=0.9, typical=True
    )
    slip_pct: float = quantity("Rated slip", "Slip at rated power", unit="%", default=1.5, gt=0, le=15, typical=True)

    def power_mva(self) -> complex:
        """P + jQ drawn, MW and Mvar; the power factor of rated load is kept at other loads."""
        p = self.input_mw()
        return complex(p, reactive(p, self.power_factor))


class SynchronousMotor(_Motor):
    """A synchronous motor: draws constant power; its excitation sets a lagging or leading power factor."""

    label, plural = "Synchronous motor", "Synchronous motors"

    kind: Literal["synchronous_motor"] = "synchronous_motor"
    power_factor: float = quantity(
        "Power factor", "Set by the excitation; negative when it delivers reactive power", unit="1", default=1.0, ge=-1,
        le=1, typical=True,
    )  # fmt: skip
    xd_pct: float = quantity(
        "Sub-transient reactance", "On rated apparent power", unit="%", default=20.0, gt=1, le=100, typical=True
    )

    def power_mva(self) -> complex:
        """P + jQ drawn, MW and Mvar."""
        p = self.input_mw()
        return complex(p, reactive(p, self.power_factor if abs(self.power_factor) >= 0.05 else 1.0))
