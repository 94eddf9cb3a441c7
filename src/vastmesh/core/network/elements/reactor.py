from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from ..fields import quantity, reference
from ..items import Role
from ._failing import Failing
from ._harmonics import ResistanceTable, resistance_table


class SeriesReactor(Failing):
    """A reactor between two buses of one nominal voltage that limits current."""

    label, plural = "Series reactor", "Series reactors"
    role, side_by_side = Role.BRANCH, True

    kind: Literal["series_reactor"] = "series_reactor"
    from_bus: str = reference("From bus", "Bus on one side", to="bus", terminal=True)
    to_bus: str = reference("To bus", "Bus on the other side", to="bus", terminal=True)
    x_ohm: float | None = quantity("Reactance", "Per phase at nominal frequency", unit="Ω", gt=0, le=1e4, required=True)
    x_over_r: float = quantity("X / R", "Reactance over resistance", unit="1", default=50.0, gt=0, le=1e4, typical=True)
    rating_a: float | None = quantity("Rating", "Continuous current", unit="A", gt=0, le=1e5)
    skin_exponent: float = quantity(
        "Skin effect", "Resistance at harmonic order h is R times h to this power", unit="1", default=0.0, ge=0, le=2,
        group="harmonics",
    )  # fmt: skip
    resistance_table: ResistanceTable | None = resistance_table()

    @model_validator(mode="after")
    def _joins_two(self) -> Self:
        if self.from_bus == self.to_bus:
            raise ValueError("to_bus: a reactor joins two different buses")
        return self
