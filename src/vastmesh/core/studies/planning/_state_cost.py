"""What a state of the network costs in the years it stands for, and a plan as a search finds it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ._money import discount, yearly
from ._options import Money
from ._standing import Standing

Set = frozenset[str]


@dataclass(frozen=True)
class Found:
    """``steps``: schemes with years; ``cost_k``: net present cost with the weight of breaches; ``looked_at``: states solved."""

    steps: tuple[tuple[str, int], ...]
    cost_k: float
    looked_at: int


At = Callable[[Set, int], Standing]


def period_cost(at: Standing, year: int, money: Money) -> float:
    """Losses, interruptions and breaches of the years that count as ``year``."""
    end = min(year + money.every, money.from_year + money.years)
    return sum(yearly(at, money)) * sum(discount(money, y) for y in range(year, end))
