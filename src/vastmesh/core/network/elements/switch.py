from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from ..fields import catalogue_type, choice, quantity, reference
from ..items import Role
from ._failing import Failing

_TRIP = {"device": ("breaker",)}


class Switch(Failing):
    """A switching device between two buses: a perfect connection when closed, none when open."""

    label, plural = "Switch", "Switches"
    role = Role.SWITCH

    kind: Literal["switch"] = "switch"
    from_bus: str = reference("From bus", "Bus on one side", to="bus", terminal=True)
    to_bus: str = reference("To bus", "Bus on the other side", to="bus", terminal=True)
    type: str | None = catalogue_type("switch", "Breaker, fuse or switch that gives ratings and trip unit")
    device: Literal["breaker", "disconnector", "fuse"] = choice("Device", "What it is", default="breaker", typical=True)
    closed: bool = choice("Closed", "Normal position", default=True)
    rating_a: float | None = quantity("Rating", "Continuous current", unit="A", gt=0, le=100000)
    rated_kv: float | None = quantity("Rated voltage", "Highest voltage for equipment", unit="kV", gt=0, le=1500)
    breaking_ka: float | None = quantity(
        "Breaking capacity", "Symmetrical fault current it can interrupt", unit="kA", gt=0, le=300
    )
    fuse_a: float | None = quantity(
        "Fuse", "Rated current of the fuse link, or of a fuse built into the breaker", unit="A", gt=0, le=10000,
        group="protection",
    )  # fmt: skip
    sensor_a: float | None = quantity(
        "Sensor", "Rated current of the trip unit's sensor", unit="A", gt=0, le=10000, group="protection", when=_TRIP
    )
    plug_a: float | None = quantity(
        "Plug", "Rating plug: the current that settings are multiples of", unit="A", gt=0, le=10000, group="protection",
        when=_TRIP,
    )  # fmt: skip
    long_x: float | None = quantity("Long time", "Pick-up, in plug currents", unit="1", ge=0.2, le=1.5, group="protection",
                                    when=_TRIP)  # fmt: skip
    long_s: float | None = quantity("Long time, delay", "At six times the pick-up", unit="s", gt=0, le=100,
                                    group="protection", when=_TRIP)  # fmt: skip
    short_x: float | None = quantity("Short time", "Pick-up, in plug currents", unit="1", ge=1, le=20, group="protection",
                                     when=_TRIP)  # fmt: skip
    short_s: float | None = quantity("Short time, delay", "Definite delay", unit="s", ge=0, le=2, group="protection",
                                     when=_TRIP)  # fmt: skip
    instantaneous_x: float | None = quantity("Instantaneous", "Pick-up, in plug currents", unit="1", ge=1, le=30,
                                             group="protection", when=_TRIP)  # fmt: skip
    earth_x: float | None = quantity("Earth fault", "Pick-up, in plug currents", unit="1", ge=0.05, le=1.5,
                                     group="protection", when=_TRIP)  # fmt: skip
    earth_s: float | None = quantity("Earth fault, delay", "Definite delay", unit="s", ge=0, le=5, group="protection",
                                     when=_TRIP)  # fmt: skip

    operated: Literal["manual", "remote", "automatic"] | None = choice(
        "Operated", "By hand, from the control room, or by itself once its side has lost supply; when blank, a breaker from the "
        "control room, others by hand", default=None,
        group="reliability",
    )  # fmt: skip
    clears: bool = choice("Clears faults", "Its protection trips it; a breaker used to couple only need not", default=True,
                          group="reliability", when=_TRIP)  # fmt: skip
    recloses: bool = choice("Recloses", "By itself after it has cleared a fault, so that temporary ones pass", default=False,
                            group="reliability", when=_TRIP)  # fmt: skip
    fails_pct: float | None = quantity("Fails to operate", "Share of the times it is needed; as the study says when blank",
                                       unit="%", ge=0, le=100, group="reliability")  # fmt: skip
    indicator: bool = choice(
        "Fault indicator", "Tells that fault current has passed: faults beside it are found sooner", default=False,
        group="reliability",
    )  # fmt: skip

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.from_bus == self.to_bus:
            raise ValueError("to_bus: a switch joins two different buses")
        if self.sensor_a is not None and self.plug_a is not None and self.plug_a > self.sensor_a:
            raise ValueError(f"plug_a: enter at most the sensor's rated current, {self.sensor_a:g} A")
        return self

    def carries_a(self) -> float | None:
        """What it may carry without end: the least of its rating, its fuse and its long-time pick-up, A."""
        given = [self.rating_a, self.fuse_a if self.fuse_a else None]
        if self.device == "breaker" and self.plug_a is not None:
            given.append(self.plug_a * (self.long_x or 1.0))
        known = [v for v in given if v is not None]
        return min(known) if known else None
