"""What stands beside switchgear: current transformers and relays. Kept as data; they limit what a bay may carry."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from ..fields import choice, quantity, reference
from ..items import Item


class CurrentTransformer(Item):
    """A current transformer at a switch; its primary rating limits what the bay may carry."""

    label, plural = "Current transformer", "Current transformers"

    kind: Literal["current_transformer"] = "current_transformer"
    at: str = reference("Switch", "Switch whose current it measures", to="switch")
    primary_a: float | None = quantity("Primary", "Rated primary current", unit="A", gt=0, le=1e5, required=True)
    secondary_a: float = quantity(
        "Secondary", "Rated secondary current", unit="A", default=1.0, gt=0, le=10, typical=True
    )
    continuous_x: float = quantity("Continuous", "Continuous current, in rated currents", unit="1", default=1.2, ge=1, le=4,
                                   typical=True)  # fmt: skip
    accuracy: Annotated[str, Field(max_length=20)] = choice("Class", "Accuracy class", default="5P20", typical=True)
    burden_va: float = quantity("Burden", "Rated burden", unit="VA", default=10.0, gt=0, le=200, typical=True)
    short_time_ka: float | None = quantity("Short-time", "Rated short-time current, 1 s", unit="kA", gt=0, le=200)


class Relay(Item):
    """A protection relay: which switch it trips, from which current transformer, with which settings."""

    label, plural = "Protection relay", "Protection relays"

    kind: Literal["relay"] = "relay"
    trips: str = reference("Trips", "Switch it opens", to="switch")
    measures: str | None = reference("Measures", "Current transformer it reads", to="current_transformer", default=None)
    curve: Literal["definite", "standard inverse", "very inverse", "extremely inverse"] = choice(
        "Curve", "IEC 60255-151", default="standard inverse", typical=True
    )
    pickup_a: float | None = quantity("Pick-up", "Primary current at which it starts", unit="A", gt=0, le=1e5)
    time_multiplier: float = quantity("Time multiplier", "Or the delay in s when definite", unit="1", default=0.1, ge=0.01,
                                      le=20, typical=True)  # fmt: skip
    instantaneous_a: float | None = quantity("Instantaneous", "Primary current above which it trips at once", unit="A",
                                             gt=0, le=1e6)  # fmt: skip
    earth_pickup_a: float | None = quantity("Earth fault", "Primary residual current at which it starts", unit="A", gt=0,
                                            le=1e5)  # fmt: skip
