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
    sources: Literal["as_entered", "current", "parallel", "voltage"] = choice(
        "What injects", "By the source model of each; or all as ideal currents, as currents with their own impedance "
        "beside them, or as voltages behind it", default="as_entered", group="network",
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
    over: Literal["present", "conditions", "schemes", "steps", "banks"] = choice(
        "Laid over", "The condition in use alone; every condition; every scheme beside the present network; every number of "
        "steps of a bank; or every state of all banks and filters, with the highest and lowest of them", default="present",
    )  # fmt: skip
    bank: str | None = reference("Bank", "Capacitors, reactor or filter whose steps are gone through", to="bank", default=None,
                                 when={"over": ("steps",)})  # fmt: skip
    sequence: Literal["positive", "negative", "zero", "phase_a", "phase_b", "phase_c"] = choice(
        "Sequence", "Positive and negative differ only in the shifts of transformers; zero and single phases are looked at per "
        "conductor, which takes longer", default="positive",
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


class EverywhereOptions(GridOptions):
    """Over which frequencies every bus is looked at."""

    from_hz: float = quantity("From", "First frequency", unit="Hz", default=75.0, ge=1, le=20_000)
    to_hz: float = quantity("To", "Last frequency", unit="Hz", default=1500.0, ge=1, le=20_000)
    step_hz: float = quantity("Step", "Between two frequencies", unit="Hz", default=5.0, ge=0.1, le=1000)

    @model_validator(mode="after")
    def _range(self) -> Self:
        if self.to_hz <= self.from_hz:
            raise ValueError("to_hz: enter a frequency above the first one")
        if (self.to_hz - self.from_hz) / self.step_hz > 20_000:
            raise ValueError("step_hz: more than 20,000 frequencies; enter a wider step")
        return self


class JudgedOptions(GridOptions):
    """How several sources add up, and what voltages are judged by."""

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


class DistortionOptions(JudgedOptions):
    """What injects harmonics, how several add up, and what they are judged by."""

    bus: str | None = reference("Bus", "Whose spectrum and waveform are drawn; the most distorted when blank", to="bus",
                                default=None)  # fmt: skip
    beside: str | None = reference(
        "Beside it", "A further bus in the spectrum and the waveform", to="bus", default=None
    )
    branch: str | None = reference(
        "Branch", "Whose current's spectrum and waveform are drawn as well", to="branch", default=None
    )
    detail: Literal["balanced", "per_phase"] = choice(
        "Network",
        "Balanced, by sequence; or per phase, with every conductor, the neutral and earth",
        default="balanced",
    )
    over: Literal["present", "conditions", "schemes"] = choice(
        "Under", "The condition in use; the worst of every condition; or every scheme beside the present network",
        default="present",
    )  # fmt: skip
    shown: Literal["percent", "absolute"] = choice(
        "Spectra in", "Per cent of what voltages and currents are told against; or V and A", default="percent",
        group="drawn",
    )  # fmt: skip
    along: Literal["order", "hz"] = choice("Spectra by", "Order, or frequency", default="order", group="drawn")
    coupling: str | None = reference(
        "Point of coupling", "A branch into a customer's plant, whose currents are held against the limits of IEEE 519",
        to="branch", default=None, group="currents",
    )  # fmt: skip
    demand_a: float | None = quantity("Demand current", "Of the customer at its highest; the present one when blank", unit="A",
                                      default=None, gt=0, le=1e6, group="currents")  # fmt: skip


Design = Literal["single", "double", "high_pass", "c_type", "detuned"]
_POWER = {"size": ("power_factor",)}


class DesignOptions(JudgedOptions):
    """What the filter is for and what it is to be."""

    bus: str = reference("Bus", "Where it is to be connected", to="bus")
    design: Design = choice("Kind", "Single-tuned, double-tuned, high-pass, C-type, or a detuned capacitor bank",
                            default="single")  # fmt: skip
    order: float = quantity("Harmonic", "Order that it is for", unit="1", default=5.0, ge=1.2, le=100)
    second: float = quantity("Second harmonic", "Further order that it is for", unit="1", default=7.0, ge=1.3, le=150,
                             when={"design": ("double",)})  # fmt: skip
    below_pct: float = quantity(
        "Tuned below", "By how much below the harmonic it is tuned, so that it never comes above it as it ages", unit="%",
        default=6.0, ge=0, le=50,
    )  # fmt: skip
    quality: float | None = quantity("Quality", "40 of tuned kinds, 2 of the others, when blank", unit="1", default=None,
                                     ge=0.05, le=1000)  # fmt: skip
    size: Literal["power_factor", "entered"] = choice(
        "Size", "From the power factor now to the one wanted, under the condition that needs most; or entered",
        default="power_factor",
    )  # fmt: skip
    power_factor: float = quantity("Power factor wanted", "Of what flows into the bus", unit="1", default=0.98, ge=0.5, le=1.0,
                                   when=_POWER)  # fmt: skip
    mvar: float | None = quantity("Power", "Reactive power of the whole filter at nominal voltage", unit="Mvar", default=None,
                                  gt=0, le=1e5, when={"size": ("entered",)})  # fmt: skip
    steps: int = quantity("Steps", "Equal steps it is switched in", unit="1", default=1, ge=1, le=20)
    instead_of: str | None = reference("In place of", "A bank that is taken out, and whose power it gives as well", to="shunt",
                                       default=None)  # fmt: skip
    over: Literal["present", "conditions"] = choice(
        "Under", "The condition in use, or every condition", default="conditions"
    )
    capacitance_pct: float = quantity("Capacitance ±", "Tolerance, temperature and ageing of the capacitors", unit="%",
                                      default=5.0, ge=0, le=30, group="band")  # fmt: skip
    inductance_pct: float = quantity("Inductance ±", "Tolerance of the reactors", unit="%", default=3.0, ge=0, le=30,
                                     group="band")  # fmt: skip
    frequency_pct: float = quantity("Frequency ±", "Deviation of the network's frequency", unit="%", default=1.0, ge=0, le=6,
                                    group="band")  # fmt: skip
    margin_pct: float = quantity("Margin", "Of the rated voltage of the capacitors above what they have with all orders",
                                 unit="%", default=10.0, ge=0, le=100, group="band")  # fmt: skip

    @model_validator(mode="after")
    def _whole(self) -> Self:
        if self.order * (1 - self.below_pct / 100) < 1.05:
            raise ValueError("below_pct: that tunes it below order 1.05; enter less, or a higher harmonic")
        if self.design == "double" and self.second <= self.order:
            raise ValueError("second: enter an order above the first one")
        if self.size == "entered" and self.mvar is None:
            raise ValueError("mvar: enter the power of the filter")
        return self


class SearchOptions(JudgedOptions):
    """What is tried, and what it costs."""

    bus: str = reference("Bus", "Where the filter is to be connected", to="bus")
    over: Literal["present", "conditions"] = choice(
        "Under", "The condition in use, or every condition", default="conditions"
    )
    power_factor: float = quantity("Power factor, least", "Of what flows into the bus, with as many steps on as it needs",
                                   unit="1", default=0.95, ge=0.0, le=1.0)  # fmt: skip
    least_mvar: float | None = quantity("From", "Smallest filter that is tried; a tenth of the largest power into the bus when "
                                        "blank", unit="Mvar", default=None, gt=0, le=1e4)  # fmt: skip
    most_mvar: float | None = quantity("To", "Largest filter that is tried; six tenths of it when blank", unit="Mvar",
                                       default=None, gt=0, le=1e4)  # fmt: skip
    sizes: int = quantity("Sizes", "How many sizes are tried, evenly", unit="1", default=12, ge=1, le=60)
    most_steps: int = quantity("Steps, at most", "A filter in several equal steps follows the demand", unit="1", default=3, ge=1,
                               le=10)  # fmt: skip
    instead_of: str | None = reference("In place of", "A bank that is taken out", to="shunt", default=None)
    single: bool = choice("Single-tuned", "Try it", default=True, group="kinds")
    double: bool = choice("Double-tuned", "Try it", default=True, group="kinds")
    high_pass: bool = choice("High-pass", "Try it", default=True, group="kinds")
    c_type: bool = choice("C-type", "Try it", default=True, group="kinds")
    detuned: bool = choice("Detuned bank", "Try it", default=True, group="kinds")
    capacitor_per_kvar: float = quantity("Capacitors", "Price of a kvar at nominal voltage", unit="1/kvar", default=12.0, ge=0,
                                         le=1e6, group="price")  # fmt: skip
    reactor_per_kvar: float = quantity("Reactors", "Price of a kvar at nominal voltage", unit="1/kvar", default=30.0, ge=0,
                                       le=1e6, group="price")  # fmt: skip
    step_each: float = quantity("Each step", "Switch, protection and bay", unit="1", default=4000.0, ge=0, le=1e9,
                                group="price")  # fmt: skip
    loss_per_kw: float = quantity("Losses", "Worth of a kW over its life", unit="1/kW", default=2500.0, ge=0, le=1e7,
                                  group="price")  # fmt: skip

    @model_validator(mode="after")
    def _whole(self) -> Self:
        if self.most_mvar is not None and self.least_mvar is not None and self.most_mvar < self.least_mvar:
            raise ValueError("most_mvar: enter at least the smallest size")
        if not any(getattr(self, k) for k in ("single", "double", "high_pass", "c_type", "detuned")):
            raise ValueError("single: choose at least one kind to try")
        return self
