"""Items that say what fails together, what an interruption costs, and how demand grows."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ..fields import choice, quantity, reference
from ..items import Item
from .outages import Members

Class = Annotated[str, Field(min_length=1, max_length=40)]


class CommonFailure(Item):
    """Elements that fail together from one cause: circuits on the same towers, what stands in one room."""

    label, plural = "Common failure", "Common failures"

    kind: Literal["common_failure"] = "common_failure"
    members: Members | None = choice(
        "Elements", "Ids of what fails together: lines, transformers, buses, switches", default=None, picks="element"
    )
    failure_rate: float | None = quantity("Failures", "Of all of them together, from one cause", unit="1/a", ge=0, le=1000,
                                          required=True)  # fmt: skip
    repair_h: float | None = quantity(
        "Repair", "Mean time until they are back", unit="h", gt=0, le=20_000, required=True
    )


# Durations for which a cost is entered, h.
COST_H = (1 / 60, 1 / 3, 1.0, 4.0, 8.0, 24.0)
COSTS = ("minute", "twenty", "hour", "four", "eight", "day")


def _cost(label: str, default: float) -> float:
    found: float = quantity(label, "Of an interruption of this length, by average demand", unit="1/kW", default=default, ge=0,
                            le=1e6, typical=True)  # fmt: skip
    return found


class InterruptionCost(Item):
    """What interruptions cost customers of one class, by how long they last; straight lines between and beyond."""

    label, plural = "Interruption cost", "Interruption costs"

    kind: Literal["interruption_cost"] = "interruption_cost"
    demand_class: Class = choice("Class", "Kind of customer, as loads name it", default="domestic")
    minute: float = _cost("One minute", 0.5)
    twenty: float = _cost("Twenty minutes", 2.0)
    hour: float = _cost("One hour", 5.0)
    four: float = _cost("Four hours", 18.0)
    eight: float = _cost("Eight hours", 35.0)
    day: float = _cost("A day", 80.0)

    @model_validator(mode="after")
    def _rises(self) -> Self:
        for a, b in pairwise(COSTS):
            if getattr(self, a) > getattr(self, b):
                raise ValueError(
                    f"{b}: a longer interruption costs at least as much; enter {getattr(self, a):g} or more"
                )
        return self

    def costs(self) -> tuple[float, ...]:
        return tuple(getattr(self, c) for c in COSTS)


class Growth(Item):
    """How demand of a class, of an area, or of both grows from a year on."""

    label, plural = "Growth", "Growths"

    kind: Literal["growth"] = "growth"
    demand_class: Class | None = choice("Class", "Whose demand grows; any when blank", default=None)
    area: str | None = reference("Area", "Where; everywhere when blank", to="area", default=None)
    from_year: int = quantity(
        "From", "Year in which demand is what is entered", unit="1", default=2025, ge=1900, le=2200
    )
    shape: Literal["each_year", "s_curve"] = choice(
        "Shape", "The same share every year; or slow, fast and slow again towards an end", default="each_year"
    )
    pct_per_year: float = quantity("Growth", "Each year", unit="%", default=2.0, ge=-50, le=100,
                                   when={"shape": ("each_year",)})  # fmt: skip
    end_pct: float = quantity("In the end", "Of the demand entered, once it has grown", unit="%", default=150.0, ge=0, le=10_000,
                              when={"shape": ("s_curve",)})  # fmt: skip
    half_year: int = quantity("Half way", "Year in which half of it is there", unit="1", default=2030, ge=1900, le=2200,
                              when={"shape": ("s_curve",)})  # fmt: skip
    takes_years: float = quantity("Takes", "From a tenth to nine tenths of it", unit="a", default=8.0, gt=0, le=100,
                                  when={"shape": ("s_curve",)})  # fmt: skip

    def factor(self, year: int) -> float:
        """Demand in a year over what is entered; 1 up to the year it begins with."""
        if year <= self.from_year:
            return 1.0
        if self.shape == "each_year":
            return float((1 + self.pct_per_year / 100) ** (year - self.from_year))
        # The logistic curve takes 2 ln 9 of its own unit from a tenth to nine tenths; shifted so that it begins at 1.
        k = 4.394449154672439 / self.takes_years

        def done(y: float) -> float:
            return float(1 / (1 + 2.718281828459045 ** min(max(-k * (y - self.half_year), -700), 700)))

        first = done(self.from_year)
        return 1 + (self.end_pct / 100 - 1) * (done(year) - first) / (1 - first)
