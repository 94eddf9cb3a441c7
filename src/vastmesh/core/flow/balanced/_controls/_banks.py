from __future__ import annotations

import numpy as np

from ....electrical import NetArrays
from ....electrical.arrays import Ints
from .._reading import Reading
from ._base import BusName, Control, Name, Tables, copied, rows_of


class Banks(Control):
    """Capacitors and reactors that switch step by step between two voltages."""

    table = "bank"
    impedances = True

    def __init__(self, arrays: NetArrays) -> None:
        super().__init__(arrays)
        self.on: Ints = self.columns["on"].copy()
        self._shunt = rows_of(arrays.tables["shunt"]["element"], self.columns["element"])
        self._why = np.full(self.count, np.nan)

    def apply(self, tables: Tables) -> None:
        copied(tables, "shunt", "y")["y"][self._shunt] = self.columns["y"] * self.on

    def move(self, seen: Reading) -> bool:
        bank, v = self.columns, seen.volts[self.columns["bus"]]
        way = np.where(v < bank["below"], 1, np.where(v > bank["above"], -1, 0)) * bank["sense"]
        wanted = np.clip(self.on + np.where(np.isfinite(v), way, 0), 0, bank["steps"])
        change = self.free((wanted - self.on).astype(np.float64))
        first = (change != 0) & np.isnan(self._why)
        self._why[first] = v[first]
        self.on += change.astype(np.int64)
        return bool(np.any(change))

    def notes(self, seen: Reading, name: Name, bus_name: BusName) -> list[str]:
        b, found = self.columns, []
        for k in np.flatnonzero(self.on != b["on"]).tolist():
            low = self._why[k] < b["below"][k]
            limit = b["below" if low else "above"][k]
            found.append(
                f"{name(b['element'][k])} switched from {b['on'][k]} to {self.on[k]} steps because its bus stood at "
                f"{self._why[k]:.4f} p.u., {'below' if low else 'above'} {limit:.3f}; it has "
                f"{seen.volts[b['bus'][k]]:.4f} now."
            )
        return found

    def positions(self) -> dict[int, float]:
        return dict(zip(self.columns["element"].tolist(), self.on.astype(float).tolist(), strict=True))
