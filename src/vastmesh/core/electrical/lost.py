"""Which rows of the arrays go with elements and buses that are lost."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

import numpy as np

from .arrays import Columns, Ints, NetArrays

_ENDS = {"branch": ("from", "to"), "switch": ("from", "to")}


class LostRows:
    """Where each element and each bus stands in the tables. Patched arrays keep their rows, so that it holds for them too."""

    def __init__(self, arrays: NetArrays) -> None:
        self._rows: dict[int, list[tuple[str, int]]] = {}
        beyond = self._beyond = len(arrays.element_id)  # numbers of buses begin here
        for name, table in arrays.tables.items():
            for k, e in enumerate(table["element"].tolist()):
                self._rows.setdefault(e, []).append((name, k))
            for end in _ENDS.get(name, ("bus",)):
                if end in table:
                    for k, b in enumerate(table[end].tolist()):
                        self._rows.setdefault(beyond + b, []).append((name, k))
        self._of_element = {e: i for i, e in enumerate(arrays.element_id)}
        self._bus = {b: i for i, b in enumerate(arrays.bus_id)}

    def of(self, idents: Collection[str]) -> dict[str, Ints]:
        """Rows that go when these elements and buses do, of the tables that lose any."""
        gone: dict[str, set[int]] = {}
        for ident in idents:
            for key in (self._of_element.get(ident, -1), self._beyond + self._bus[ident] if ident in self._bus else -1):
                for name, row in self._rows.get(key, ()):
                    gone.setdefault(name, set()).add(row)
        return {name: np.array(sorted(rows)) for name, rows in gone.items()}


def without_rows(arrays: NetArrays, gone: Mapping[str, Ints]) -> NetArrays:
    """The arrays without some rows of their tables; the same ones where none go."""
    if not gone:
        return arrays
    tables: dict[str, Columns] = dict(arrays.tables)
    for name, rows in gone.items():
        tables[name] = {c: np.delete(x, rows) for c, x in tables[name].items()}
    return replace(arrays, tables=tables)
