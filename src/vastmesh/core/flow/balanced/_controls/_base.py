from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, ClassVar

import numpy as np

from ....electrical import NetArrays
from ....electrical.arrays import Bools, Columns, Floats, Ints
from .._reading import Reading

Tables = dict[str, Columns]
Name = Callable[[int], str]  # position in element_id -> name
BusName = Callable[[int], str]

_MOST_TURNS = 3  # times a controller may turn back before it is left alone


class Control:
    """Controllers of one kind during one solution; they start from what is entered.

    ``table``: the compiled table that describes them. ``impedances``: whether their moves change admittances.
    """

    table: ClassVar[str]
    impedances: ClassVar[bool] = False

    def __init__(self, arrays: NetArrays) -> None:
        self.arrays = arrays
        self.columns: Columns = arrays.tables[self.table]
        self.count = len(self.columns["element"])
        self._turns = np.zeros(self.count, np.int64)
        self._last = np.zeros(self.count, np.float64)

    def apply(self, tables: Tables) -> None:
        """Put the present positions into copies of the columns they act on."""
        raise NotImplementedError

    def move(self, seen: Reading) -> bool:
        """Act on a solved state; whether anything moved."""
        raise NotImplementedError

    def notes(self, seen: Reading, name: Name, bus_name: BusName) -> list[str]:
        """What every one did and why, in words."""
        return []

    def positions(self) -> dict[int, float]:
        """Position or steps found, by position in ``element_id``; for the tables."""
        return {}

    def free(self, change: Floats) -> Floats:
        """Changes without those of controllers that have turned back too often."""
        way = np.sign(change)
        self._turns += (way != 0) & (self._last != 0) & (way != self._last)
        self._last = np.where(way != 0, way, self._last)
        return np.where(self._turns > _MOST_TURNS, 0.0, change)

    @property
    def hunting(self) -> Ints:
        """Rows of controllers that were left where they are because they kept turning back."""
        return np.flatnonzero(self._turns > _MOST_TURNS)


def copied(tables: Tables, name: str, *columns: str) -> Columns:
    """A table with copies of some columns, put in place of the old one; the rest stays shared."""
    table = dict(tables[name])
    for c in columns:
        table[c] = table[c].copy()
    tables[name] = table
    return table


def rows_of(elements: Ints, wanted: Sequence[int] | Ints) -> Ints:
    """Rows of a table by element, each element having one row."""
    order = np.argsort(elements, kind="stable")
    return np.asarray(order[np.searchsorted(elements, wanted, sorter=order)], np.int64)


def shared_out(amount: float, weight: Floats, low: Floats, high: Floats) -> Floats:
    """Divide an amount by weight; who is at a limit stays there and the others take the rest."""
    share: Floats = np.zeros(len(weight))
    free: Bools = np.ones(len(weight), np.bool_)
    for _ in range(len(weight)):
        left = amount - share[~free].sum()
        total = weight[free].sum()
        part = left * weight / total if total > 0 else np.zeros(len(weight))
        over = free & ((part > high) | (part < low))
        if not np.any(over):
            share[free] = part[free]
            return share
        share[over] = np.clip(part[over], low[over], high[over])
        free &= ~over
        if not np.any(free):
            break
    return share


def plain(value: Any) -> str:
    """A position as it is read: whole where it is whole."""
    return f"{float(value):.4g}"
