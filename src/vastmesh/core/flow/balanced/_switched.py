"""One network with its switches otherwise again and again, on one sparsity: each switch is a branch of hardly any reactance."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...electrical import NetArrays, TwoPorts
from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...electrical.topology import components
from .._ending import Ending
from ._kernel import REF
from ._methods import newton
from ._options import LoadFlowOptions
from ._problem import Problem
from ._state import State
from ._without import stripped

_DROP = 1e-8  # p.u., of voltage over a closed switch that carries the whole demand


@dataclass
class Switching:
    """A solved state. ``v``: p.u., zero where dead, (n_bus,); ``ports``: of every branch, zero where out; ``through``: current of
    every switch, p.u., (n_switch,)."""

    v: Complexes
    live: Bools
    ports: TwoPorts
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

    def solve(self, closed: Bools, out: Ints) -> Switching | None:
        """With switches ``closed`` (n_switch,) and branch rows ``out`` out of service; None where the start leads to no answer
        that is beyond doubt: that says nothing yet."""
        p, t = self._problem, self._targets
        gone = np.zeros(len(self._place), np.bool_)
        gone[out] = True
        gone[self._branches :] |= ~closed
        places = self._place[gone]
        places = places[places >= 0]
        kept = np.ones(len(p.branch_from), np.bool_)
        kept[places] = False
        count, part = components(p.n, p.branch_from[kept], p.branch_to[kept])
        fed = np.zeros(count, np.bool_)
        fed[part[t.node_type == REF]] = True
        dead = ~fed[part]
        y = stripped(p, self._y, self._back, places)
        targets = replace(t, node_type=np.where(dead, REF, t.node_type))
        # Where two ends are joined they begin alike: over so small a reactance any difference would carry far too much.
        joint = kept & (p.pattern.live_branch >= self._branches)
        count, group = components(p.n, p.branch_from[joint], p.branch_to[joint])
        many = np.bincount(group, minlength=count)
        theta, size = (np.bincount(group, x, count)[group] / many[group] for x in (self._start.theta, self._start.v))
        start = State(theta, size)
        attempt = newton(p, y, targets, start, self._options, rung="before switching")
        if attempt.ending is not Ending.CONVERGED or p.doubtful(y, attempt, self._start):
            return None
        row = p.pattern.row
        live = row >= 0
        live[live] = ~dead[row[live]]
        v: Complexes = np.zeros(self._n_bus, np.complex128)
        v[live] = (attempt.state.v * np.exp(1j * attempt.state.theta))[row[live]]
        m, ports = self._branches, y.two_ports
        f, to = self._from[m:], self._to[m:]
        through = np.abs(ports[0, m:] * v[f] + ports[1, m:] * v[to])
        return Switching(v, live, TwoPorts(*ports[:, :m]), through)
