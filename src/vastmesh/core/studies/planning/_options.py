from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict

from ...network.fields import choice, quantity, reference

LoadFlow = Literal["as_set", "balanced", "per_phase"]


def _load_flow() -> Any:
    return choice("Load flow", "As the settings say; balanced; or per phase, every conductor by itself, which takes several "
                  "times as long. Outages and interruptions are balanced in any case", default="as_set")  # fmt: skip


class Money(BaseModel):
    """Which years count, and what things cost; money in thousands."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    from_year: int = quantity(
        "From", "First year; what is spent is discounted to it", unit="1", default=2026, ge=1900, le=2200
    )
    years: int = quantity("Years", "How many years count", unit="1", default=10, ge=1, le=60)
    every: int = quantity(
        "Solved every", "So many years; those between count as the one before", unit="a", default=2, ge=1, le=20
    )
    discount_pct: float = quantity("Discount rate", "Each year", unit="%", default=5.0, ge=0, le=50, group="money")
    loss_price: float = quantity("Losses", "Price of a MWh", unit="1/MWh", default=60.0, ge=0, le=1e5, group="money")
    loss_hours: float = quantity("Hours of loss", "Losses of a year over those of the condition in use", unit="h", default=2600.0,
                                 ge=0, le=8760, group="money")  # fmt: skip
    interruptions: Literal["cost", "energy", "none"] = choice(
        "Interruptions", "By what they cost their customers, by energy not supplied at a price, or left out", default="cost",
        group="money",
    )  # fmt: skip
    energy_price: float = quantity(
        "Not supplied", "Price of a MWh that is not supplied", unit="1/MWh", default=8000.0, ge=0, le=1e7, group="money"
    )
    breach_k: float = quantity(
        "Each breach",
        "Weight of a limit that is broken for a year, in thousands",
        unit="k",
        default=150.0,
        ge=0,
        le=1e6,
        group="money",
    )
    residual: bool = choice("Residual value", "What is left of the life of a scheme at the end counts, in equal parts by year",
                            default=True, group="money")  # fmt: skip

    def solved_years(self) -> list[int]:
        """Years in which the network is solved."""
        return list(range(self.from_year, self.from_year + self.years, self.every))


class BoardOptions(Money):
    """What is held side by side."""

    of: Literal["plans", "schemes", "both"] = choice("Of", "Plans of the model, each scheme alone from its year on, or both",
                                                     default="both")  # fmt: skip
    conditions: Literal["present", "all"] = choice("Conditions", "The one in use, or all", default="all")
    load_flow: LoadFlow = _load_flow()
    outages: bool = choice(
        "Outages", "How many outages of the model are not survived, under the condition in use", default=True
    )
    growth: Literal["entered", "scenarios"] = choice(
        "Growth",
        "As entered; or half and one and a half times as much as well, for regret and sensitivity",
        default="entered",
    )


class SearchOptions(Money):
    """Which schemes a plan may be made of, and how it is searched for."""

    state: Literal["all", "proposed", "approved"] = choice(
        "Schemes", "All, from proposed on, or approved ones", default="all"
    )
    method: Literal["automatic", "exact", "mixed_integer", "greedy"] = choice(
        "Search",
        "Exact: every set of schemes in every year. Mixed-integer: only those that could be part of the best, with a proof. "
        "Greedy: one more at a time, looking one step ahead. Automatic: exact up to six schemes, greedy beyond",
        default="automatic",
    )
    most_states: int = quantity("States at most", "So many sets in so many years are solved; then the best so far counts, with "
                                "how much cheaper another could be", unit="1", default=400, ge=10, le=100_000,
                                when={"method": ("mixed_integer",)})  # fmt: skip
    proposals: int = quantity(
        "Proposals too", "So many of the best proposals, tried at the demand of the last year, stand beside the schemes of the "
        "model; 0: none", unit="1", default=0, ge=0, le=8,
    )  # fmt: skip
    conditions: Literal["present", "all"] = choice("Conditions", "The one in use, or all", default="all")
    load_flow: LoadFlow = _load_flow()


class ProposalOptions(BaseModel):
    """What may be proposed, what it costs, and in which year it has to help."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    year: int | None = quantity(
        "Year", "Demand grows to it; as entered when blank", unit="1", default=None, ge=1900, le=2200
    )
    take: str | None = choice(
        "Take", "Name of the proposal of which a scheme can be made; the best when blank", default=None
    )
    near: str | None = reference("At", "Only what stands within a few steps of this element; everywhere when blank", to="element",
                                 default=None)  # fmt: skip
    load_flow: LoadFlow = _load_flow()
    most: int = quantity("At most", "So many proposals are tried", unit="1", default=60, ge=1, le=500)
    capacity: bool = choice("Larger and further equipment", "Next size, second circuit, further transformer", default=True,
                            group="kinds")  # fmt: skip
    voltage: bool = choice("Capacitors and regulators", "Where voltages are low", default=True, group="kinds")
    storage: bool = choice("Storage", "Behind what is loaded too much", default=True, group="kinds")
    switching: bool = choice("Switching", "Open points, ties, disconnectors, remote control, reclosers, indicators", default=True,
                             group="kinds")  # fmt: skip
    renewal: bool = choice("Renewal", "Of what has reached the end of its life by the year asked for", default=True,
                           group="kinds")  # fmt: skip
    balancing: bool = choice("Other phases", "Per phase, behind transformers whose phases carry unequal power: loads and "
                             "laterals moved to others", default=True, group="kinds")  # fmt: skip
    line_k_per_km: float = quantity("Line", "Of a km at 11 kV; rises with the voltage", unit="k", default=60.0, ge=0, le=1e6,
                                    group="costs")  # fmt: skip
    transformer_k_per_mva: float = quantity(
        "Transformer", "Of a MVA", unit="k", default=25.0, ge=0, le=1e6, group="costs"
    )
    capacitor_k_per_mvar: float = quantity(
        "Capacitor", "Of a Mvar", unit="k", default=20.0, ge=0, le=1e6, group="costs"
    )
    storage_k_per_mwh: float = quantity("Storage", "Of a MWh", unit="k", default=320.0, ge=0, le=1e6, group="costs")
    storage_hours: float = quantity(
        "Storage lasts", "At its full power", unit="h", default=4.0, ge=0.25, le=24, group="costs"
    )
    switch_k: float = quantity("Disconnector", "With its place", unit="k", default=8.0, ge=0, le=1e6, group="costs")
    remote_k: float = quantity("Remote control", "Of a switch", unit="k", default=12.0, ge=0, le=1e6, group="costs")
    recloser_k: float = quantity("Recloser", "With its place", unit="k", default=28.0, ge=0, le=1e6, group="costs")
    indicator_k: float = quantity(
        "Fault indicator", "With its message", unit="k", default=2.0, ge=0, le=1e6, group="costs"
    )
    move_k: float = quantity(
        "Other phase", "Of each load or lateral moved", unit="k", default=0.3, ge=0, le=1e5, group="costs"
    )
    else_k: float = quantity("Other renewal", "Of a switch, a plant or the like that is renewed", unit="k", default=20.0, ge=0,
                             le=1e6, group="costs")  # fmt: skip
