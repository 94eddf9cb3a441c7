from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from ..fields import choice, quantity, reference
from ..items import Element


class Switch(Element):
    """A switching device between two buses: a perfect connection when closed, none when open."""

    label, plural = "Switch", "Switches"

    kind: Literal["switch"] = "switch"
    from_bus: str = reference("From bus", "Bus on one side", to="bus", terminal=True)
    to_bus: str = reference("To bus", "Bus on the other side", to="bus", terminal=True)
    device: Literal["breaker", "disconnector", "fuse"] = choice("Device", "What it is", default="breaker", typical=True)
    closed: bool = choice("Closed", "Normal position", default=True)
    rating_a: float | None = quantity("Rating", "Continuous current", unit="A", gt=0, le=100000)

    @model_validator(mode="after")
    def _joins_two(self) -> Self:
        if self.from_bus == self.to_bus:
            raise ValueError("to_bus: a switch joins two different buses")
        return self
