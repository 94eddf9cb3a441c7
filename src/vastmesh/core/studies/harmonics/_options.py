from __future__ import annotations

from typing import Literal, Self

from pydantic import BaseModel, ConfigDict, model_validator

from ...network.fields import choice, quantity, reference

DemandForm = Literal["parallel", "series", "motor_share", "none"]


class GridOptions(BaseModel):
    """How the network is taken at other frequencies than its own."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    demand: DemandForm = choice(
        "Demand", "R and X side by side; in series; the CIGRE form, where most of the reactive part is motors; or left out",
        default="parallel", group="network",
    )  # fmt: skip
    fault_level: Literal["highest", "lowest"] = choice(
        "Fault level", "Of the sources: highest, or lowest with least plant running", default="highest", group="network"
    )
    lines: Literal["nominal", "long", "geometry"] = choice(
        "Lines and cables", "As one nominal pi; by the exact equations of a long line; or so, and a geometry by Carson's "
        "equations anew at every frequency", default="long", group="network",
    )  # fmt: skip
    source_exponent: float = quantity(
        "Source resistance", "Grows with the order to this power", unit="1", default=0.0, ge=0, le=2, group="network"
    )


class ScanOptions(GridOptions):
    """Where the impedance is looked at, and over which frequencies."""

    bus: str = reference("Bus", "Bus at which it is looked into the network", to="bus")
    other: str | None = reference(
        "Further bus", "Voltage here for the current there: the transfer impedance", to="bus", default=None
    )
    from_hz: float = quantity("From", "First frequency", unit="Hz", default=50.0, ge=1, le=20_000)
    to_hz: float = quantity("To", "Last frequency", unit="Hz", default=2500.0, ge=1, le=20_000)
    step_hz: float = quantity("Step", "Between two frequencies; peaks and dips are sought between them", unit="Hz", default=5.0,
                              ge=0.1, le=1000)  # fmt: skip
    over: Literal["present", "conditions", "steps"] = choice(
        "Laid over",
        "The condition in use alone; every condition; or every number of steps of a bank",
        default="present",
    )
    bank: str | None = reference("Bank", "Capacitors or reactor whose steps are gone through", to="shunt", default=None,
                                 when={"over": ("steps",)})  # fmt: skip
    sequence: Literal["positive", "negative"] = choice(
        "Sequence", "They differ only in the shifts of transformers, which matter for the angle of a transfer impedance",
        default="positive",
    )  # fmt: skip

    @model_validator(mode="after")
    def _range(self) -> Self:
        if self.to_hz <= self.from_hz:
            raise ValueError("to_hz: enter a frequency above the first one")
        if self.over == "steps" and self.bank is None:
            raise ValueError("bank: choose whose steps are gone through")
        if (self.to_hz - self.from_hz) / self.step_hz > 20_000:
            raise ValueError("step_hz: more than 20,000 frequencies; enter a wider step")
        return self


class DistortionOptions(GridOptions):
    """What injects harmonics, how several add up, and what they are judged by."""

    bus: str | None = reference("Bus", "Whose spectrum and waveform are drawn; the most distorted when blank", to="bus",
                                default=None)  # fmt: skip
    detail: Literal["balanced", "per_phase"] = choice(
        "Network",
        "Balanced, by sequence; or per phase, with every conductor, the neutral and earth",
        default="balanced",
    )
    over: Literal["present", "conditions"] = choice(
        "Under", "The condition in use, or the worst of every condition", default="present"
    )
    unknown: Literal["law", "arithmetic", "in_phase"] = choice(
        "Unknown angles", "Spectra without angles add by the summation law of IEC TR 61000-3-6, as plain numbers, or as if "
        "their angles were 0", default="law", group="summation",
    )  # fmt: skip
    exponent_low: float = quantity("Exponent below 5", "Of the summation law", unit="1", default=1.0, ge=1, le=2,
                                   group="summation", when={"unknown": ("law",)})  # fmt: skip
    exponent_middle: float = quantity("Exponent 5 to 10", "Of the summation law", unit="1", default=1.4, ge=1, le=2,
                                      group="summation", when={"unknown": ("law",)})  # fmt: skip
    exponent_high: float = quantity("Exponent above 10", "Of the summation law", unit="1", default=2.0, ge=1, le=2,
                                    group="summation", when={"unknown": ("law",)})  # fmt: skip
    inverters: Literal["rated", "present"] = choice(
        "Inverters",
        "Their spectra are per cent of rated current, or of the present one",
        default="rated",
        group="summation",
    )
    relative_to: Literal["fundamental", "nominal"] = choice(
        "Relative to", "What voltage distortion is a share of", default="fundamental", group="limits"
    )
    limits: Literal["planning", "compatibility"] = choice(
        "Limits", "Planning levels above 1 kV with compatibility levels below, or compatibility levels everywhere",
        default="planning", group="limits",
    )  # fmt: skip
