"""Where the rows of a result table belong: area, substation, feeder and voltage level, worked out when asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from ..network import Area, Bus, Element, Network, Substation, Trace
from ._table import Table


def places(network: Network, table: Table, trace: Callable[[], Trace]) -> dict[str, Callable[[], Any]]:
    """Columns that a table does not carry, by name; each is worked out when it is called.

    A branch belongs where its first end does.
    """
    first = next((c for c in ("bus", "from_bus", "hv_bus") if any(x.name == c for x in table.columns)), "id")
    if _bus_of(network, next(iter(table[first]), None)) is None:
        return {}
    found: list[Bus | None] = []

    def at() -> list[Bus | None]:
        """The bus of every row, looked up when the first column is asked for."""
        if not found:
            found.extend(_bus_of(network, i) for i in table[first])
        return found

    def feeder() -> list[str | None]:
        traced = trace()
        names = {f.id: f.name for f in traced.feeders}
        of = traced.feeder_of()
        return [names.get(of.get(b.id, "")) if b else None for b in at()]

    def nominal() -> Any:
        return np.array([getattr(b, "nominal_kv", None) or np.nan for b in at()], np.float64)

    columns: dict[str, Callable[[], Any]] = {
        "area": lambda: [getattr(b, "area", None) for b in at()],
        "substation": lambda: [getattr(b, "substation", None) for b in at()],
        "feeder": feeder,
        "nominal_kv": nominal,
        "tags": lambda: [", ".join(getattr(network.items.get(i), "tags", None) or ()) for i in table["id"]],
        "note": lambda: [getattr(network.items.get(i), "note", "") for i in table["id"]],
    }
    have = {c.name for c in table.columns}
    return {n: f for n, f in columns.items() if n not in have}


def _bus_of(network: Network, ident: Any) -> Bus | None:
    """A bus itself, or the one where an element begins."""
    item = network.items.get(ident) if isinstance(ident, str) else None
    if isinstance(item, Element) and not isinstance(item, Bus):
        item = network.items.get(next(iter(item.buses()), ""))
    return item if isinstance(item, Bus) else None


def words_of(network: Network) -> Mapping[str, str]:
    """Names of what texts in tables may stand for, by id."""
    return {i.id: i.name for i in network.items.values() if isinstance(i, Area | Substation | Bus) and i.name != i.id}
