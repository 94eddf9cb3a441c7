from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from ..fields import choice, quantity, reference
from ..items import Element


class Shunt(Element):
    """A capacitor bank or reactor between bus and earth, switched in equal steps."""

    label, plural = "Shunt", "Shunts"

    kind: Literal["shunt"] = "shunt"
    bus: str = reference("Bus", "Bus it is connected to", to="bus", terminal=True)
    device: Literal["capacitor", "reactor"] = choice("Device", "What it is", default="capacitor")
    step_mvar: float | None = quantity(
        "Power per step", "Reactive power of one step at rated voltage", unit="Mvar", ge=0, le=1e5, required=True
    )
    rated_kv: float | None = quantity(
        "Rated voltage", "Voltage at which the step has its power; the bus's nominal voltage when blank", unit="kV",
        gt=0, le=1500,
    )  # fmt: skip
    step_loss_kw: float = quantity(
        "Loss per step", "Active power of one step at rated voltage", unit="kW", default=0.0, ge=-1e8, le=1e8,
        typical=True,
    )  # fmt: skip
    steps: int = quantity("Steps", "Number of steps installed", unit="1", default=1, ge=1, le=100)
    steps_on: int = quantity("Steps on", "Number of steps in service", unit="1", default=1, ge=0, le=100)

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.steps_on > self.steps:
            raise ValueError(f"steps_on: only {self.steps} are installed")
        return self
