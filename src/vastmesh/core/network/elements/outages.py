"""Items that say which losses the network is to survive, and what is allowed after them."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ..fields import choice, quantity, reference
from ..items import Item
from ..limit_sets import LimitSet

OutageOf = Literal["lines", "transformers", "branches", "circuits", "busbars", "plants", "pairs"]
Members = Annotated[tuple[Annotated[str, Field(min_length=1, max_length=80)], ...], Field(max_length=200)]


class _After(Item):
    """What is allowed after an outage."""

    limit_set: LimitSet = choice(
        "Limits after it", "The normal ones, or those for a limited time", default="emergency", group="after"
    )
    stage: Literal["just_after", "after_control"] = choice(
        "Judged",
        "Before taps, phase shifters and capacitors have acted, or after that",
        default="just_after",
        group="after",
    )
    lost_demand_mw: float | None = quantity(
        "Demand that may be lost", "More than this is a breach; any when blank", unit="MW", ge=0, le=1e6, group="after"
    )
    counts: bool = choice("Counts", "Looked at when outages are worked out", default=True)


class Outage(_After):
    """Elements that are lost together."""

    label, plural = "Outage", "Outages"

    kind: Literal["outage"] = "outage"
    members: Members | None = choice(
        "Elements", "Ids of what is lost together: branches, plants, loads, buses, switches", default=None,
        picks="element",
    )  # fmt: skip


class OutageRule(_After):
    """Outages by a rule: always of the network as it stands."""

    label, plural = "Outage rule", "Outage rules"

    kind: Literal["outage_rule"] = "outage_rule"
    of: OutageOf = choice(
        "Loss of",
        "Each line, each transformer, each of both; circuits on the same towers or between the same two buses "
        "together; each bus with all that is connected to it; each plant; any two branches",
        default="branches",
    )
    from_kv: float = quantity("From", "Lowest nominal voltage at any end", unit="kV", default=0.0, ge=0, le=1500)
    up_to_kv: float = quantity("Up to", "Nominal voltage of the highest end", unit="kV", default=1500.0, gt=0, le=1500)
    area: str | None = reference("Area", "Only what has an end in this area; all when blank", to="area", default=None)
    from_mw: float = quantity(
        "Plants from", "Smallest plant that counts, by what it gives at most", unit="MW", default=0.0, ge=0, le=1e6
    )

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.from_kv > self.up_to_kv:
            raise ValueError(f"from_kv: must not be above {self.up_to_kv:g} kV")
        return self
