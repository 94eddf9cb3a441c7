"""Electrical stamps: how each kind of element fills the compiled tables.

One module per kind, registered by :func:`stamp`; a new module here is found by itself.
A stamp gets all elements of its kind at once and returns table name -> columns.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from importlib import import_module
from pkgutil import iter_modules
from typing import Any

import numpy as np

from ...network import CurrentTransformer, Element, Item
from ..arrays import Columns, Floats, Ints


@dataclass
class Context:
    """What a stamp needs beside its elements: bus rows and bases."""

    bus_row: dict[str, int]
    bus_kv: Floats
    base_mva: float
    frequency_hz: float
    groups: dict[str, int] = field(default_factory=dict)
    find: Callable[[str], Item | None] = field(default=lambda ident: None)
    at: dict[str, list[CurrentTransformer]] = field(default_factory=dict)
    inner: list[tuple[str, float]] = field(default_factory=list)

    def inner_bus(self, ident: str, kv: float) -> int:
        """Row of the star point inside an element, named by the element; its nominal voltage is ``kv``."""
        if ident not in self.bus_row:
            self.bus_row[ident] = len(self.bus_kv) + len(self.inner)
            self.inner.append((ident, kv))
        return self.bus_row[ident]

    def rows(self, idents: Sequence[str]) -> Ints:
        """Bus rows of bus ids."""
        return np.fromiter((self.bus_row[i] for i in idents), np.int64, len(idents))

    def rows_or(self, idents: Sequence[str | None], otherwise: Ints) -> Ints:
        """Bus rows of bus ids, and another row where there is none or it is not compiled."""
        found = (self.bus_row.get(i or "", -1) for i in idents)
        rows = np.fromiter(found, np.int64, len(idents))
        return np.where(rows < 0, otherwise, rows)

    def group(self, name: str) -> int:
        """Number of a demand class or energy, given out as met."""
        return self.groups.setdefault(name, len(self.groups))


StampFunction = Callable[[Sequence[Any], Context], dict[str, Columns]]
STAMPS: dict[str, StampFunction] = {}


def stamp(kind: type[Element]) -> Callable[[StampFunction], StampFunction]:
    """Register the stamp of a kind."""

    def register(function: StampFunction) -> StampFunction:
        STAMPS[kind.model_fields["kind"].default] = function
        return function

    return register


def column(elements: Sequence[Any], name: str, *, blank: float = 0.0) -> Floats:
    """One field of all elements; ``blank`` where there is none."""
    values = (getattr(e, name) for e in elements)
    return np.fromiter((blank if v is None else v for v in values), np.float64, len(elements))


for _module in iter_modules(__path__):
    import_module(f"{__name__}.{_module.name}")
