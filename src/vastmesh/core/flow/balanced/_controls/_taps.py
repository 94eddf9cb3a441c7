from __future__ import annotations

import numpy as np

from ....electrical import NetArrays
from ....electrical.arrays import Bools, Floats, Ints
from .._reading import Reading
from ._base import BusName, Control, Name, Tables, copied, plain, rows_of

_STEPS_AT_ONCE = 8
_MET = 1e-7  # p.u. from its target at which a continuous tap rests


class Taps(Control):
    """Tap changers and regulators that hold a voltage, with compensation for the drop behind them.

    Only those act at once that come first among those that need to: the shorter delay, then fewer other
    controlled taps between them and the source; so those below wait until those above have settled.
    """

    table = "tap"
    impedances = True

    def __init__(self, arrays: NetArrays, order: Ints) -> None:
        super().__init__(arrays)
        self.position: Floats = self.columns["position"].copy()
        self._order = order
        self._branch = rows_of(arrays.tables["branch"]["element"], self.columns["element"])
        self._why = np.full(self.count, np.nan)

    def apply(self, tables: Tables) -> None:
        tap = self.columns
        branch = copied(tables, "branch", "ratio_from", "ratio_to")
        ratio = tap["ratio"] * (1 + (self.position - tap["neutral"]) * tap["step"])
        for side, column in ((0, "ratio_from"), (1, "ratio_to")):
            mine = tap["side"] == side
            branch[column][self._branch[mine]] = ratio[mine]

    def held(self, seen: Reading) -> Floats:
        """Voltage each one holds: that of its bus, or behind the compensated impedance, p.u."""
        tap = self.columns
        v = np.abs(seen.v[tap["bus"]])
        compensated = np.flatnonzero((tap["r"] != 0) | (tap["x"] != 0))
        if len(compensated):
            out = -seen.to_current[self._branch[compensated]]
            z = tap["r"][compensated] + 1j * tap["x"][compensated]
            v[compensated] = np.abs(seen.v[tap["bus"][compensated]] - z * out)
        return np.asarray(v)

    def move(self, seen: Reading) -> bool:
        tap, v = self.columns, self.held(seen)
        smooth: Bools = tap["continuous"]
        off = np.where(np.isfinite(v), v - tap["target"], 0.0)
        slack = np.where(smooth, _MET, tap["band"] / 2)
        step = np.maximum(tap["step"], 1e-9)
        whole = np.clip(np.ceil((np.abs(off) - slack) / step - 1e-9), 1, _STEPS_AT_ONCE)
        steps = np.where(smooth, np.minimum(np.abs(off) / step, _STEPS_AT_ONCE), whole)
        way = -np.sign(off) * tap["sense"]
        wanted = np.clip(self.position + np.where(np.abs(off) > slack, way * steps, 0), tap["low"], tap["high"])
        change = wanted - self.position
        change = np.where(
            smooth, np.where(np.abs(change) < 1e-9, 0.0, change), self.free(np.where(smooth, 0.0, change))
        )
        needed = change != 0
        if not np.any(needed):
            return False
        now = needed & (tap["delay"] <= tap["delay"][needed].min())
        now &= self._order <= self._order[now].min()
        first = now & np.isnan(self._why)
        self._why[first] = v[first]
        self.position += np.where(now, change, 0)
        return True

    def notes(self, seen: Reading, name: Name, bus_name: BusName) -> list[str]:
        tap, found, v = self.columns, [], self.held(seen)
        for k in range(self.count):
            before, now, target = tap["position"][k], self.position[k], tap["target"][k]
            who, where = name(tap["element"][k]), bus_name(tap["bus"][k])
            if before != now:
                side = "below" if self._why[k] < target else "above"
                found.append(
                    f"{who} went from tap {plain(before)} to {plain(now)} because {where} stood at {self._why[k]:.4f} "
                    f"p.u., {side} its band; to hold {target:.3f} p.u.; it holds {v[k]:.4f}."
                )
            if abs(v[k] - target) > tap["band"][k] / 2 and now in (tap["low"][k], tap["high"][k]):
                found.append(f"{who} is at its last tap, {plain(now)}: it can't hold {target:.3f} p.u.")
        return found

    def positions(self) -> dict[int, float]:
        return dict(zip(self.columns["element"].tolist(), self.position.tolist(), strict=True))
