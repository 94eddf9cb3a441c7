from __future__ import annotations

import numpy as np

from ....electrical import NetArrays
from ....electrical.arrays import Floats
from .._reading import Reading
from ._base import BusName, Control, Name, Tables, copied, rows_of

_STEPS_AT_ONCE = 8


class Shifters(Control):
    """Phase shifters that hold an active flow: more shift lets less through from the HV side.

    How much one step does is first taken from the unit's own reactance (an upper bound, as the rest of the loop only adds
    to it), then from what the last move did.
    """

    table = "phase"
    impedances = True

    def __init__(self, arrays: NetArrays) -> None:
        super().__init__(arrays)
        p = self.columns
        self.position: Floats = p["position"].copy()
        self._branch = rows_of(arrays.tables["branch"]["element"], p["element"])
        self._effect = p["step"] / np.maximum(arrays.tables["branch"]["x"][self._branch], 1e-9)
        self._before: tuple[Floats, Floats] | None = None
        self._why = np.full(self.count, np.nan)

    def apply(self, tables: Tables) -> None:
        p = self.columns
        copied(tables, "branch", "shift")["shift"][self._branch] = p["zero"] + self.position * p["step"]

    def move(self, seen: Reading) -> bool:
        p = self.columns
        flow = seen.branch_power[0].real[self._branch] / self.arrays.base_mva
        if self._before is not None:
            moved = self.position - self._before[1]
            with np.errstate(divide="ignore", invalid="ignore"):
                did = -(flow - self._before[0]) / moved
            self._effect = np.where((moved != 0) & (did > 1e-9), did, self._effect)
        off = np.where(np.isfinite(flow), flow - p["target"], 0.0)
        steps = np.clip(np.rint(np.abs(off) / self._effect), 1, _STEPS_AT_ONCE)
        most = np.floor(p["most"] / p["step"] + 1e-9)
        wanted = np.clip(self.position + np.where(np.abs(off) > p["band"] / 2, np.sign(off) * steps, 0), -most, most)
        change = self.free(wanted - self.position)
        first = (change != 0) & np.isnan(self._why)
        self._why[first] = flow[first]
        self._before = (flow, self.position.copy())
        self.position = self.position + change
        return bool(np.any(change))

    def notes(self, seen: Reading, name: Name, bus_name: BusName) -> list[str]:
        p, base, found = self.columns, self.arrays.base_mva, []
        flow = seen.branch_power[0].real[self._branch]
        for k in np.flatnonzero(self.position != p["position"]).tolist():
            before, now = (np.degrees(x * p["step"][k]) for x in (p["position"][k], self.position[k]))
            found.append(
                f"{name(p['element'][k])} went from {before:.4g}° to {now:.4g}° of shift because {self._why[k] * base:.4g} MW "
                f"flowed instead of {p['target'][k] * base:.4g}; {flow[k]:.4g} MW flow now."
            )
        for k in np.flatnonzero(np.abs(flow / base - p["target"]) > p["band"] / 2).tolist():
            found.append(
                f"{name(p['element'][k])} can't bring its flow to {p['target'][k] * base:.4g} MW within its range."
            )
        return found
