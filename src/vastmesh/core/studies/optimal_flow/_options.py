from __future__ import annotations

from typing import Literal, Self

from pydantic import BaseModel, ConfigDict, model_validator

from ...network.fields import choice, quantity


class OptimalFlowOptions(BaseModel):
    """What is best, what may move, and what must hold."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    best: Literal["cost", "losses", "least_change"] = choice(
        "Best is", "The least cost; the least losses; or the least change of the plants' active powers that keeps every limit",
        default="cost",
    )  # fmt: skip
    equations: Literal["exact", "linear"] = choice(
        "Equations", "Exact; or linear, with angles and active power alone and no losses, and the AC load flow of its answer "
        "beside it", default="exact",
    )  # fmt: skip
    active: bool = choice("Active power", "Plants that are dispatched may be set to another active power", default=True,
                          group="may move")  # fmt: skip
    reactive: bool = choice(
        "Reactive power", "Of machines and inverters, within their range", default=True, group="may move"
    )
    voltages: bool = choice("Voltages held", "Set-points of sources and machines; else voltages there stay as they are",
                            default=True, group="may move")  # fmt: skip
    bands: Literal["network", "entered"] = choice(
        "Voltages within", "The voltage limits of the network (0.9 to 1.1 where there are none), or the same for every bus",
        default="network", group="must hold",
    )  # fmt: skip
    low_pu: float = quantity("Lowest voltage", "Of every bus", unit="p.u.", default=0.94, ge=0.3, le=2.0, group="must hold",
                             when={"bands": ("entered",)})  # fmt: skip
    high_pu: float = quantity("Highest voltage", "Of every bus", unit="p.u.", default=1.06, ge=0.3, le=2.0, group="must hold",
                              when={"bands": ("entered",)})  # fmt: skip
    branches: Literal["current", "power", "none"] = choice(
        "Branches within", "Their rated current; their rated power (lines: rated current at nominal voltage); or no limit",
        default="current", group="must hold",
    )  # fmt: skip
    loading_pct: float = quantity("Loading, at most", "Of what branches are rated for", unit="%", default=100.0, ge=1, le=1000,
                                  group="must hold", when={"branches": ("current", "power")})  # fmt: skip

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.equations == "linear" and self.best == "losses":
            raise ValueError("equations: linear ones have no losses; choose exact, or another best")
        if self.low_pu >= self.high_pu:
            raise ValueError("low_pu: enter less than the highest voltage")
        return self
