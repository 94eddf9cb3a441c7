"""Machines that act together: holding the voltage of another bus, sharing the slack, holding the exchange of an area."""

from __future__ import annotations

import numpy as np

from ....electrical import SLACK, NetArrays
from ....electrical.arrays import Bools, Floats, Ints
from .._reading import Reading
from ._base import BusName, Control, Name, Tables, copied, rows_of, shared_out

_VOLTAGE_MET = 1e-7  # p.u.
_POWER_MET = 1e-8  # p.u. of base power


class Remote(Control):
    """Machines that hold another bus: those with the same bus share the reactive power it takes by their rating.

    The total of each such bus is found by the secant method, one solution a step.
    """

    table = "remote"

    def __init__(self, arrays: NetArrays) -> None:
        super().__init__(arrays)
        c = self.columns
        self.q: Floats = np.zeros(self.count)
        self._machine = rows_of(arrays.tables["injection"]["element"], c["element"])
        self._held, self._group = np.unique(c["bus"], return_inverse=True)
        n = len(self._held)
        self._want = np.ones(n)
        self._want[self._group[::-1]] = c["voltage"][::-1]  # of several set-points the first one rules
        self._low, self._high = (np.bincount(self._group, c[x], n) for x in ("q_min", "q_max"))
        self._size = np.bincount(self._group, c["weight"], n) / arrays.base_mva
        self._total: Floats = np.zeros(n)
        self._before: tuple[Floats, Floats] | None = None

    def apply(self, tables: Tables) -> None:
        copied(tables, "injection", "q")["q"][self._machine] = self.q

    def move(self, seen: Reading) -> bool:
        v = seen.volts[self._held]
        off = np.where(np.isfinite(v), self._want - v, 0.0)
        step = off * self._size
        if self._before is not None:
            gone = self._total - self._before[0]
            with np.errstate(divide="ignore", invalid="ignore"):
                secant = off * gone / (v - self._before[1])
            step = np.where(np.isfinite(secant) & (secant * off > 0), secant, step)
        step = np.clip(step, -2 * self._size, 2 * self._size)
        wanted = np.clip(self._total + np.where(np.abs(off) > _VOLTAGE_MET, step, 0.0), self._low, self._high)
        if np.all(np.abs(wanted - self._total) < 1e-10):
            return False
        self._before = (self._total, v)
        self._total = wanted
        c = self.columns
        for g in range(len(self._held)):
            mine = np.flatnonzero(self._group == g)
            self.q[mine] = shared_out(float(wanted[g]), c["weight"][mine], c["q_min"][mine], c["q_max"][mine])
        return True

    def notes(self, seen: Reading, name: Name, bus_name: BusName) -> list[str]:
        c, found = self.columns, []
        for g, held in enumerate(self._held.tolist()):
            mine = np.flatnonzero(self._group == g)
            who = " and ".join(name(c["element"][k]) for k in mine)
            total, v = self._total[g] * self.arrays.base_mva, seen.volts[held]
            verb = "holds" if len(mine) == 1 else "share: they hold"
            if abs(v - self._want[g]) < 1e-5:
                found.append(f"{who} {verb} {bus_name(held)} at {v:.4f} p.u. with {total:.4g} Mvar.")
            else:
                found.append(f"{who} can't hold {bus_name(held)} at {self._want[g]:.4f} p.u.: {total:.4g} Mvar is the limit; "
                             f"it has {v:.4f}.")  # fmt: skip
            if len({float(x) for x in c["voltage"][mine]}) > 1:
                found.append(f"{who} want different voltages at {bus_name(held)}; the first counts.")
        return found


class Dispatch(Control):
    """Machines with a participation move their active power: to share the slack of their island, or to hold the
    exchange of their area. Those of an area that holds its exchange take no part in the slack."""

    table = "injection"

    def __init__(self, arrays: NetArrays, island: Ints, *, slack: bool, interchange: bool) -> None:
        super().__init__(arrays)
        c = self.columns
        self._area = arrays.bus_area[c["bus"]]
        self._island = island[c["bus"]]
        takes = c["participation"] > 0
        self._is_slack: Bools = c["control"] == SLACK
        holds = np.isfinite(arrays.area_export) if interchange else np.zeros(len(arrays.area_id), np.bool_)
        in_held = np.append(holds, False)[self._area]
        self._for_area: Bools = takes & in_held & ~self._is_slack
        self._for_slack: Bools = takes & ~in_held & ~self._is_slack & slack
        self._areas: Ints = np.flatnonzero(holds)
        self.more: Floats = np.zeros(self.count)
        self._slack = slack

    @property
    def acts(self) -> bool:
        return bool(np.any(self._for_area) or np.any(self._for_slack))

    def apply(self, tables: Tables) -> None:
        table = copied(tables, "injection", "p")
        table["p"] += self.more

    def move(self, seen: Reading) -> bool:
        c, wanted = self.columns, self.more.copy()
        if len(self._areas):
            off = self.arrays.area_export - seen.area_exchange
            for area in self._areas.tolist():
                mine = self._for_area & (self._area == area)
                if np.any(mine):
                    wanted[mine] += off[area] * c["participation"][mine] / c["participation"][mine].sum()
        if np.any(self._for_slack):
            delivered = seen.machine_power.real / self.arrays.base_mva
            n = int(self._island.max()) + 1
            takes = self._for_slack | (self._is_slack & (c["participation"] > 0))
            beyond = np.bincount(self._island[self._is_slack], (delivered - c["p"])[self._is_slack], n)
            beyond += np.bincount(self._island[self._for_slack], self.more[self._for_slack], n)
            weight = np.bincount(self._island[takes], c["participation"][takes], n)
            share = beyond[self._island] * c["participation"] / np.where(weight > 0, weight, 1)[self._island]
            wanted = np.where(self._for_slack, share, wanted)
        moved = float(np.max(np.abs(wanted - self.more)))
        if moved < _POWER_MET:
            return False
        self.more = wanted
        return True

    def notes(self, seen: Reading, name: Name, bus_name: BusName) -> list[str]:
        c, base, found = self.columns, self.arrays.base_mva, []
        for k in np.flatnonzero(np.abs(self.more) * base > 1e-6).tolist():
            why = "of what the slack is short of" if self._for_slack[k] else "for the exchange of its area"
            found.append(f"{name(c['element'][k])} delivers {self.more[k] * base:+.4g} MW beyond its set {c['p'][k] * base:.4g}: "
                         f"its share {why}.")  # fmt: skip
        if len(self._areas):
            now = seen.area_exchange * base
            for a in self._areas.tolist():
                want = self.arrays.area_export[a] * base
                if abs(now[a] - want) > 1e-4:
                    found.append(f"Area {self.arrays.area_id[a]} exports {now[a]:.4g} MW instead of {want:.4g}: none of its "
                                 "machines has a participation, or the source of the network stands in it.")  # fmt: skip
        return found
