"""One network with its switches otherwise again and again, on one sparsity: each switch is a branch of hardly any reactance."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...electrical import NetArrays
from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...electrical.topology import components
from ...errors import SingularMatrix
from .._ending import Ending
from ._kernel import REF, rectangular
from ._methods import newton
from ._nearby import Nearby
from ._options import LoadFlowOptions
from ._problem import Problem
from ._state import Attempt, Nodal, State
from ._without import stripped

_DROP = 1e-8  # p.u., of voltage over a closed switch that carries the whole demand


@dataclass
class Switching:
    """A solved state. ``v``: p.u., zero where dead, (n_bus,); ``live``: buses that have a supply; ``through``: current of every
    switch, p.u., zero where open, (n_switch,)."""

    v: Complexes
    live: Bools
    through: Floats


class Switched:
    """``v``: voltages of a solved state near those that are asked for, p.u., zero where dead, (n_bus,): where Newton starts.

    Automatic control does not act. Not safe for several threads at once.
    """

    def __init__(self, arrays: NetArrays, v: Complexes, options: LoadFlowOptions) -> None:
        branch, switch = arrays.tables["branch"], arrays.tables["switch"]
        self._branches, count = len(branch["element"]), len(switch["element"])
        more = {c: np.zeros(count, x.dtype) for c, x in branch.items()}
        demand = float(np.abs(arrays.tables["load"]["p"] + 1j * arrays.tables["load"]["q"]).sum())
        x, one = np.full(count, _DROP / max(demand, 1e-3)), np.ones(count)
        more |= {"element": switch["element"], "from": switch["from"], "to": switch["to"]}
        more |= {"x": x, "ratio_from": one, "ratio_to": one}
        joined = {c: np.concatenate([x, more[c]]) for c, x in branch.items()}
        none = {c: x[:0] for c, x in switch.items()}
        whole = replace(arrays, tables={**arrays.tables, "branch": joined, "switch": none})
        self._from, self._to, self._n_bus = joined["from"], joined["to"], arrays.n_bus
        p = self._problem = Problem(whole)
        self._y, self._targets, self._options = p.admittance(whole), p.targets(whole), options
        self._back = np.argsort(p.by_rows, kind="stable")
        self._place: Ints = np.full(len(joined["element"]), -1)
        self._place[p.pattern.live_branch] = np.arange(len(p.pattern.live_branch))
        start = p.flat_start(self._y, self._targets)
        known = (p.pattern.row >= 0) & (np.abs(v) > 0)
        at = p.pattern.row[known]
        start.theta[at], start.v[at] = np.angle(v[known]), np.abs(v[known])
        self._start: State = start
        self._closed = arrays.tables["switch"]["closed"].astype(np.bool_)
        self._nearby: Nearby | None = None
        self._tried = False

    def solve(self, closed: Bools, out: Ints) -> Switching | None:
        """With switches ``closed`` (n_switch,) and branch rows ``out`` out of service; None where the start leads to no answer
        that is beyond doubt: that says nothing yet."""
        kept = self._kept(closed, out)
        if not self._tried:
            self._tried = True
            self._nearby = self._known()
        found = self._nearby.solve(kept) if self._nearby is not None else None
        if found is None:
            found = self.whole(kept)
        if found is None:
            return None
        state, dead = found
        p, m = self._problem, self._branches
        fed = np.append(~dead, False)  # the last stands for buses that nothing reaches
        live: Bools = fed[p.pattern.row]
        parts = np.zeros((2, p.n + 1))
        rectangular(np.where(dead, 0.0, state.v), state.theta, *parts[:, : p.n])
        v: Complexes = (parts[0] + 1j * parts[1])[p.pattern.row]
        f, to, ports = self._from[m:], self._to[m:], self._y.two_ports[:, m:]
        through = np.where(closed & live[f], np.abs(ports[0] * v[f] + ports[1] * v[to]), 0.0)
        return Switching(v, live, through)

    def _kept(self, closed: Bools, out: Ints) -> Bools:
        gone = np.zeros(len(self._place), np.bool_)
        gone[out] = True
        gone[self._branches :] |= ~closed
        places = self._place[gone]
        kept = np.ones(len(self._problem.branch_from), np.bool_)
        kept[places[places >= 0]] = False
        return kept

    def _joints(self) -> Bools:
        return np.asarray(self._problem.pattern.live_branch >= self._branches)

    def whole(self, kept: Bools) -> tuple[State, Bools] | None:
        """Voltages with the live branches ``kept`` and which nodes have no supply, from equations of all of it."""
        solved = self._newton(kept)
        return None if solved is None else (solved[0].state, solved[1])

    def _newton(self, kept: Bools) -> tuple[Attempt, Bools, Nodal] | None:
        p, t = self._problem, self._targets
        count, part = components(p.n, p.branch_from[kept], p.branch_to[kept])
        fed = np.zeros(count, np.bool_)
        fed[part[t.node_type == REF]] = True
        dead = ~fed[part]
        y = stripped(p, self._y, self._back, np.flatnonzero(~kept))
        targets = replace(t, node_type=np.where(dead, REF, t.node_type))
        # Where two ends are joined they begin alike: over so small a reactance any difference would carry far too much.
        joint = kept & self._joints()
        count, group = components(p.n, p.branch_from[joint], p.branch_to[joint])
        many = np.bincount(group, minlength=count)
        theta, size = (np.bincount(group, x, count)[group] / many[group] for x in (self._start.theta, self._start.v))
        attempt = newton(p, y, targets, State(theta, size), self._options, rung="before switching")
        if attempt.ending is not Ending.CONVERGED or p.doubtful(y, attempt, self._start):
            return None
        return attempt, dead, y

    def _known(self) -> Nearby | None:
        """The state as it stands, to find others from; None where it can't be found on this sparsity."""
        kept = self._kept(self._closed, np.zeros(0, np.int64))
        solved = self._newton(kept)
        if solved is None:
            return None
        attempt, dead, y = solved
        try:
            return Nearby(
                self._problem, self._y.two_ports, y, self._back, kept, self._joints(), attempt, dead, self._options
            )
        except SingularMatrix:
            return None
