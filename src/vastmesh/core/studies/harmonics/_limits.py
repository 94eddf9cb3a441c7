"""Voltage levels of harmonics by nominal voltage, per cent: to be read with the standards beside them.

Compatibility levels in the manner of IEC 61000-2-2 (up to 1 kV) and 61000-2-12 (up to 35 kV), indicative planning levels in
the manner of IEC TR 61000-3-6 (above 1 kV, and above 35 kV).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from ...network import HarmonicLevels, Network

_LOW = {2: 2.0, 3: 5.0, 4: 1.0, 5: 6.0, 6: 0.5, 7: 5.0, 8: 0.5, 9: 1.5, 11: 3.5, 13: 3.0, 15: 0.4, 21: 0.3}
_MEDIUM = {2: 1.8, 3: 4.0, 4: 1.0, 5: 5.0, 6: 0.5, 7: 4.0, 8: 0.5, 9: 1.2, 11: 3.0, 13: 2.5, 15: 0.3, 21: 0.2}
_HIGH = {2: 1.4, 3: 2.0, 4: 0.8, 5: 2.0, 6: 0.4, 7: 2.0, 8: 0.4, 9: 1.0, 11: 1.5, 13: 1.5, 15: 0.3, 21: 0.2}
_BETWEEN = 0.2  # between whole orders: IEC TR 61000-3-6, 4.4
_TOTAL = {"low": 8.0, "medium": 6.5, "high": 3.0}


@dataclass(frozen=True)
class Level:
    """What voltages of one range are held against.

    ``name``: how findings call it; ``generic``: the table that counts where nothing of its own is said; ``own``: orders and per
    cent of a table of the network's own.
    """

    name: str
    generic: str
    own: tuple[tuple[float, float], ...] = ()
    others: float | None = None
    whole: float | None = None

    def limit_pct(self, order: float) -> float:
        """Level of one order, per cent of the fundamental."""
        for h, pct in self.own:
            if abs(h - order) < 1e-9:
                return pct
        return self.others if self.others is not None else generic_pct(self.generic, order)

    @property
    def total_pct(self) -> float:
        """Level of total distortion."""
        return self.whole if self.whole is not None else _TOTAL[self.generic]


def levels_of(network: Network, kv: Iterable[float], limits: str) -> list[Level]:
    """The level of each nominal voltage: of the network's own tables the first that fits, else the generic ones."""
    own = [e for e in network.of(HarmonicLevels) if e.use == limits]
    kv, known = list(kv), dict[float, Level]()
    for v in kv:
        if v not in known:
            generic = "low" if v <= 1 or limits == "compatibility" else "medium" if v <= 35 else "high"
            mine = next((e for e in own if e.above_kv < v <= e.up_to_kv), None)
            known[v] = Level(f"{limits} level, {generic} voltage", generic) if mine is None else Level(
                mine.name, generic, tuple(mine.by_order()), mine.others_pct, mine.total_pct)  # fmt: skip
    return [known[v] for v in kv]


def level_of(network: Network, kv: float, limits: str) -> Level:
    return levels_of(network, [kv], limits)[0]


def named(order: float) -> str:
    """An order as columns name it."""
    return f"{order:g}".replace(".", "_")


def order_in(name: str) -> float:
    """The order that a column's name says: order_5_pct, order_11_5_pct."""
    return float(".".join(name.split("_")[1:-1]))


def generic_pct(level: str, order: float) -> float:
    """Generic level of one order, per cent of the fundamental."""
    if order != round(order):
        return _BETWEEN
    order = round(order)
    table = {"low": _LOW, "medium": _MEDIUM, "high": _HIGH}[level]
    if order in table:
        return table[order]
    if order % 2 == 0:
        a, b = {"low": (0.25, 0.25), "medium": (0.25, 0.22), "high": (0.19, 0.16)}[level]
        return a * 10 / order + b
    if order % 3 == 0:
        return 0.2
    if level == "high":
        return 1.2 * 17 / order
    a, b = {"low": (2.27, 0.27), "medium": (1.9, 0.2)}[level]
    return a * 17 / order - b
