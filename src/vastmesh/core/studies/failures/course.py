"""What is taken for granted about protection, switching and times."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict

from ...network.fields import choice, quantity
from ...network.limit_sets import LimitSet


class Course(BaseModel):
    """How a failure goes: what stands where, how long each thing takes, what a transfer may carry."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    typical: bool = choice("Typical data", "Where failures are blank those typical of the kind count; off: it never fails",
                           default=True)  # fmt: skip
    transfers: Literal["checked", "unlimited", "none"] = choice(
        "Transfers", "Over open switches: checked by a load flow and in part where all is too much; without limit; or none",
        default="checked",
    )  # fmt: skip
    limit_set: LimitSet = choice("Limits meanwhile", "Which limits a transfer keeps", default="emergency")
    average_pct: float = quantity("Average demand", "Over a year, of what is entered, where neither the load nor the profile of "
                                  "its class says", unit="%", default=55.0, ge=0, le=100)  # fmt: skip
    sustained_min: float = quantity("Sustained from", "Shorter interruptions are momentary (IEEE 1366: 5 min)", unit="min",
                                    default=5.0, ge=0, le=60)  # fmt: skip
    decide_min: float = quantity("Control room", "Until it has decided what to switch", unit="min", default=6.0, ge=0, le=600,
                                 group="times")  # fmt: skip
    remote_min: float = quantity(
        "Remote switching", "Of one switch", unit="min", default=1.0, ge=0, le=600, group="times"
    )
    automatic_min: float = quantity("Automatic transfer", "Until it has closed", unit="min", default=0.1, ge=0, le=60,
                                    group="times")  # fmt: skip
    locate_min: float = quantity("Finding it", "Until the section with the fault is known", unit="min", default=50.0, ge=0,
                                 le=6000, group="times")  # fmt: skip
    indicated_min: float = quantity("With an indicator", "The same beside a fault indicator or a remote switch", unit="min",
                                    default=20.0, ge=0, le=6000, group="times")  # fmt: skip
    manual_min: float = quantity("Switching by hand", "The first switch, the way there included", unit="min", default=25.0, ge=0,
                                 le=6000, group="times")  # fmt: skip
    further_min: float = quantity(
        "Each further", "Switch by hand", unit="min", default=10.0, ge=0, le=6000, group="times"
    )
    fuse_min: float = quantity(
        "New fuse", "On top of the way there", unit="min", default=15.0, ge=0, le=6000, group="times"
    )
    breakers_from_kv: float = quantity(
        "Breakers from",
        "Nominal voltage from which every branch has breakers at both ends unless it says otherwise",
        unit="kV",
        default=20.0,
        ge=0,
        le=1500,
        group="protection",
    )
    fails_pct: float = quantity(
        "Fails to operate",
        "Share of the times that a breaker does not open, or the switch of a transfer does not close",
        unit="%",
        default=1.0,
        ge=0,
        le=100,
        group="protection",
    )
    fuse_fails_pct: float = quantity(
        "Fuse fails",
        "Share of the times that a fuse does not clear a fault, so that what is before it does",
        unit="%",
        default=0.0,
        ge=0,
        le=100,
        group="protection",
    )
    fuse_saving: bool = choice(
        "Fuses are saved",
        "A recloser before a fuse is faster than the fuse the first time: temporary faults behind the fuse pass",
        default=False,
        group="protection",
    )
    overlap_from_kv: float | None = quantity(
        "Overlapping from", "Two failures at once count for branches and buses from this nominal voltage; never when blank",
        unit="kV", default=30.0, ge=0, le=1500,
    )  # fmt: skip
    planned: bool = choice("Planned outages", "Maintenance counts", default=True)
    storms: float = quantity("Storms", "In a year", unit="1/a", default=0.0, ge=0, le=100, group="weather")
    storm_h: float = quantity(
        "Storm lasts", "Each, in whole hours", unit="h", default=12.0, ge=1, le=200, group="weather"
    )
    storm_factor: float = quantity(
        "Failures in storms",
        "Of overhead lines, times as many as in other hours; over the year they stay what they are",
        unit="1",
        default=20.0,
        ge=1,
        le=10_000,
        group="weather",
    )
    storm_repairs: float = quantity(
        "Repairs in storms",
        "Of what fails in a storm, times as long",
        unit="1",
        default=1.0,
        ge=1,
        le=100,
        group="weather",
    )
    year: int | None = quantity(
        "Year",
        "For the age of equipment with a commissioning date; ageing is left out when blank",
        unit="1",
        default=None,
        ge=1900,
        le=2200,
        group="ageing",
    )
    ageing_from: float = quantity(
        "Ages from",
        "Age from which failures become more frequent",
        unit="a",
        default=30.0,
        ge=0,
        le=200,
        group="ageing",
    )
    ageing_pct: float = quantity(
        "Each year",
        "By so much of what is entered, for each further year of age",
        unit="%",
        default=4.0,
        ge=0,
        le=100,
        group="ageing",
    )
