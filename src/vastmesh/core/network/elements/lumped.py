from __future__ import annotations

from typing import Any, Literal, Self

from pydantic import model_validator

from ..fields import quantity
from ._demand import Demand, check_shares, share_filled

_SHARES = ("motor_pct", "impedance_pct", "current_pct")


class LumpedLoad(Demand):
    """Demand of many consumers behind one point, with its mix: motors, constant impedance, constant current.

    In load flow the motor share is constant power; for fault levels it feeds back like the motors it stands for.
    """

    label, plural = "Lumped demand", "Lumped demands"

    kind: Literal["lumped"] = "lumped"
    motor_pct: float = quantity(
        "Motors", "Share drawn by motors: constant power", unit="%", default=60.0, ge=0, le=100, typical=True
    )
    impedance_pct: float = quantity(
        "Constant impedance",
        "Share that follows the voltage squared",
        unit="%",
        default=40.0,
        ge=0,
        le=100,
        typical=True,
    )
    current_pct: float = quantity(
        "Constant current", "Share that follows the voltage", unit="%", default=0.0, ge=0, le=100, typical=True
    )
    motor_starting_x: float = quantity(
        "Motor starting current", "Locked-rotor current of the motor share, in rated currents", unit="1", default=6.0,
        ge=2, le=12, typical=True,
    )  # fmt: skip

    @model_validator(mode="after")
    def _whole(self) -> Self:
        check_shares(self, _SHARES, "motors, constant impedance and constant current")
        return self

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """Two power figures stay two; shares are filled up to 100 %."""
        return share_filled(self, _SHARES, super().reconcile(values))

    def motor_ohm(self, nominal_kv: float) -> complex | None:
        """Impedance of the motors with locked rotors at nominal voltage, Ω; None where there are none."""
        size = abs(self.power_mva()) * self.motor_pct / 100
        return complex(0.3, 1) / abs(complex(0.3, 1)) / self.motor_starting_x * nominal_kv**2 / size if size else None
