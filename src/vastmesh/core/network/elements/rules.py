"""Items that say how the network is used: settings, conditions and limits."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ..fields import choice, quantity, reference
from ..items import Item
from ..limit_sets import LimitSet

State = Literal["out", "in", "open", "closed"]
Value = float | bool | str | None
Factor = Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)]


class Condition(Item):
    """How the network is loaded and switched at one moment."""

    label, plural = "Condition", "Conditions"
    removable = False

    kind: Literal["condition"] = "condition"
    demand_factor: float = quantity(
        "Demand", "Multiplies every load", unit="1", default=1.0, ge=0, le=10, shown_as=("%", 100)
    )
    generation_factor: float = quantity(
        "Generation", "Multiplies the active power of every generator", unit="1", default=1.0, ge=0, le=10,
        shown_as=("%", 100),
    )  # fmt: skip
    class_factors: dict[str, Factor] = choice("Demand by class", "Further factor for a demand class", default={})
    area_factors: dict[str, Factor] = choice(
        "Demand by area", "Further factor for the demand of an area, by its id", default={}
    )
    states: dict[str, State] = choice(
        "Other states", "Elements that are out of service, open or closed under this condition, by id", default={}
    )
    values: dict[str, dict[str, Value]] = choice(
        "Other values", "Fields that differ under this condition (control, set-points, taps, steps), by element and field",
        default={},
    )  # fmt: skip
    limit_set: LimitSet = choice(
        "Limits", "Which limits count: the normal ones, or those for a limited time", default="normal"
    )
    energy_factors: dict[str, Factor] = choice(
        "Generation by energy", "Further factor for generators of one energy", default={}
    )


class VoltageLimits(Item):
    """Allowed voltage for buses of one range of nominal voltages."""

    label, plural = "Voltage limits", "Voltage limits"

    kind: Literal["voltage_limits"] = "voltage_limits"
    limit_set: LimitSet = choice(
        "Limit set", "Normal limits, or those of conditions that choose emergency limits", default="normal"
    )
    above_kv: float = quantity("Above", "Holds for nominal voltages above this one", unit="kV", default=0.0, ge=0)
    up_to_kv: float = quantity("Up to", "Holds for nominal voltages up to this one", unit="kV", default=1500.0, gt=0)
    low_breach_pu: float = quantity("Lowest allowed", "Below it: a breach", unit="p.u.", default=0.94, gt=0, lt=2)
    low_watch_pu: float = quantity("Watch below", "Below it: to be watched", unit="p.u.", default=0.95, gt=0, lt=2)
    high_watch_pu: float = quantity("Watch above", "Above it: to be watched", unit="p.u.", default=1.05, gt=0, lt=2)
    high_breach_pu: float = quantity("Highest allowed", "Above it: a breach", unit="p.u.", default=1.06, gt=0, lt=2)

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if not self.low_breach_pu <= self.low_watch_pu < self.high_watch_pu <= self.high_breach_pu:
            raise ValueError(
                "low_watch_pu: limits must rise from lowest allowed over watch below and watch above to highest allowed"
            )
        if self.above_kv >= self.up_to_kv:
            raise ValueError(f"above_kv: must be below {self.up_to_kv:g} kV")
        return self


class Settings(Item):
    """What holds for the whole network."""

    label, plural = "Settings", "Settings"
    listed = removable = False

    kind: Literal["settings"] = "settings"
    frequency_hz: float = quantity("Frequency", "Nominal frequency", unit="Hz", default=50.0, ge=10, le=100)
    base_mva: float = quantity("Base power", "Base of the per-unit system", unit="MVA", default=100.0, gt=0, le=1e5)
    condition: str | None = reference("Condition", "Condition under which results are shown", to="condition",
                                      default=None)  # fmt: skip
    loading_watch_pct: float = quantity("Loading, watch", "Loading to be watched", unit="%", default=80.0, gt=0)
    loading_breach_pct: float = quantity("Loading, breach", "Highest loading allowed", unit="%", default=100.0, gt=0)
    radial_up_to_kv: float = quantity("Radial up to", "Loops at voltages up to this are pointed out by the model check",
                                      unit="kV", default=36.0, ge=0, le=1500)  # fmt: skip
    recording: str | None = reference("Recorded into", "Scheme into which edits go; into the present network when blank",
                                      to="scheme", default=None)  # fmt: skip
    watch_outages: bool = choice(
        "Outages after every edit", "The outages of the model are worked out again in the background after every edit, where "
        "that takes a few seconds at most; the badge beside the solution says how they end", default=True,
    )  # fmt: skip
    study: Literal["balanced", "per_phase"] = choice(
        "Load flow", "Balanced: one phase stands for all three. Per phase: every conductor with neutral and earth return",
        default="balanced",
    )  # fmt: skip
    voltage_criterion: Literal["phase", "line", "positive"] = choice(
        "Voltage by", "What is held against the voltage limits per phase: each phase to neutral (to earth where there is "
        "none), each pair of phases, or the positive sequence", default="phase", group="phases",
    )  # fmt: skip
    loading_criterion: Literal["worst", "positive"] = choice(
        "Loading by",
        "Current of the phase loaded most, or the positive-sequence current",
        default="worst",
        group="phases",
    )
    unbalance_definition: Literal["negative", "line", "phase"] = choice(
        "Unbalance by", "Negative over positive sequence (IEC 61000-4-30); greatest deviation of the line-to-line voltages "
        "from their mean, over it; or of the phase voltages", default="negative", group="phases",
    )  # fmt: skip
    unbalance_limit_pct: float = quantity("Unbalance, most", "Highest voltage unbalance by the chosen definition", unit="%",
                                          default=2.0, gt=0, le=100, group="phases")  # fmt: skip
    negative_limit_pct: float = quantity("Negative sequence, most", "Negative over positive sequence of the voltage",
                                         unit="%", default=2.0, gt=0, le=100, group="phases")  # fmt: skip
    zero_limit_pct: float | None = quantity("Zero sequence, most", "Zero over positive sequence of the voltages to neutral; "
                                            "not judged when blank", unit="%", gt=0, le=100, group="phases")  # fmt: skip
    neutral_limit_v: float = quantity("Neutral to earth, most", "Highest voltage between neutral and earth", unit="V",
                                      default=10.0, gt=0, le=1000, group="phases")  # fmt: skip
    method: Literal["automatic", "newton", "fast_decoupled", "gauss_seidel"] = choice(
        "Method", "Automatic: Newton from the last answer, from a linear start, from others, then step by step. All methods "
        "solve the same equations; the answer differs by less than the tolerance", default="automatic",
    )  # fmt: skip
    start: Literal["last", "linear", "flat"] = choice(
        "Start", "Where the iteration starts; where several answers exist it decides which is found", default="last"
    )
    max_iterations: int | None = quantity(
        "Iteration limit", "Steps tried from each start; by method when blank. No effect on a converged answer", unit="1",
        ge=1, le=1_000_000,
    )  # fmt: skip
    low_voltage_pu: float = quantity(
        "Low voltage", "Below this voltage constant-power demand follows the voltage squared, so that a nearly collapsed "
        "part still has an answer; 0: never", unit="p.u.", default=0.0, ge=0, le=0.95,
    )  # fmt: skip
    slack_shared: bool = choice(
        "Shared slack", "Sources and machines with a participation take over the difference from the schedule together; "
        "off: each source carries all of it in its island", default=False,
    )  # fmt: skip
    interchange: bool = choice(
        "Hold exchanges", "Areas with an agreed export hold it by their machines with a participation", default=False
    )
    reactive_limits: bool = choice(
        "Reactive limits", "Voltage-controlling generators stop at their reactive limits", default=True
    )
    automatic: bool = choice(
        "Automatic control",
        "Automatic taps, capacitor steps and inverters on a curve act in the load flow",
        default=True,
    )
    tolerance_pu: float = quantity(
        "Tolerance", "Largest power mismatch at any bus: times 100 MVA, and times 100 of what flows there", unit="p.u.",
        default=1e-8, ge=1e-12, le=1e-2,
    )  # fmt: skip
