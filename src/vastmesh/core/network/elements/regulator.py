from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from ..fields import choice, quantity, reference
from ..items import Role
from ._control import compensation, continuous, delay, held_bus
from ._failing import Failing
from ._market import optimised
from ._phases import Taps, check_phase_taps, phase_tap, taps

_AUTO = {"automatic": (True,)}
_PER_PHASE = {"taps": ("per_phase",)}


class Regulator(Failing):
    """A line voltage regulator: an autotransformer in the line that raises or lowers the voltage in steps."""

    label, plural = "Voltage regulator", "Voltage regulators"
    role = Role.BRANCH

    kind: Literal["regulator"] = "regulator"
    from_bus: str = reference("Supply bus", "Bus on the supply side", to="bus", terminal=True)
    to_bus: str = reference("Regulated bus", "Bus on the regulated side", to="bus", terminal=True)
    rating_a: float | None = quantity("Rating", "Continuous current", unit="A", gt=0, le=1e5)
    step_pct: float = quantity(
        "Step", "Voltage changed by one step", unit="%", default=0.625, gt=0, le=10, typical=True
    )
    tap_min: int = quantity("Lowest tap", "Lowest position", unit="1", default=-16, ge=-100, le=0, typical=True)
    tap_max: int = quantity("Highest tap", "Highest position", unit="1", default=16, ge=0, le=100, typical=True)
    tap_position: int = quantity("Tap position", "Position now; positive raises", unit="1", default=0, ge=-100, le=100)
    x_ohm: float = quantity("Reactance", "Series reactance, at the supply side", unit="Ω", default=0.05, gt=0, le=100,
                            typical=True)  # fmt: skip
    automatic: bool = choice("Automatic", "Steps by itself to hold the voltage", default=True)
    target_pu: float = quantity("Target", "Voltage held at the regulated bus", unit="p.u.", default=1.0, ge=0.8, le=1.2,
                                typical=True, when=_AUTO)  # fmt: skip
    band_pct: float = quantity("Dead band", "Width of the band around the target", unit="%", default=1.5, gt=0, le=20,
                               typical=True, when=_AUTO)  # fmt: skip
    held_bus: str | None = held_bus("the regulated bus", when=_AUTO)
    ldc_r_ohm: float = compensation("R", when=_AUTO)
    ldc_x_ohm: float = compensation("X", when=_AUTO)
    continuous: bool = continuous(when=_AUTO)
    delay_s: float = delay(when=_AUTO)
    optimised: bool = optimised("taps")
    taps: Taps = taps()
    tap_a: int | None = phase_tap("A", _PER_PHASE)
    tap_b: int | None = phase_tap("B", _PER_PHASE)
    tap_c: int | None = phase_tap("C", _PER_PHASE)

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.from_bus == self.to_bus:
            raise ValueError("to_bus: a regulator joins two different buses")
        if not self.tap_min <= self.tap_position <= self.tap_max:
            raise ValueError(f"tap_position: enter a position from {self.tap_min} to {self.tap_max}")
        check_phase_taps(self)
        if 1 + self.tap_min * self.step_pct / 100 < 0.5:
            raise ValueError("step_pct: this step and lowest position leave less than half of the voltage")
        return self

    def ratio(self) -> float:
        """Regulated voltage over supply voltage at no load."""
        return 1 + self.tap_position * self.step_pct / 100
