from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import AfterValidator, BaseModel, ConfigDict, model_validator

from ...network import rows_of
from ...network.fields import choice, quantity

DAY = (
    "0.62 0.90 0; 0.58 0.92 0; 0.56 0.95 0; 0.55 0.97 0; 0.57 1.00 0; 0.64 1.00 0.02; 0.78 0.96 0.08; 0.90 0.90 0.20; "
    "0.96 0.82 0.38; 0.97 0.75 0.55; 0.96 0.70 0.70; 0.96 0.66 0.80; 0.97 0.64 0.84; 0.95 0.64 0.80; 0.93 0.66 0.70; "
    "0.93 0.70 0.55; 0.97 0.75 0.38; 1.00 0.80 0.20; 1.00 0.84 0.08; 0.97 0.86 0.02; 0.92 0.87 0; 0.85 0.88 0; 0.76 0.88 0; "
    "0.68 0.89 0"
)
"""A made-up day, by the hour: demand, wind and sun as shares of what the condition has."""


def _day_readable(text: str) -> str:
    day_of(text)
    return text


def day_of(text: str) -> list[tuple[float, float, float]]:
    """Shares of demand, wind and sun, by the hour. Raises ValueError that names the row."""
    found = [(d, w, s) for d, w, s in rows_of("day", text, 3, 3)]
    if not 1 <= len(found) <= 48 or any(x < 0 or x > 10 for row in found for x in row):
        raise ValueError("day: write 1 to 48 rows of three shares from 0 to 10")
    return found


Best = Literal[
    "cost", "losses", "least_change", "least_curtailment", "least_shedding", "flattest", "reserve", "weighted"
]
_WEIGHED = {"best": ("weighted",)}
_SOFT = {"limits": ("soft",)}
_BY_RULE = {"outages": ("branches", "lines", "transformers", "circuits", "busbars", "plants", "pairs")}
_SECURE = {"outages": ("model", *_BY_RULE["outages"])}


