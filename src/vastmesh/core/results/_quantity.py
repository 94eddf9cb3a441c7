"""Quantities: what a column of a result table means, declared once by whoever makes it.

Labels, lenses, legend, profile, tables, findings, comparison, totals, units and the words of the sift line read this.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from ._table import Column, Table

Scale = Literal["voltage", "loading", "growing", "falling", "around_zero", "none"]


@dataclass(frozen=True)
class Quantity:
    """``name``: of the column; ``table``: where it stands; ``parts``: columns that stand for it, by way of looking at results
    (phases, sequences, line); ``scale``: how a lens colours it; ``sums``: whether a total means something.

    ``short``: what it is called where there is little room; ``lens``: always offered as a lens, with the scale beginning, turning
    and ending at ``band`` (from nothing to the largest there is where that is blank); ``far``: the column of the other end of a
    branch; ``each``: columns of phases or pairs that are drawn side by side, by way; ``along``: drawn along a feeder, and held
    side by side of schemes.
    """

    name: str
    label: str
    table: str
    unit: str | None = None
    digits: int | None = None
    meaning: str = ""
    scale: Scale = "growing"
    sums: bool = False
    parts: dict[str, list[str]] = field(default_factory=dict)
    short: str = ""
    lens: bool = False
    band: tuple[float, ...] = ()
    far: str = ""
    each: dict[str, list[str]] = field(default_factory=dict)
    along: bool = False


@dataclass(frozen=True)
class Total:
    """A figure of the whole result. ``short``: what it is called in a strip of the most telling ones, where it belongs there;
    ``overview``: shown with the whole network."""

    name: str
    label: str
    unit: str | None = None
    digits: int = 2
    short: str = ""
    overview: bool = False


def quantity_of(table: Table, column: Column, scale: Scale = "growing", *, sums: bool = False) -> Quantity:
    """A quantity as its column declares it."""
    return Quantity(column.name, column.label, table.name, column.unit, column.digits, column.meaning, scale, sums)


def quantities_in(tables: dict[str, Table], declared: list[Quantity]) -> list[Quantity]:
    """What is declared, and every other column of figures about elements: a result can always be looked at on the sheet."""
    known = {(q.table, q.name) for q in declared}
    found = list(declared)
    for table in tables.values():
        for column in table.columns[1:]:
            if (table.name, column.name) not in known and column.digits is not None and not column.fixed:
                found.append(quantity_of(table, column))
    return found
