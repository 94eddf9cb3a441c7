from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from ..fields import choice, quantity
from ..items import Item
from ._harmonics import levels_in
from ._rows import Rows


class HarmonicLevels(Item):
    """Levels of harmonic voltages for buses of one range of nominal voltages, in place of the generic ones."""

    label, plural = "Harmonic levels", "Harmonic levels"

    kind: Literal["harmonic_levels"] = "harmonic_levels"
    use: Literal["planning", "compatibility"] = choice("Use", "Which levels they stand for", default="planning")
    above_kv: float = quantity("Above", "Holds for nominal voltages above this one", unit="kV", default=0.0, ge=0)
    up_to_kv: float = quantity("Up to", "Holds for nominal voltages up to this one", unit="kV", default=1500.0, gt=0)
    total_pct: float | None = quantity(
        "Total", "Level of total distortion; the generic one when blank", unit="%", gt=0, le=100
    )
    orders: Rows | None = choice(
        "Orders", "Rows of order and per cent of the fundamental: 5 5; 7 4; 11 3; 11.5 0.2", default=None
    )
    others_pct: float | None = quantity("All others", "Level of orders that are not named; the generic ones when blank", unit="%",
                                        gt=0, le=100)  # fmt: skip

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.above_kv >= self.up_to_kv:
            raise ValueError(f"above_kv: must be below {self.up_to_kv:g} kV")
        self.by_order()
        return self

    def by_order(self) -> list[tuple[float, float]]:
        """Orders and their levels, per cent."""
        return levels_in("orders", self.orders)
