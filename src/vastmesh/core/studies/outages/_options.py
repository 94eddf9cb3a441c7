from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict

from ...network.fields import When, choice, quantity
from ...network.limit_sets import LimitSet
from ..losses import Asked

_OWN: When = {"of": ("lines", "transformers", "branches", "circuits", "busbars", "plants", "pairs")}


class LostOptions(BaseModel):
    """What is lost, and how what has no outage of its own in the model is judged."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    of: Literal["model", "lines", "transformers", "branches", "circuits", "busbars", "plants", "pairs"] = choice(
        "Loss of",
        "The outages and outage rules of the model, each branch where it has none; or something else, by the rule "
        "below",
        default="model",
    )
    from_kv: float = quantity(
        "From", "Lowest nominal voltage at any end", unit="kV", default=0.0, ge=0, le=1500, when=_OWN
    )
    up_to_kv: float = quantity(
        "Up to", "Nominal voltage of the highest end", unit="kV", default=1500.0, gt=0, le=1500, when=_OWN
    )
    limit_set: LimitSet = choice(
        "Limits after it", "Of what has no outage of its own in the model", default="emergency"
    )
    stage: Literal["just_after", "after_control"] = choice(
        "Judged",
        "Just after: before taps, phase shifters and capacitors have acted. After control: when they have; of what has "
        "no outage of its own in the model",
        default="just_after",
    )

    def asked(self) -> Asked:
        return Asked(self.of, self.from_kv, self.up_to_kv, self.limit_set, self.stage)


class OutagesOptions(LostOptions):
    """What is lost, when it is judged, and whether help is looked for."""

    listed_pct: float = quantity(
        "Listed from",
        "Loading, of what is allowed then, from which an element stands in the matrix",
        unit="%",
        default=90.0,
        ge=0,
        le=1000,
    )
    screen: Literal["none", "safe"] = choice(
        "Screening",
        "None: every outage by the AC load flow. Safe: what linear factors put further below every limit than the "
        "margin is not solved",
        default="none",
        group="work",
    )
    margin_pct: float = quantity(
        "Margin",
        "Of what is allowed; what is estimated above 100 % less this is solved",
        unit="%",
        default=30.0,
        ge=0,
        le=100,
        group="work",
        when={"screen": ("safe",)},
    )
    help: Literal["none", "worst"] = choice(
        "Look for help",
        "None, or switching, taps, redispatch and shedding for each outage after which limits are broken",
        default="none",
        group="help",
    )
    tried: int = quantity(
        "Ways tried",
        "At most, for each outage",
        unit="1",
        default=12,
        ge=1,
        le=1000,
        group="help",
        when={"help": ("worst",)},
    )


class ComparedOptions(LostOptions):
    """Over what, and which outages."""

    over: Literal["schemes", "conditions"] = choice(
        "Side by side", "The network without any scheme, each alone, and those that are on together; or every condition",
        default="schemes",
    )  # fmt: skip
