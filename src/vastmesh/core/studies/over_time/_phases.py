"""The same with every phase: load flows per phase one after another, and what the worst phase comes to."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...electrical.arrays import Ints
from ...network import Update
from ...network.hours import at_moment
from ...results import Table, loading_allowed
from ...results.state import LiveUnbalanced, LoadFlowResult
from ..base import Inputs
from ._options import OverTimeOptions
from ._run import Run, Seen

_POWERS = ("active_power_mw", "reactive_power_mvar")
_PHASES = ("phase_a_voltage_pu", "phase_b_voltage_pu", "phase_c_voltage_pu")


class PhaseRun(Run):
    """One network driven through time per phase. Taps that move together go on from where they stood."""

    def __init__(self, inputs: Inputs, options: OverTimeOptions) -> None:
        super().__init__(inputs, options)
        self.driven = inputs.network.copy()
        self.live = LiveUnbalanced(self.driven)
        self._of_branch = _places(self.judge.ids)
        settings, limit_set = self.network.settings, self.condition.limit_set
        self._allowed = np.array([loading_allowed(settings, self.network[i], limit_set) for i in self.judge.ids])
        self._of_bus = {ident: k for k, ident in enumerate(self.arrays.bus_id)}
        self._element = {ident: k for k, ident in enumerate(self.arrays.element_id)}

    def step(self, n: int) -> None:
        """Solve a step and take down what it comes to."""
        found = self.live.solve(at_moment(self.driven, self.condition, self.clock.at(n)))
        self.totals.done = n + 1
        if not found.account.converged:
            self.totals.unsolved += 1
            return
        self._take(n, self._seen(found), self._moved(found))

    def _seen(self, found: LoadFlowResult) -> Seen:
        count, n_bus = len(self.judge.ids), len(self._of_bus)
        used, lost, size = np.zeros(count), np.zeros(count), np.zeros(count)
        for name in ("branches", "windings"):
            table = found.tables.get(name)
            if table is None:
                continue
            rows = _rows(table, self._of_branch)
            known = rows >= 0
            loading = np.nan_to_num(np.asarray(table["loading_pct"], np.float64)[known]) / 100
            used[rows[known]] = loading / self._allowed[rows[known]]
            lost[rows[known]] = np.nan_to_num(np.asarray(table["active_loss_mw"], np.float64)[known])
            ends = ("from",) if name == "branches" else ("hv", "mv", "lv")
            through = [np.hypot(*(np.asarray(table[f"{e}_{c}"], np.float64) for c in _POWERS)) for e in ends]
            size[rows[known]] = np.nan_to_num(np.array(through)).max(axis=0)[known]
        buses = found.tables["buses"]
        at = np.array([self._of_bus.get(i, -1) for i in buses["id"]], np.int64)
        phases = np.array([np.asarray(buses[c], np.float64) for c in _PHASES])
        none = ~np.isfinite(phases).any(axis=0)
        low, high = np.full(n_bus, np.nan), np.full(n_bus, np.nan)
        inside = (at >= 0) & ~none
        low[at[inside]] = np.nanmin(phases[:, inside], axis=0)
        high[at[inside]] = np.nanmax(phases[:, inside], axis=0)
        s = {k: float(v or 0.0) for k, v in found.summary.items()}
        further = {k: s.get(k, np.nan) for k in ("highest_unbalance_pct", "highest_neutral_v")}
        return Seen(used, size, lost, low, high, s["demand_mw"], s["generation_mw"], further)

    def _moved(self, found: LoadFlowResult) -> float:
        """Taps moved since the step before, which they begin the next one with."""
        branches = found.tables["branches"]
        updates, moved = [], 0.0
        for ident, position in zip(
            branches["id"], np.asarray(branches["tap_position"], np.float64).tolist(), strict=True
        ):
            item: Any = self.driven.items[ident]
            entered = getattr(item, "tap_position", None)
            if entered is None or not np.isfinite(position) or getattr(item, "taps", "ganged") != "ganged":
                continue
            element = self._element.get(ident, -1)
            # Where the first step finds a tap is where it stood.
            by = abs(position - self.positions.get(element, position))
            self.positions[element] = position
            moved += by
            self.totals.moves[element] = self.totals.moves.get(element, 0.0) + by
            if abs(position - entered) > 1e-9:
                updates.append(Update(id=ident, values={"tap_position": round(position)}))
        if updates:
            previous = {u.id: self.driven.items[u.id] for u in updates}
            self.driven.apply(list(updates))
            self.live.changed([u.id for u in updates], previous)
        return moved


def _places(ids: list[str]) -> dict[str, list[int]]:
    found: dict[str, list[int]] = {}
    for k, ident in enumerate(ids):
        found.setdefault(ident, []).append(k)
    return found


def _rows(table: Table, places: dict[str, list[int]]) -> Ints:
    """Row of every branch of a table among those that are judged, windings of one unit in their order; -1 where it has none."""
    met: dict[str, int] = {}
    rows = []
    for ident in table["id"]:
        k = met.get(ident, 0)
        met[ident] = k + 1
        own = places.get(ident, [])
        rows.append(own[k] if k < len(own) else -1)
    return np.array(rows, np.int64)
