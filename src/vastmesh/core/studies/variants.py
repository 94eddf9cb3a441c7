"""A network under a condition, measured again and again with switches, branches and shunts otherwise: what searches stand on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ..electrical import NetArrays, apply_condition, compile_network, trace
from ..electrical.admittance import two_ports
from ..electrical.arrays import Bools, Columns, Complexes, Floats, Ints, with_rows
from ..flow import Ending
from ..flow.balanced import LoadFlowOptions, Problem, Reading, State, Switched, SwitchFlows
from ..network import Condition, Network
from ..results.state import LiveLoadFlow
from .judge import Judge
from .judge import used as used_of

_QUIET = ("tap", "phase", "bank", "curve")


@dataclass(frozen=True)
class Measured:
    """Losses, MW; worst loading of what may be loaded, per cent of what is allowed, and where; sum by which limits are exceeded,
    per unit of loading and of voltage; lowest and highest voltage, p.u.; buses that had a supply and
    have none any more; buses that have one."""

    losses_mw: float
    worst_pct: float
    worst_at: str
    excess: float
    low_pu: float
    high_pu: float
    dead: int
    fed: int


@dataclass(frozen=True)
class Stand:
    """A state in full. ``v``: complex p.u., zero where dead, (n_bus,); ``live``: buses that have a supply; ``used``: current over
    what is allowed, and ``kept``: what is in service, of every branch row and behind them of the switches that have a rating,
    (n_branch + n_rated,)."""

    v: Complexes
    live: Bools
    used: Floats
    kept: Bools
    losses_mw: float


class Variants:
    """Automatic controls stay where the load flow leaves them. ``arrays``: as they are; ``live``: buses that have a supply;
    ``volts``, ``phasors``: voltages as they are, p.u.; ``low``, ``high``: those allowed."""

    def __init__(self, network: Network, condition: Condition) -> None:
        found = LiveLoadFlow(network).linearise(condition)
        seen = network.under(condition)
        arrays = found.reading.arrays if found else apply_condition(compile_network(seen), condition)
        quiet = {name: {k: c[:0] for k, c in arrays.tables[name].items()} for name in _QUIET}
        if found is not None and len(arrays.tables["curve"]["bus"]):
            machine = {k: c.copy() for k, c in arrays.tables["injection"].items()}
            machine["q"] = np.where(
                machine["control"] == 0, found.reading.machine_power.imag / arrays.base_mva, machine["q"]
            )
            quiet["injection"] = machine
        self.network, self.condition = seen, condition
        # A place for a further admittance at every bus, so that what is added changes figures and no pattern.
        own = arrays.tables["shunt"]
        self._extra = len(own["element"])
        quiet["shunt"] = {
            "element": np.r_[own["element"], np.full(arrays.n_bus, -1)],
            "bus": np.r_[own["bus"], np.arange(arrays.n_bus)],
            "y": np.r_[own["y"], np.zeros(arrays.n_bus)],
        }
        self.arrays: NetArrays = replace(arrays, tables={**arrays.tables, **quiet})
        self._problem: Problem | None = None
        self._last: State | None = None
        self._switched: Switched | None = None
        self.live: Bools = trace(self.arrays).live
        self.volts: Floats = found.reading.volts if found is not None else np.ones(arrays.n_bus)
        self.phasors: Complexes = found.reading.v0 if found is not None else np.ones(arrays.n_bus, np.complex128)
        self._ports = two_ports(self.arrays.tables["branch"])
        self._judge = Judge(
            seen, replace(self.arrays, tables={**self.arrays.tables, "switch": _all_closed(self.arrays)})
        )
        limits = self._judge.limits[condition.limit_set]
        self._most = limits.most_from, limits.most_to, limits.most_switch
        self.low, self.high = np.nan_to_num(limits.low, nan=-np.inf), np.nan_to_num(limits.high, nan=np.inf)
        self.count = 0

    def state(
        self, closed: Bools | None = None, out: Ints | None = None, shunts: Sequence[tuple[int, complex]] = (),
        boosts: Sequence[tuple[int, int, float]] = (), powers: Sequence[tuple[int, complex]] = (),
    ) -> Stand | None:  # fmt: skip
        """With switches ``closed`` (n_switch,), branch rows ``out`` out of service, admittances and powers
        per unit added at bus rows, and the voltage behind an end (0 from, 1 to) of branch rows raised by a factor; None where
        the load flow has no solution."""
        self.count += 1
        tables = dict(self.arrays.tables)
        branch = tables["branch"]
        ports = self._ports
        if boosts:
            branch = tables["branch"] = {k: c.copy() if k.startswith("ratio") else c for k, c in branch.items()}
            for at, side, factor in boosts:
                branch["ratio_from" if side == 0 else "ratio_to"][at] /= factor
            ports = two_ports(branch)
        kept = np.ones(len(branch["element"]), np.bool_)
        if out is not None and len(out):
            kept[out] = False
            tables["branch"] = {k: c[kept] for k, c in branch.items()}
        if closed is not None:
            tables["switch"] = {**tables["switch"], "closed": closed}
        if powers:
            tables["load"] = with_rows(
                tables["load"],
                bus=[bus for bus, _ in powers],
                p=[-s.real for _, s in powers],
                q=[-s.imag for _, s in powers],
            )
        if shunts:
            y = tables["shunt"]["y"].copy()
            for bus, value in shunts:
                y[self._extra + bus] += value
            tables["shunt"] = {**tables["shunt"], "y": y}
        arrays = replace(self.arrays, tables=tables)
        if closed is None and out is None:  # the same pattern as before
            problem = self._problem = self._problem or Problem(arrays)
            solution = problem.solve(arrays, LoadFlowOptions(start="last"), self._last)
        else:
            problem = Problem(arrays)
            solution = problem.solve(arrays, LoadFlowOptions())
        if solution.attempt.ending is not Ending.CONVERGED:
            return None
        if problem is self._problem and self._last is None:
            self._last = solution.attempt.state
        state, row = solution.attempt.state, problem.pattern.row
        live = row >= 0
        v = np.zeros(arrays.n_bus, complex)
        v[live] = (state.v * np.exp(1j * state.theta))[row[live]]
        used, losses = used_of(ports, branch["from"], branch["to"], v, kept, *self._most[:2])
        rated = self._judge.switches
        if len(rated):
            seen = Reading(arrays, problem, solution, SwitchFlows(arrays, problem))
            used = np.r_[used, seen.through_switches(rated) / self._most[2]]
            kept = np.r_[kept, np.ones(len(rated), np.bool_)]
        return Stand(v, live, used, kept, losses * arrays.base_mva)

    def switched(self, closed: Bools, out: Ints) -> Stand | None:
        """What :meth:`state` comes to with switches ``closed`` and branch rows ``out``, on the sparsity of the whole network:
        several times as fast, with closed switches as branches over which next to nothing of the voltage drops; None where that
        leads to no answer."""
        self.count += 1
        if self._switched is None:
            options = LoadFlowOptions(tolerance_pu=1e-9)
            self._switched = Switched(self.arrays, self.phasors, options)
        found = self._switched.solve(closed, out)
        if found is None:
            return None
        branch = self.arrays.tables["branch"]
        kept = np.ones(len(branch["element"]), np.bool_)
        kept[out] = False
        used, losses = used_of(self._ports, branch["from"], branch["to"], found.v, kept, *self._most[:2])
        rated = self._judge.switches
        used = np.r_[used, found.through[rated] / self._most[2]]
        return Stand(
            found.v, found.live, used, np.r_[kept, np.ones(len(rated), np.bool_)], losses * self.arrays.base_mva
        )

    def measure(
        self, closed: Bools | None = None, out: Ints | None = None, shunts: Sequence[tuple[int, complex]] = (),
        boosts: Sequence[tuple[int, int, float]] = (), powers: Sequence[tuple[int, complex]] = (),
    ) -> Measured | None:  # fmt: skip
        """What :meth:`state` comes to with the same arguments, in a few figures; None where it has no solution."""
        found = self.state(closed, out, shunts, boosts, powers)
        if found is None:
            return None
        live = found.live
        tables = self.arrays.tables
        carries = np.r_[tables["branch"]["element"], tables["switch"]["element"][self._judge.switches]]
        used = found.used[found.kept]
        worst = int(np.argmax(used)) if len(used) else 0
        size = np.abs(found.v[live])
        below, above = self.low[live] - size, size - self.high[live]
        excess = float(np.maximum(used - 1, 0).sum() + np.maximum(below, 0).sum() + np.maximum(above, 0).sum())
        where = self.arrays.element_id[carries[found.kept][worst]] if len(used) else ""
        return Measured(found.losses_mw, 100 * float(used.max(initial=0.0)), where, excess, float(size.min()), float(size.max()),
                        int((self.live & ~live).sum()), int(live.sum()))  # fmt: skip


def _all_closed(arrays: NetArrays) -> Columns:
    """Switches as if all were closed: any of them may be in a variant."""
    switch = arrays.tables["switch"]
    return {**switch, "closed": np.ones_like(switch["closed"])}
