from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from ..fields import quantity, reference
from ..items import Element


class Source(Element):
    """The strong network behind a boundary. In load flow it holds voltage and angle at its bus."""

    label, plural = "Source", "Sources"

    kind: Literal["source"] = "source"
    bus: str = reference("Bus", "Bus at the boundary", to="bus", terminal=True)
    voltage_pu: float = quantity(
        "Voltage", "Voltage held at the bus, per unit of its nominal voltage", unit="p.u.", default=1.0, ge=0.5, le=1.5,
        typical=True,
    )  # fmt: skip
    angle_deg: float = quantity("Angle", "Voltage angle at the bus", unit="°", default=0.0, ge=-360, le=360)
    fault_max_mva: float = quantity(
        "Fault level, highest", "Three-phase fault level with most plant running", unit="MVA", default=1000.0, gt=0,
        le=1e6, typical=True,
    )  # fmt: skip
    fault_min_mva: float = quantity(
        "Fault level, lowest", "Three-phase fault level with least plant running", unit="MVA", default=800.0, gt=0,
        le=1e6, typical=True,
    )  # fmt: skip
    x_over_r: float = quantity(
        "X / R", "Ratio of reactance to resistance of the source impedance", unit="1", default=10.0, ge=0, le=1000,
        typical=True,
    )  # fmt: skip

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.fault_min_mva > self.fault_max_mva:
            raise ValueError(f"fault_min_mva: the lowest fault level is above the highest, {self.fault_max_mva:g} MVA")
        return self
