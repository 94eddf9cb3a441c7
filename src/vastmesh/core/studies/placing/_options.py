from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict

from ...network.fields import choice, quantity

_CAPACITORS = {"devices": ("capacitors", "both")}
_REGULATORS = {"devices": ("regulators", "both")}


class PlacingOptions(BaseModel):
    """What is placed, where it may stand, what it costs and what it saves."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    devices: Literal["capacitors", "regulators", "both"] = choice("Devices", "What is placed", default="capacitors")
    most: int = quantity("At most", "Devices placed", unit="1", default=3, ge=1, le=20)
    over: Literal["present", "conditions"] = choice(
        "Under", "The condition in use; or all conditions, each for as many hours of the year", default="conditions"
    )
    above_kv: float = quantity(
        "Above", "Nominal voltage of the places", unit="kV", default=1.0, ge=0, le=1500, group="places"
    )
    up_to_kv: float = quantity(
        "Up to", "Nominal voltage of the places", unit="kV", default=36.0, gt=0, le=1500, group="places"
    )
    method: Literal["exchange", "exact"] = choice(
        "Method", "Exchange: the best one after another, then each moved as long as that is better. Exact: all there are, up to "
        "5,000", default="exchange", group="places",
    )  # fmt: skip
    step_mvar: float = quantity("Step", "Of a capacitor", unit="Mvar", default=0.3, gt=0, le=1000, group="capacitors",
                                when=_CAPACITORS)  # fmt: skip
    steps: int = quantity("Steps, at most", "Of a capacitor", unit="1", default=4, ge=1, le=20, group="capacitors",
                          when=_CAPACITORS)  # fmt: skip
    switched: bool = choice("Switched", "Its steps go with the condition; else all are on always", default=True,
                            group="capacitors", when=_CAPACITORS)  # fmt: skip
    cost_mvar: float = quantity("Cost of a capacitor", "Of a Mvar in a year, everything counted", unit="1", default=1500.0, ge=0,
                                le=1e9, group="what it costs", when=_CAPACITORS)  # fmt: skip
    cost_regulator: float = quantity("Cost of a regulator", "In a year, everything counted", unit="1", default=6000.0, ge=0,
        le=1e9,
                                     group="what it costs", when=_REGULATORS)  # fmt: skip
    loss_price: float = quantity(
        "Price of losses", "Of a MWh", unit="1/MWh", default=60.0, ge=0, le=1e6, group="what it saves"
    )
    limit_price: float = quantity(
        "Price of limits", "Of an hour with one limit exceeded by one per cent, of voltages and loadings alike", unit="1/h",
        default=1.0, ge=0, le=1e6, group="what it saves",
    )  # fmt: skip