class OptimalFlowOptions(BaseModel):
    """What is best, what may move, and what must hold."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    best: Best = choice(
        "Best is", "The least cost; the least losses; the least change of the plants' active powers that keeps every limit; the "
        "least wind and sun that is not taken; the least demand shed; voltages nearest to 1 p.u.; machines nearest to the middle "
        "of their reactive range; or a sum of these by weights", default="cost",
    )  # fmt: skip
    by_cost: float = quantity("Weight of cost", "Of 1/h", unit="1", default=1.0, ge=0, le=1e6, when=_WEIGHED)
    by_losses: float = quantity("Weight of losses", "Of a MW", unit="1", default=0.0, ge=0, le=1e6, when=_WEIGHED)
    by_change: float = quantity("Weight of change", "Of a MW² of change of a plant's active power", unit="1", default=0.0, ge=0,
                                le=1e6, when=_WEIGHED)  # fmt: skip
    by_curtailment: float = quantity("Weight of curtailment", "Of a MW of wind or sun that is not taken", unit="1", default=0.0,
                                     ge=0, le=1e6, when=_WEIGHED)  # fmt: skip
    by_shedding: float = quantity("Weight of shedding", "Of a MW of demand shed", unit="1", default=0.0, ge=0, le=1e6,
                                  when=_WEIGHED)  # fmt: skip
    by_flatness: float = quantity("Weight of flatness", "Of a square of a per cent off 1 p.u., summed over all buses", unit="1",
                                  default=0.0, ge=0, le=1e6, when=_WEIGHED)  # fmt: skip
    by_reserve: float = quantity("Weight of reserve", "Of a square of the share of half its reactive range that a machine is off "
                                 "the middle", unit="1", default=0.0, ge=0, le=1e6, when=_WEIGHED)  # fmt: skip
    equations: Literal["exact", "linear"] = choice(
        "Equations", "Exact; or linear, with angles and active power alone, and the AC load flow of its answer beside it",
        default="exact",
    )  # fmt: skip
    losses_counted: bool = choice("Losses counted", "The linear equations take the losses of each branch as demand at its ends, "
                                  "found by repeating", default=False, when={"equations": ("linear",)})  # fmt: skip
    whole: bool = choice("Plants on or off", "Plants that may stop are switched on and off as whole numbers: with their cost of "
                         "running and of starting", default=False, when={"equations": ("linear",)})  # fmt: skip
    openings: int = quantity("Branches opened", "Most lines and transformers that the linear equations may open to be better off",
                             unit="1", default=0, ge=0, le=20, when={"equations": ("linear",)})  # fmt: skip
    time: Literal["moment", "day"] = choice(
        "Time", "The condition as it stands; or a day by the hour, with ramps, starts and what storage moves from hour to hour",
        default="moment",
    )  # fmt: skip
    day: Annotated[str, AfterValidator(_day_readable)] = choice(
        "Day", "Rows for each hour: demand, wind and sun, as shares of what the condition has", default=DAY,
        when={"time": ("day",)},
    )  # fmt: skip
    active: bool = choice("Active power", "Plants that are dispatched may be set to another active power", default=True,
                          group="may move")  # fmt: skip
    curtail: bool = choice("Wind and sun", "May deliver less than they could", default=True, group="may move",
                           when={"active": (True,)})  # fmt: skip
    reactive: bool = choice(
        "Reactive power", "Of machines and inverters, within their range", default=True, group="may move"
    )
    voltages: bool = choice("Voltages held", "Set-points of sources and machines; else voltages there stay as they are",
                            default=True, group="may move")  # fmt: skip
    taps: bool = choice(
        "Taps", "Of transformers with a tap changer, and of voltage regulators", default=False, group="may move"
    )
    shifters: bool = choice("Phase shifters", "Of transformers that hold a flow", default=False, group="may move")
    banks: bool = choice("Capacitor steps", "Of capacitors and reactors", default=False, group="may move")
    steps: Literal["whole", "any"] = choice(
        "Steps", "Taps, shifters and capacitors end on whole steps, and everything else is solved again; or between them",
        default="whole", group="may move",
    )  # fmt: skip
    shed: bool = choice("Demand", "Loads of which a part may be shed, at their cost", default=False, group="may move")
    bands: Literal["network", "entered"] = choice(
        "Voltages within", "The voltage limits of the network (0.94 to 1.06 p.u. where it has none), or the same for every bus",
        default="network", group="must hold",
    )  # fmt: skip
    low_pu: float = quantity("Lowest voltage", "Of every bus", unit="p.u.", default=0.94, ge=0.3, le=2.0, group="must hold",
                             when={"bands": ("entered",)})  # fmt: skip
    high_pu: float = quantity("Highest voltage", "Of every bus", unit="p.u.", default=1.06, ge=0.3, le=2.0, group="must hold",
                              when={"bands": ("entered",)})  # fmt: skip
    branches: Literal["current", "power", "active", "none"] = choice(
        "Branches within", "Their rated current; their rated power (lines: rated current at nominal voltage); the same, but of "
        "active power alone; or no limit", default="current", group="must hold",
    )  # fmt: skip
    loading_pct: float = quantity("Loading, at most", "Of what branches are rated for; of their emergency rating where the "
                                  "condition's limits are those", unit="%", default=100.0, ge=1, le=1000, group="must hold",
                                  when={"branches": ("current", "power", "active")})  # fmt: skip
    alternatives: bool = choice("Nearly as cheap", "Also the answer that changes plants least for half a per cent more",
                                default=True, when={"best": ("cost",)})  # fmt: skip
    limits: Literal["hard", "soft"] = choice(
        "Limits",
        "Must hold; or may be exceeded at a price, voltages and branches alike",
        default="hard",
        group="must hold",
    )
    relax: Literal["fewest", "least"] = choice(
        "Where nothing fits", "Name the fewest limits that would have to give; or the least in sum, however many they are",
        default="fewest", group="must hold", when={"limits": ("hard",)},
    )  # fmt: skip
    overload_price: float = quantity("Price of overload", "Of an hour with a MVA above the limit of a branch", unit="1/h",
                                     default=1000.0, gt=0, le=1e7, group="must hold", when=_SOFT)  # fmt: skip
    voltage_price: float = quantity("Price of voltage", "Of an hour with a bus one per cent outside its band", unit="1/h",
                                    default=1000.0, gt=0, le=1e7, group="must hold", when=_SOFT)  # fmt: skip
    outages: Literal[
        "none", "model", "branches", "lines", "transformers", "circuits", "busbars", "plants", "pairs"
    ] = choice(
        "After an outage", "Nothing is asked; or every limit holds after each outage and outage rule of the model, each branch "
        "where it has none; or after the loss of any one line or transformer, double circuit, busbar or plant, or of any two "
        "branches",
        default="none", group="must hold",
    )  # fmt: skip
    outages_above_kv: float = quantity("Outages from", "Nominal voltage of both ends, at least", unit="kV", default=50.0, ge=0,
                                       le=1500, group="must hold", when=_BY_RULE)  # fmt: skip
    after: Literal["preventive", "corrective"] = choice(
        "Plants then", "Stay as they are set, sources and those that share the slack aside; or move within their ramp",
        default="preventive", group="must hold", when=_SECURE,
    )  # fmt: skip
    minutes: float = quantity("Time to move", "After an outage", unit="min", default=15.0, ge=0, le=1440, group="must hold",
                              when={"after": ("corrective",)})  # fmt: skip
    after_pct: float = quantity(
        "Loading then, at most", "Of what an outage allows: the emergency rating, where it has no limits of its own", unit="%",
        default=100.0, ge=1, le=1000, group="must hold", when=_SECURE,
    )  # fmt: skip

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        linear = self.equations == "linear"
        if linear and self.best in ("losses", "flattest", "reserve"):
            raise ValueError(
                "equations: linear ones have no losses or voltages to be best at; choose exact, or another best"
            )
        if not linear and (self.whole or self.openings):
            raise ValueError("equations: whole numbers need the linear equations; choose linear")
        if self.branches == "active" and not linear:
            raise ValueError("branches: active power alone is for the linear equations; choose current or power")
        if linear and self.limits == "soft":
            raise ValueError("limits: the linear equations hold them; choose exact, or hard limits")
        if self.limits == "soft" and self.outages != "none":
            raise ValueError("limits: after an outage they must hold; choose hard limits")
        if linear and self.outages != "none":
            raise ValueError("outages: the linear equations look at none; choose exact")
        if self.openings and self.time == "day":
            raise ValueError("openings: branches are opened for a moment, not for a day; choose a moment, or 0")
        if self.low_pu >= self.high_pu:
            raise ValueError("low_pu: enter less than the highest voltage")
        if self.time == "day" and self.outages != "none":
            raise ValueError("outages: a whole day that survives every outage is not offered; choose a moment")
        if self.best == "weighted" and not any(self.weights().values()):
            raise ValueError("by_cost: give one weight at least")
        return self

    def weights(self) -> dict[str, float]:
        """Weight of every part of what is best, zeros included."""
        names = ("cost", "losses", "change", "curtailment", "shedding", "flatness", "reserve")
        if self.best == "weighted":
            return {name: float(getattr(self, f"by_{name}")) for name in names}
        chosen = {"least_change": "change", "least_curtailment": "curtailment", "least_shedding": "shedding",
                  "flattest": "flatness"}.get(self.best, self.best)  # fmt: skip
        return {name: float(name == chosen) for name in names}

    @property
    def unit(self) -> str:
        """Of what is best."""
        return {"cost": "1/h", "losses": "MW", "least_change": "MW²", "least_curtailment": "MW", "least_shedding": "MW",
                "flattest": "%²", "reserve": "1", "weighted": "1"}[self.best]  # fmt: skip
