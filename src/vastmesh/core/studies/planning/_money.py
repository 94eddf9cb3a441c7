"""Net present cost: what is spent from year to year, discounted to the first."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from ...network import Scheme
from ...results import Axis, Figure, Series
from ._options import Money
from ._standing import Standing

PARTS = {
    "investment": "Investment", "operation": "Operation", "losses": "Losses", "interruptions": "Interruptions",
    "breaches": "Weight of breaches", "residual": "Residual value",
}  # fmt: skip


@dataclass(frozen=True)
class Present:
    """Present values in thousands; ``residual`` is negative. ``total``: of all but the weight of breaches; ``weighed``:
    with it."""

    investment: float
    operation: float
    losses: float
    interruptions: float
    breaches: float
    residual: float

    @property
    def total(self) -> float:
        return self.investment + self.operation + self.losses + self.interruptions + self.residual

    @property
    def weighed(self) -> float:
        return self.total + self.breaches


def yearly(at: Standing, money: Money) -> tuple[float, float, float]:
    """Losses, interruptions and breaches of one year, in thousands, not discounted."""
    first = at.under[0]
    lost = (first.losses_mw if first.solved else 0.0) * money.loss_hours * money.loss_price / 1000
    if money.interruptions == "cost":
        out = at.cost_k
    elif money.interruptions == "energy":
        out = at.ens_mwh * money.energy_price / 1000
    else:
        out = 0.0
    return lost, out, at.breaches * money.breach_k


def discount(money: Money, year: int) -> float:
    return float((1 + money.discount_pct / 100) ** -(year - money.from_year))


def of_schemes(
    steps: Sequence[tuple[str, int]], schemes: Mapping[str, Scheme], money: Money
) -> tuple[float, float, float]:
    """Investment, operation and residual value of schemes with their years, present values. What comes before the first
    year is paid in it; what comes after the last is not part of the plan's years."""
    end = money.from_year + money.years
    investment = operation = residual = 0.0
    for ident, given in steps:
        s, year = schemes[ident], max(given, money.from_year)
        if year >= end:
            continue
        cost = s.cost_k or 0.0
        investment += cost * discount(money, year)
        operation += sum((s.yearly_cost_k or 0.0) * discount(money, y) for y in range(year, end))
        if money.residual:
            residual -= cost * max(0, s.life_years - (end - year)) / s.life_years * discount(money, end)
    return investment, operation, residual


def present(
    steps: Sequence[tuple[str, int]], schemes: Mapping[str, Scheme], at: Callable[[int], Standing], money: Money
) -> Present:
    """Of one way to go on; ``at``: the standing in each year that is solved."""
    investment, operation, residual = of_schemes(steps, schemes, money)
    parts = [0.0, 0.0, 0.0]
    for begin in money.solved_years():
        values = yearly(at(begin), money)
        for year in range(begin, min(begin + money.every, money.from_year + money.years)):
            for k, v in enumerate(values):
                parts[k] += v * discount(money, year)
    return Present(investment, operation, parts[0], parts[1], parts[2], residual)


def built_when(rows: Sequence[tuple[str, int]], money: Money) -> list[Figure]:
    """What is in service in which year, as cells: a row with its first year each; none without rows."""
    years = range(money.from_year, money.from_year + money.years)
    cells = [(str(y), name, float(y >= first)) for name, first in rows for y in years]
    if not cells:
        return []
    x, y, z = (list(c) for c in zip(*cells, strict=True))
    return [Figure("when", "What is built when", Axis("Year"), Axis("Scheme"), [Series("z", "", x, y, "cells", z=z)],
                   z=Axis("In service", "yes or no", 0))]  # fmt: skip
