"""Automatic control around Newton's method: inverters that follow a curve Q(V), taps, capacitor steps.

After every converged solution the controllers look at it; what they change is solved again, until none moves. A
controller that keeps turning back is left where it is, and the account says so.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from ...electrical import NetArrays
from ...electrical.arrays import Floats, Ints
from ...network import Network

MOST_ROUNDS = 60
_MOST_TURNS = 3  # times a controller may turn back before it is left alone
_STEPS_AT_ONCE = 8


@dataclass
class Controls:
    """The state of all controllers of a network during one solution; starts from what is entered."""

    arrays: NetArrays
    position: Ints = field(init=False)
    steps_on: Ints = field(init=False)
    segment: Ints = field(init=False)

    def __post_init__(self) -> None:
        t = self.arrays.tables
        self.position, self.steps_on = t["tap"]["position"].copy(), t["bank"]["on"].copy()
        # The five parts of an inverter's curve, from 0: below V1, falling, nothing, falling, above V4.
        self.segment = np.full(len(t["curve"]["bus"]), 2, np.int64)
        self._turns = {k: np.zeros(n, np.int64) for k, n in (("tap", len(self.position)), ("bank", len(self.steps_on)),
                                                             ("curve", len(self.segment)))}  # fmt: skip
        self._last = {k: np.zeros(len(n), np.int64) for k, n in self._turns.items()}
        tap, branch = t["tap"], t["branch"]
        self._branch_row = _rows_of(branch["element"], tap["element"])
        self._shunt_row = _rows_of(t["shunt"]["element"], t["bank"]["element"])
        self._machine_row = _rows_of(t["injection"]["element"], t["curve"]["element"])

    @property
    def any(self) -> bool:
        return bool(len(self.position) + len(self.steps_on) + len(self.segment))

    def applied(self) -> NetArrays:
        """The arrays as the controllers stand now."""
        t = dict(self.arrays.tables)
        if len(self.position):
            tap, branch = t["tap"], dict(t["branch"])
            ratio = tap["ratio"] * (1 + (self.position - tap["neutral"]) * tap["step"])
            for side, name in ((0, "ratio_from"), (1, "ratio_to")):
                mine = tap["side"] == side
                branch[name] = branch[name].copy()
                branch[name][self._branch_row[mine]] = ratio[mine]
            t["branch"] = branch
        if len(self.steps_on):
            shunt = dict(t["shunt"])
            shunt["y"] = shunt["y"].copy()
            shunt["y"][self._shunt_row] = t["bank"]["y"] * self.steps_on
            t["shunt"] = shunt
        if len(self.segment):
            a, b = self._line()
            t["curve"] = {**t["curve"], "a": a, "b": b}
        return replace(self.arrays, tables=t)

    def _line(self) -> tuple[Floats, Floats]:
        """Reactive power delivered on the segment each inverter is on: a + b V."""
        c, s = self.arrays.tables["curve"], self.segment
        falling = -c["q"] / np.where(s == 1, c["v2"] - c["v1"], c["v4"] - c["v3"])
        start = np.where(s == 1, c["v2"], c["v3"])
        b = np.where((s == 1) | (s == 3), falling, 0.0)
        a = np.select([s == 0, s == 4, (s == 1) | (s == 3)], [c["q"], -c["q"], -falling * start], 0.0)
        return a, b

    def final(self, arrays: NetArrays, volts: Floats) -> NetArrays:
        """Arrays for reading a solution: inverters on a curve have the reactive power that it gave them."""
        if not len(self.segment):
            return arrays
        injection = dict(arrays.tables["injection"])
        a, b = self._line()
        injection["q"] = injection["q"].copy()
        injection["q"][self._machine_row] = a + b * volts[arrays.tables["curve"]["bus"]]
        return replace(arrays, tables={**arrays.tables, "injection": injection})

    def move(self, volts: Floats) -> tuple[bool, bool]:
        """Let the controllers act on solved voltages (n_bus,); whether any moved, and whether admittances changed."""
        curves = self._move_curves(volts)
        if curves:
            return True, False
        taps = self._move_taps(volts)
        banks = False if taps else self._move_banks(volts)
        return taps or banks, taps or banks

    def _free(self, kind: str, change: Ints) -> Ints:
        """Changes without those of controllers that have turned back too often."""
        way = np.sign(change)
        last, turns = self._last[kind], self._turns[kind]
        turns += (way != 0) & (last != 0) & (way != last)
        self._last[kind] = np.where(way != 0, way, last)
        return np.where(turns > _MOST_TURNS, 0, change)

    def _move_curves(self, volts: Floats) -> bool:
        c = self.arrays.tables["curve"]
        if not len(self.segment):
            return False
        v = volts[c["bus"]]
        wanted = (v > c["v1"]).astype(np.int64) + (v > c["v2"]) + (v > c["v3"]) + (v > c["v4"])
        change = np.where(np.isfinite(v), wanted - self.segment, 0)
        moved = self._free("curve", np.sign(change))
        self.segment += moved
        return bool(np.any(moved))

    def _move_taps(self, volts: Floats) -> bool:
        """Taps step towards their band: only those at the highest voltage that need to, so that others follow."""
        tap = self.arrays.tables["tap"]
        if not len(self.position):
            return False
        v = volts[tap["bus"]]
        off = np.where(np.isfinite(v), v - tap["target"], 0.0)
        outside = np.abs(off) > tap["band"] / 2
        steps = np.ceil((np.abs(off) - tap["band"] / 2) / np.maximum(tap["step"], 1e-9) - 1e-9)
        steps = np.clip(steps, 1, _STEPS_AT_ONCE).astype(np.int64)
        way = -np.sign(off).astype(np.int64) * tap["sense"]
        wanted = np.clip(self.position + np.where(outside, way * steps, 0), tap["low"], tap["high"])
        change = self._free("tap", wanted - self.position)
        needed = change != 0
        if not np.any(needed):
            return False
        level = self.arrays.bus_kv[tap["bus"]]
        self.position += np.where(level >= level[needed].max() * 0.999, change, 0)
        return True

    def _move_banks(self, volts: Floats) -> bool:
        bank = self.arrays.tables["bank"]
        if not len(self.steps_on):
            return False
        v = volts[bank["bus"]]
        way = np.where(v < bank["below"], 1, np.where(v > bank["above"], -1, 0)) * bank["sense"]
        way = np.where(np.isfinite(v), way, 0).astype(np.int64)
        wanted = np.clip(self.steps_on + way, 0, bank["steps"])
        change = self._free("bank", wanted - self.steps_on)
        self.steps_on += change
        return bool(np.any(change))

    def notes(self, network: Network, volts: Floats) -> list[str]:
        """What every controller did and why, in words."""
        t, found = self.arrays.tables, []
        name: Callable[[int], str] = lambda e: network[self.arrays.element_id[e]].name  # noqa: E731
        tap = t["tap"]
        for k in range(len(self.position)):
            before, now, v = int(tap["position"][k]), int(self.position[k]), volts[tap["bus"][k]]
            want = f"to hold {tap['target'][k]:.3f} p.u.; it holds {v:.4f}"
            if before != now:
                found.append(f"{name(tap['element'][k])} went from tap {before} to {now} {want}.")
            if abs(v - tap["target"][k]) > tap["band"][k] / 2 and now in (tap["low"][k], tap["high"][k]):
                found.append(
                    f"{name(tap['element'][k])} is at its last tap, {now}: it can't hold {tap['target'][k]:.3f} p.u."
                )
        bank = t["bank"]
        for k in np.flatnonzero(self.steps_on != bank["on"]).tolist():
            found.append(
                f"{name(bank['element'][k])} switched from {bank['on'][k]} to {self.steps_on[k]} steps; its bus has "
                f"{volts[bank['bus'][k]]:.4f} p.u."
            )
        curve = t["curve"]
        where = ("delivers its most", "helps the voltage up", "", "helps the voltage down", "takes in its most")
        for k in np.flatnonzero(self.segment != 2).tolist():
            found.append(f"{name(curve['element'][k])} {where[self.segment[k]]} at {volts[curve['bus'][k]]:.4f} p.u.")
        for kind, table in (("tap", tap), ("bank", bank), ("curve", curve)):
            for k in np.flatnonzero(self._turns[kind] > _MOST_TURNS).tolist():
                found.append(f"{name(table['element'][k])} was hunting between two positions and was left where it is.")
        return found

    def by_element(self) -> dict[int, int]:
        """Position or steps found, by position in ``element_id``."""
        t = self.arrays.tables
        return dict(zip(t["tap"]["element"].tolist(), self.position.tolist(), strict=True)) | dict(
            zip(t["bank"]["element"].tolist(), self.steps_on.tolist(), strict=True)
        )


def _rows_of(elements: Ints, wanted: Sequence[int] | Ints) -> Ints:
    """Rows of a table by element, each element having one row."""
    order = np.argsort(elements, kind="stable")
    return np.asarray(order[np.searchsorted(elements, wanted, sorter=order)], np.int64)
