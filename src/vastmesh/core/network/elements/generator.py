from __future__ import annotations

from math import copysign, sqrt
from typing import Literal, Self

from pydantic import model_validator

from ..fields import choice, quantity, reference
from ..items import Role
from ._control import droop, held_bus, participation
from ._failing import Failing
from ._market import (
    Capability,
    CostBlocks,
    capability,
    check_powers,
    cost,
    cost_blocks,
    cost_of_curtailing,
    cost_of_reactive,
    energy_now,
    energy_stored,
    least_power,
    may_stop,
    most_power,
    movable,
    ramp,
    rising_cost,
    round_trip,
    running_cost,
    start_cost,
)
from ._neutral import Earthing, earthing, earthing_current, earthing_resistance


class Generator(Failing):
    """A generator with set active power that controls either voltage or reactive power."""

    label, plural = "Generator", "Generators"
    role = Role.GENERATION

    kind: Literal["generator"] = "generator"
    bus: str = reference("Bus", "Bus at the terminals", to="bus", terminal=True)
    energy: Literal["hydro", "wind", "solar", "thermal", "storage", "other"] = choice(
        "Energy", "What drives it; conditions scale generation by it", default="other", typical=True
    )
    active_power_mw: float | None = quantity(
        "Active power", "Active power delivered at 100 % generation", unit="MW", ge=-1e5, le=1e5, required=True
    )
    rated_mva: float | None = quantity("Rated power", "Rated apparent power", unit="MVA", gt=0, le=1e5)
    control: Literal["voltage", "reactive", "power_factor"] = choice(
        "Control", "What its excitation or inverter holds", default="reactive", typical=True
    )
    voltage_pu: float = quantity(
        "Voltage held", "Set-point under voltage control", unit="p.u.", default=1.0, ge=0.5, le=1.5, typical=True
    )
    held_bus: str | None = held_bus("its own", when={"control": ("voltage",)})
    participation: float = participation(0.0)
    droop_pct: float | None = droop()
    reactive_power_mvar: float = quantity(
        "Reactive power", "Delivered under reactive control (positive supports the voltage)", unit="Mvar", default=0.0,
        ge=-1e5, le=1e5,
    )  # fmt: skip
    power_factor: float = quantity(
        "Power factor", "Under power-factor control; negative when it takes in reactive power", unit="1", default=1.0,
        ge=-1, le=1,
    )  # fmt: skip
    q_min_mvar: float | None = quantity(
        "Lowest Q", "Least it can deliver; negative takes in", unit="Mvar", ge=-1e5, le=1e5
    )
    q_max_mvar: float | None = quantity("Highest Q", "Most it can deliver", unit="Mvar", ge=-1e5, le=1e5)
    dispatched: bool = movable()
    least_mw: float | None = least_power("0, of storage minus its rating")
    most_mw: float | None = most_power("its rating, of wind and sun what they deliver now,")
    cost_per_mwh: float | None = cost()
    cost_rising: float = rising_cost()
    cost_running: float = running_cost()
    cost_blocks: CostBlocks | None = cost_blocks()
    cost_per_mvarh: float = cost_of_reactive()
    capability: Capability | None = capability()
    ramp_mw_per_min: float | None = ramp()
    curtailment_cost: float = cost_of_curtailing()
    may_stop: bool = may_stop()
    start_cost: float = start_cost()
    energy_mwh: float | None = energy_stored()
    energy_now_pct: float = energy_now()
    round_trip_pct: float = round_trip()
    xd_pct: float = quantity("Sub-transient reactance", "On rated power", unit="%", default=18.0, gt=1, le=100, typical=True,
                             group="sequence")  # fmt: skip
    neutral: Earthing = earthing(default="isolated")
    neutral_ohm: float | None = earthing_resistance("neutral")
    neutral_a: float | None = earthing_current("neutral")
    partial_rate: float | None = quantity("Partial failures", "After which it still gives something", unit="1/a", ge=0, le=1000,
                                          group="reliability")  # fmt: skip
    partial_h: float | None = quantity("Partial repair", "Mean time until it gives all again", unit="h", gt=0, le=20_000,
                                       group="reliability", when={"partial_rate": ("~",)})  # fmt: skip
    partial_mw: float | None = quantity("Meanwhile", "Power it still gives", unit="MW", ge=0, le=1e5, group="reliability",
                                        when={"partial_rate": ("~",)})  # fmt: skip

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.q_min_mvar is not None and self.q_max_mvar is not None and self.q_min_mvar > self.q_max_mvar:
            raise ValueError(f"q_min_mvar: the lowest reactive power is above the highest, {self.q_max_mvar:g} Mvar")
        check_powers(self)
        if abs(self.power_factor) < 0.1:
            raise ValueError("power_factor: enter a value from 0.1 to 1, or from -1 to -0.1")
        return self

    def shares(self) -> float:
        """Weight in what machines take over together; with a droop MW for each per cent of frequency."""
        if self.droop_pct is None:
            return self.participation
        return (self.rated_mva or abs(self.active_power_mw or 0.0)) / self.droop_pct

    def set_reactive_mvar(self) -> float:
        """Reactive power delivered when voltage is not controlled, at 100 % generation."""
        if self.control != "power_factor":
            return self.reactive_power_mvar
        tan = sqrt(1 - self.power_factor**2) / abs(self.power_factor)
        return copysign(abs(self.active_power_mw or 0) * tan, self.power_factor)
