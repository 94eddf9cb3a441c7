from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from ..fields import choice, quantity, reference
from ..items import Element, Role
from ._market import optimised

_AUTO = {"automatic": (True,)}


class Shunt(Element):
    """A capacitor bank or reactor between bus and earth, switched in equal steps."""

    label, plural = "Shunt", "Shunts"
    role = Role.SHUNT

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
    connection: Literal["wye", "delta", "earthed"] = choice(
        "Connection", "Wye: to the neutral (to a free star point where there is none); delta; or star point earthed",
        default="wye", group="phases",
    )  # fmt: skip
    automatic: bool = choice("Automatic", "Switches its steps by itself to hold the voltage", default=False)
    on_below_pu: float = quantity("On below", "A step is switched on below this voltage (a reactor's: off)", unit="p.u.",
                                  default=0.97, ge=0.5, le=1.5, typical=True, when=_AUTO)  # fmt: skip
    off_above_pu: float = quantity("Off above", "A step is switched off above this voltage (a reactor's: on)", unit="p.u.",
                                   default=1.03, ge=0.5, le=1.5, typical=True, when=_AUTO)  # fmt: skip

    optimised: bool = optimised("capacitor steps")

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.steps_on > self.steps:
            raise ValueError(f"steps_on: only {self.steps} are installed")
        if self.on_below_pu >= self.off_above_pu:
            raise ValueError(f"on_below_pu: must be below {self.off_above_pu:g} p.u., where steps are switched off")
        return self
