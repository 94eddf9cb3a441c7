from __future__ import annotations

from ...network.fields import choice, quantity, reference
from ..failures import Course


class ReliabilityOptions(Course):
    """What is asked of the reliability of supply."""

    most_h: float | None = quantity("Hours, most", "Without supply in a year at any load; more is told as a finding; any when "
                                    "blank", unit="h", default=None, ge=0, le=8760)  # fmt: skip
    story: str | None = reference(
        "Story of",
        "Element whose failure is told step by step; when blank, that which interrupts most of those with more than a repair "
        "to tell",
        to="element",
        default=None,
    )


class SimulationOptions(Course):
    """Which years are simulated."""

    years: int = quantity("Years", "How many years are simulated at most", unit="1", default=5000, ge=10, le=1_000_000)
    seed: int = quantity("Seed", "The same seed gives the same years", unit="1", default=1, ge=0, le=2**31)
    at: str | None = reference(
        "Only at", "Load whose years are told; the whole network when blank", to="element", default=None
    )
    stops: bool = choice(
        "Ends when precise", "After the block of 500 years at which the mean is known as well as the precision asks; off: "
        "after all years", default=True,
    )  # fmt: skip
    within_pct: float = quantity(
        "Precision", "Half the 95 % interval of the mean of SAIDI, over it", unit="%",
        default=3.0, gt=0, le=100,
    )  # fmt: skip
    crews: int = quantity(
        "Crews", "Repairs at the same time at most; 0: no limit", unit="1", default=0, ge=0, le=10_000, group="work"
    )
    by_profile: bool = choice("By profile", "Energy by the demand of the hours in which it is missing; off: average demand",
                              default=True)  # fmt: skip
