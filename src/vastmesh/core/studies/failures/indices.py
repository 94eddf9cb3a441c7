"""The indices of IEEE 1366, and those of energy and cost, of any set of loads."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...electrical.arrays import Bools
from .demand import Supplied
from .tally import Tally
from .weather import HOURS


@dataclass(frozen=True)
class Index:
    name: str
    label: str
    unit: str | None
    digits: int
    meaning: str


INDICES = (
    Index("saifi", "SAIFI", "1/a", 3, "Sustained interruptions of the average customer"),
    Index("saidi", "SAIDI", "h/a", 3, "Hours without supply of the average customer"),
    Index("caidi", "CAIDI", "h", 3, "Mean length of an interruption: SAIDI over SAIFI"),
    Index("caifi", "CAIFI", "1/a", 3, "Interruptions per customer that has any, as far as these are to be expected in a year"),
    Index("asai", "ASAI", "%", 5, "Share of the year with supply"),
    Index("asui", "ASUI", "%", 5, "Share of the year without"),
    Index("maifi", "MAIFI", "1/a", 3, "Momentary interruptions of the average customer"),
    Index("ens", "ENS", "MWh/a", 3, "Energy not supplied, by average demand"),
    Index("aens", "AENS", "kWh/a", 4, "The same by customer"),
    Index("acci", "ACCI", "kWh/a", 4, "The same by customer that has any interruption"),
    Index("cost", "Interruption cost", "k/a", 2, "What customers lose by interruptions, in thousands"),
)  # fmt: skip


def indices(people: Supplied, tally: Tally, chosen: Bools) -> dict[str, float]:
    """Of the loads chosen, (n_load,); NaN where there is no customer to divide by."""
    place, n = people.place[chosen], people.customers[chosen]
    total = float(n.sum())
    rate, away, brief = tally.rate[place], tally.away[place], tally.brief[place]
    energy = float(people.average[chosen] @ tally.energy_h[place])
    hit = float(n @ -np.expm1(-rate))
    interruptions, hours = float(n @ rate), float(n @ away)

    def per(value: float, by: float) -> float:
        return value / by if by > 0 else float("nan")

    saidi = per(hours, total)
    return {
        "saifi": per(interruptions, total),
        "saidi": saidi,
        "caidi": per(hours, interruptions),
        "caifi": per(interruptions, hit),
        "asai": 100 * (1 - saidi / HOURS),
        "asui": 100 * saidi / HOURS,
        "maifi": per(float(n @ brief), total),
        "ens": energy,
        "aens": per(1000 * energy, total),
        "acci": per(1000 * energy, hit),
        "cost": float(tally.cost_of(chosen)) / 1000,
    }
