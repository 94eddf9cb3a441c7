from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from ..fields import choice, quantity
from ..items import Item
from ._harmonics import levels_in
from ._rows import Rows


class CurrentLimits(Item):
    """Limits of harmonic currents at a point of coupling for one range of voltages and ratios, in place of the generic ones."""

    label, plural = "Current limits", "Current limits"

    kind: Literal["current_limits"] = "current_limits"
    above_kv: float = quantity("Above", "Holds for nominal voltages above this one", unit="kV", default=0.0, ge=0)
    up_to_kv: float = quantity("Up to", "Holds for nominal voltages up to this one", unit="kV", default=1500.0, gt=0)
    ratio_from: float = quantity("Ratio from", "Least ratio of short-circuit to demand current for which it holds", unit="1",
                                 default=0.0, ge=0, le=1e9)  # fmt: skip
    ratio_below: float | None = quantity("Ratio below", "It holds for less than this; no bound when blank", unit="1", gt=0,
                                         le=1e9)  # fmt: skip
    total_pct: float | None = quantity(
        "Total", "Limit of total demand distortion; the generic one when blank", unit="%", gt=0, le=200
    )
    orders: Rows | None = choice(
        "Orders", "Rows of order and per cent of the demand current: 5 4; 7 4; 11 2", default=None
    )
    others_pct: float | None = quantity("All others", "Limit of orders that are not named; the generic ones when blank", unit="%",
                                        gt=0, le=200)  # fmt: skip

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.above_kv >= self.up_to_kv:
            raise ValueError(f"above_kv: must be below {self.up_to_kv:g} kV")
        if self.ratio_below is not None and self.ratio_from >= self.ratio_below:
            raise ValueError(f"ratio_from: must be below {self.ratio_below:g}")
        self.by_order()
        return self

    def by_order(self) -> list[tuple[float, float]]:
        """Orders and their limits, per cent of the demand current."""
        return levels_in("orders", self.orders)

    def holds(self, kv: float, ratio: float) -> bool:
        """Whether it counts at a nominal voltage and a ratio of short-circuit to demand current."""
        return self.above_kv < kv <= self.up_to_kv and self.ratio_from <= ratio < (self.ratio_below or float("inf"))
