"""What fails, how often, for how long, and what stands at its ends to clear it and to take it out."""

from __future__ import annotations

from typing import Any, Literal, Self

from pydantic import model_validator

from ..fields import choice, quantity
from ..items import Element

Gear = Literal["breaker", "recloser", "fuse", "remote", "disconnector", "none"]

_RATE = "Permanent failures; typical of its kind when blank"
_BRIEF = "Failures that are over once it has been without voltage for a moment; typical of its kind when blank"


def failures(meaning: str = _RATE, *, unit: str = "1/a") -> Any:
    return quantity("Failures", meaning, unit=unit, ge=0, le=1000, group="reliability")


def brief_failures(meaning: str = _BRIEF, *, unit: str = "1/a") -> Any:
    return quantity("Temporary failures", meaning, unit=unit, ge=0, le=1000, group="reliability")


def gear(end: str) -> Any:
    """What stands at an end; the bus itself stays what it is, so that no bus is needed between."""
    return choice(
        f"At the {end}",
        "Breaker and recloser clear faults, a recloser lets temporary ones pass; a fuse clears and is replaced by "
        "hand; a remote switch or a disconnector only isolates. When blank: a breaker in a substation and at high voltage, "
        "a fuse before a transformer elsewhere, else none",
        default=None,
        group="reliability",
    )


class Failing(Element):
    """Equipment that can fail."""

    failure_rate: float | None = failures()
    temporary_rate: float | None = brief_failures()
    repair_h: float | None = quantity(
        "Repair",
        "Mean time until it is repaired; typical of its kind when blank",
        unit="h",
        gt=0,
        le=20_000,
        group="reliability",
    )
    replace_h: float | None = quantity(
        "Replacement",
        "Mean time until a spare stands in its place, where one is kept; the shorter of this and the repair counts",
        unit="h",
        gt=0,
        le=20_000,
        group="reliability",
    )
    maintenance_rate: float | None = quantity(
        "Maintenance", "Planned outages; none when blank", unit="1/a", ge=0, le=100, group="reliability"
    )
    maintenance_h: float | None = quantity("Maintenance takes", "Mean length of a planned outage", unit="h", gt=0, le=20_000,
                                           group="reliability", when={"maintenance_rate": ("~",)})  # fmt: skip
    repair_spread: Literal["exponential", "fixed", "lognormal", "weibull"] = choice(
        "Repair spreads", "How single repairs differ from their mean when years are simulated", default="exponential",
        group="reliability",
    )  # fmt: skip
    repair_shape: float | None = quantity(
        "Shape", "Of Weibull its exponent, of lognormal the deviation of the logarithm; 2 and 0.6 when blank", unit="1", ge=0.1,
        le=10, group="reliability", when={"repair_spread": ("lognormal", "weibull")},
    )  # fmt: skip

    @model_validator(mode="after")
    def _planned_takes_time(self) -> Self:
        if self.maintenance_rate and self.maintenance_h is None:
            raise ValueError("maintenance_h: enter how long a planned outage takes, or blank the maintenance")
        return self
