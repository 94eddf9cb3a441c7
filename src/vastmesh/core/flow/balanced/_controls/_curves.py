from __future__ import annotations

import numpy as np

from ....electrical import NetArrays
from ....electrical.arrays import Floats, Ints
from .._reading import Reading
from ._base import BusName, Control, Name, Tables, copied, rows_of

_WHERE = ("delivers its most", "helps the voltage up", "", "helps the voltage down", "takes in its most")


class Curves(Control):
    """Inverters whose reactive power follows the voltage: each is on one of five straight parts of its curve."""

    table = "curve"

    def __init__(self, arrays: NetArrays) -> None:
        super().__init__(arrays)
        # From 0: below V1, falling, nothing, falling, above V4.
        self.segment: Ints = np.full(self.count, 2, np.int64)
        self._machine = rows_of(arrays.tables["injection"]["element"], self.columns["element"])

    def _line(self) -> tuple[Floats, Floats]:
        """Reactive power delivered on the segment each inverter is on: a + b V."""
        c, s = self.columns, self.segment
        falling = -c["q"] / np.where(s == 1, c["v2"] - c["v1"], c["v4"] - c["v3"])
        start = np.where(s == 1, c["v2"], c["v3"])
        b = np.where((s == 1) | (s == 3), falling, 0.0)
        a = np.select([s == 0, s == 4, (s == 1) | (s == 3)], [c["q"], -c["q"], -falling * start], 0.0)
        return a, b

    def apply(self, tables: Tables) -> None:
        a, b = self._line()
        tables["curve"] = {**tables["curve"], "a": a, "b": b}

    def settle(self, tables: Tables, volts: Floats) -> None:
        """Write the reactive power that the curve gave at solved voltages (n_bus,), for reading the solution."""
        a, b = self._line()
        copied(tables, "injection", "q")["q"][self._machine] = a + b * volts[self.columns["bus"]]

    def move(self, seen: Reading) -> bool:
        c, v = self.columns, seen.volts[self.columns["bus"]]
        wanted = (v > c["v1"]).astype(np.int64) + (v > c["v2"]) + (v > c["v3"]) + (v > c["v4"])
        change = np.where(np.isfinite(v), wanted - self.segment, 0)
        moved = self.free(np.sign(change).astype(np.float64)).astype(np.int64)
        self.segment += moved
        return bool(np.any(moved))

    def notes(self, seen: Reading, name: Name, bus_name: BusName) -> list[str]:
        c = self.columns
        return [
            f"{name(c['element'][k])} {_WHERE[self.segment[k]]} at {seen.volts[c['bus'][k]]:.4f} p.u."
            for k in np.flatnonzero(self.segment != 2).tolist()
        ]
