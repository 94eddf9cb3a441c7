"""A solved network from which elements are taken: one outage after another, on the sparsity of the whole."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numba import njit

from ...electrical import NetArrays, TwoPorts, apply_condition
from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...electrical.lost import LostRows, without_rows
from ...electrical.topology import components
from ...network import Condition
from .._ending import Ending
from ._controls import Control, Controls, Curves, tap_order
from ._follow import Reach
from ._kernel import REF
from ._methods import newton
from ._options import LoadFlowOptions
from ._problem import Problem, Solution
from ._reading import Reading, SwitchFlows
from ._settle import settle, with_positions
from ._state import Nodal, State

_STEPPED = ("tap", "phase", "bank")  # what moves some time after an outage; the rest acts at once


@dataclass
class After:
    """What a network is after an outage. ``v``: voltage of every bus, complex p.u., NaN where dead, (n_bus,); ``ports``: of every
    branch of the whole network, zero where it is out; ``reach``: where solutions end when there is none; ``own``: solved on a
    topology of its own; ``at_limit``: machines at a reactive limit; ``switched``: current through the switches that were asked
    about, p.u., zero where open or dead."""

    ending: Ending
    v: Complexes
    ports: TwoPorts
    iterations: int
    reach: Reach | None = None
    reach_bus: int = -1
    own: bool = False
    at_limit: int = 0
    switched: Floats = field(default_factory=lambda: np.zeros(0))

    @property
    def solved(self) -> bool:
        return self.ending is Ending.CONVERGED


class Without:
    """The network as it stands under a condition, ready to lose elements. Not safe for several threads at once.

    ``controls``: whether taps, phase shifters and banks act after an outage; before it they do in any case, and stay where
    that leaves them. Machines hold their voltages, inverters follow their curves, and sources (or all with a participation,
    as ``options`` say) take up what is missing, at once.
    """

    def __init__(self, arrays: NetArrays, condition: Condition, options: LoadFlowOptions, *, controls: bool) -> None:
        given = apply_condition(arrays, condition)
        self.options = options
        problem = Problem(given)
        switches = SwitchFlows(given, problem)
        moving = Controls(given, problem.topology, options, lambda: tap_order(given, problem.topology))
        if moving.any:
            seen, solution, _ = settle(problem, moving, options, switches, None)
        else:
            seen, solution = given, problem.solve(given, options)
        self.solved = solution.attempt.ending is Ending.CONVERGED
        self.solution, self.problem, self.switches = solution, problem, switches
        # What steps stays where it was found, or begins there.
        found = moving.applied() if moving.any else given
        tables = {**found.tables, "injection": given.tables["injection"]}
        for name in () if controls else _STEPPED:
            tables[name] = {k: c[:0] for k, c in given.tables[name].items()}
        self.positions = moving.positions() if moving.any else {}
        self.arrays = replace(found, tables=tables)
        if controls:
            self.arrays = with_positions(self.arrays, self.positions)
        self._segment = next((k.segment for k in moving.kinds if isinstance(k, Curves)), np.zeros(0, np.int64))
        self.base = Reading(seen, problem, solution, switches) if self.solved else None
        self.start = solution.attempt.state
        self.nodal = problem.admittance(self.arrays)
        self._order = tap_order(self.arrays, problem.topology) if controls else np.zeros(0, np.int64)
        kinds = self._controls(self.arrays, problem).kinds
        # What shares power or holds another bus acts at every loss: no use trying without.
        self._shares = any(not isinstance(k, Curves) and k.table not in _STEPPED for k in kinds)
        self._any = bool(kinds)
        live = problem.pattern.live_branch
        self._place = np.full(len(self.arrays.tables["branch"]["element"]), -1)
        self._place[live] = np.arange(len(live))
        self._back = np.argsort(problem.by_rows, kind="stable")
        self.bridges = Bridges.of(problem.n, problem.branch_from, problem.branch_to)
        self._rows = LostRows(self.arrays)
        self._targets = problem.targets(self.arrays)
        # Rows of switches whose current is wanted after an outage.
        self.asked: Ints = np.zeros(0, np.int64)

    def rows_lost(self, idents: Collection[str]) -> dict[str, Ints]:
        """Rows that go when these elements and buses do, of the tables that lose any."""
        return self._rows.of(idents)

    def left(self, idents: Collection[str]) -> tuple[NetArrays, Bools]:
        """Arrays of what is left without elements and buses, by id; and which rows of the branches that are, (n_branch,)."""
        gone = self.rows_lost(idents)
        kept = np.ones(len(self.arrays.tables["branch"]["element"]), np.bool_)
        kept[gone.get("branch", np.zeros(0, np.int64))] = False
        return without_rows(self.arrays, gone), kept

    def lose(self, idents: Collection[str]) -> After:
        """The state after the loss of elements and buses, by id."""
        gone = self.rows_lost(idents)
        p, tables = self.problem, self.arrays.tables
        if "switch" in gone and bool(np.any(tables["switch"]["closed"][gone["switch"]])):
            return self._anew(gone)
        places = self._place[gone["branch"]] if "branch" in gone else np.zeros(0, np.int64)
        places = places[places >= 0]
        # Branches are taken out of the admittances; switches that go stood open, and those left keep their rows.
        remaining = without_rows(self.arrays, {n: r for n, r in gone.items() if n not in ("branch", "switch")})
        targets = self._targets if remaining is self.arrays else p.targets(remaining)
        dead = self._dead(places, targets.node_type == REF, lost_source=targets is not self._targets)
        cut = dead is not None and bool(dead.any())
        if self._shares or (self._any and (cut or any(n in gone for n in (*_STEPPED, "curve", "remote")))):
            return self._anew(gone)
        y = self._stripped(places, gone.get("shunt"))
        if dead is not None and cut:
            if dead.all():
                return self._anew(gone)
            targets = replace(targets, node_type=np.where(dead, REF, targets.node_type))
        start = self.start.copy()
        attempt = newton(p, y, targets, start, self.options, rung="before the outage")
        if attempt.ending is not Ending.CONVERGED or p.doubtful(y, attempt, self.start):
            return self._anew(gone)
        switched = np.zeros(0)
        if self._any or len(self.asked):
            solution = Solution(attempt, [attempt], attempt.targets, y.ports, self.options.low_voltage_pu)
            seen = Reading(remaining, p, solution, self.switches)
            if self._any and self._would_act(remaining, seen):
                return self._anew(gone)
            switched = seen.through_switches(self.asked)
        volts = np.full(self.arrays.n_bus, np.nan + 0j)
        row = p.pattern.row
        live = row >= 0
        if dead is not None and cut:
            live &= ~dead[np.where(live, row, 0)]
        volts[live] = (attempt.state.v * np.exp(1j * attempt.state.theta))[row[live]]
        # What lost its supply is held where it was, so that the equations stay: nothing flows there.
        switched[~np.isfinite(volts[tables["switch"]["from"][self.asked]].real)] = 0
        limited = int(np.sum(attempt.at_limit != 0))
        return After(Ending.CONVERGED, volts, y.ports, attempt.iterations, at_limit=limited, switched=switched)

    def _dead(self, places: Ints, fed: Bools, *, lost_source: bool) -> Bools | None:
        """Nodes that no source feeds any more without some branches, (n,); None where all are fed."""
        p = self.problem
        if not lost_source and len(places) == 0:
            return None
        if not lost_source and len(places) == 1:
            behind = self.bridges.behind(int(places[0]))
            if behind is None:
                return None
            part = self.bridges.part
            rest = (part == part[p.branch_from[places[0]]]) & ~behind
            dead = np.zeros(p.n, np.bool_)
            for side in (behind, rest):
                if not np.any(fed & side):
                    dead |= side
            return dead
        kept = np.ones(len(p.branch_from), np.bool_)
        kept[places] = False
        count, part = components(p.n, p.branch_from[kept], p.branch_to[kept])
        live = np.zeros(count, np.bool_)
        live[part[fed]] = True
        return ~live[part]

    def _would_act(self, arrays: NetArrays, seen: Reading) -> bool:
        """Whether a controller leaves what it was at before the outage."""
        c = arrays.tables["curve"]
        v = seen.volts[c["bus"]]
        wanted = sum((v > c[name]).astype(np.int64) for name in ("v1", "v2", "v3", "v4"))
        if len(v) and bool(np.any((wanted != self._segment) & np.isfinite(v))):
            return True
        kinds: list[Control] = self._controls(arrays, self.problem).kinds
        return any(k.move(seen) for k in kinds if not isinstance(k, Curves))

    def _controls(self, arrays: NetArrays, problem: Problem) -> Controls:
        known = self._order if problem is self.problem else None
        return Controls(
            arrays,
            problem.topology,
            self.options,
            lambda: tap_order(arrays, problem.topology) if known is None else known,
        )

    def _stripped(self, places: Ints, shunts: Ints | None) -> Nodal:
        """Nodal values without some live branches, given by their places among these, and rows of shunts."""
        return stripped(self.problem, self.nodal, self._back, places, self.arrays.tables["shunt"]["y"], shunts)

    def _anew(self, gone: dict[str, Ints]) -> After:
        """The same on a topology of its own: from the state before the outage, else from all starts there are."""
        left = without_rows(self.arrays, gone)
        problem = Problem(left)
        switches = SwitchFlows(left, problem)
        controls = self._controls(left, problem)
        last = self.carried(problem)
        options = self.options.model_copy(update={"start": "last"})
        if controls.any:
            seen, solution, _ = settle(problem, controls, options, switches, last)
        else:
            seen, solution = left, problem.solve(left, options, last)
        attempt, row = solution.attempt, problem.pattern.row
        volts = np.full(self.arrays.n_bus, np.nan + 0j)
        ending, reach, bus, switched = attempt.ending, solution.reach, -1, np.zeros(len(self.asked))
        if ending is Ending.NOTHING_TO_SOLVE:
            ending = Ending.CONVERGED
        elif ending is Ending.CONVERGED:
            live = row >= 0
            volts[live] = (attempt.state.v * np.exp(1j * attempt.state.theta))[row[live]]
            switched = Reading(seen, problem, solution, switches).through_switches(self.asked, gone.get("switch"))
        elif reach is not None and reach.state is not None:
            bus = int(np.argmax(row == reach.weakest))
        count = len(self.arrays.tables["branch"]["element"])
        kept = np.ones(count, np.bool_)
        kept[gone.get("branch", np.zeros(0, np.int64))] = False
        return After(
            ending,
            volts,
            solution.ports.spread(kept),
            attempt.iterations,
            reach,
            bus,
            own=True,
            at_limit=int(np.sum(attempt.at_limit != 0)),
            switched=switched,
        )

    def carried(self, problem: Problem) -> State:
        """Voltages before the outage on other nodes."""
        there, here = problem.pattern.row, self.problem.pattern.row
        both = (there >= 0) & (here >= 0)
        theta, v = np.zeros(problem.n), np.ones(problem.n)
        theta[there[both]], v[there[both]] = self.start.theta[here[both]], self.start.v[here[both]]
        return State(theta, v)


def stripped(
    problem: Problem, y: Nodal, back: Ints, places: Ints, shunt_y: Complexes | None = None, shunts: Ints | None = None
) -> Nodal:
    """Nodal values ``y`` without some live branches, given by their places among these, and rows of shunts. ``back``: where each
    entry by columns stands among those by rows, (nnz,)."""
    pattern = problem.pattern
    count = len(pattern.live_branch)
    ports, g, b = y.two_ports.copy(), y.g.copy(), y.b.copy()
    by_g, by_b = y.by_rows[0].copy(), y.by_rows[1].copy()
    rows = pattern.live_branch[places]
    for part in range(4):
        at = pattern.slots[part * count + places]
        np.subtract.at(g, at, ports[part, rows].real)
        np.subtract.at(b, at, ports[part, rows].imag)
        by_g[back[at]], by_b[back[at]] = g[at], b[at]
    ports[:, rows] = 0
    if shunts is not None and shunt_y is not None:
        mine = np.flatnonzero(np.isin(pattern.live_shunt, shunts))
        at = pattern.slots[4 * count + mine]
        lost = shunt_y[pattern.live_shunt[mine]]
        np.subtract.at(g, at, lost.real)
        np.subtract.at(b, at, lost.imag)
        by_g[back[at]], by_b[back[at]] = g[at], b[at]
    stiffness = np.abs(b[pattern.diagonal])
    return Nodal(ports, g, b, (by_g, by_b), y.lead, y.lift, stiffness, y.usual_stiffness, y.rounding, flat=y.flat)


@dataclass(frozen=True)
class Bridges:
    """Edges whose loss takes a graph apart. ``first``: place of every node in an order of search, (n,); ``begin``, ``end``: of
    every edge the range of places behind it, empty where it is no bridge, (n_edge,); ``part``: of every node, (n,)."""

    first: Ints
    begin: Ints
    end: Ints
    part: Ints

    @classmethod
    def of(cls, n: int, frm: Ints, to: Ints) -> Bridges:
        """Of several edges between two nodes none is a bridge."""
        ends = np.r_[frm, to]
        order = np.argsort(ends, kind="stable")
        starts = np.searchsorted(ends[order], np.arange(n + 1))
        begin, end = np.full(len(frm), -1), np.full(len(frm), -1)
        first, part = np.zeros(n, np.int64), np.zeros(n, np.int64)
        _find_bridges(starts, np.r_[to, frm][order], order % max(len(frm), 1), first, part, begin, end)
        return cls(first, begin, end, part)

    def behind(self, edge: int) -> Bools | None:
        """Nodes on one side of an edge, (n,); None where its loss leaves everything connected."""
        if self.begin[edge] < 0:
            return None
        return np.asarray((self.first >= self.begin[edge]) & (self.first <= self.end[edge]))


@njit(cache=True, nogil=True)
def _find_bridges(starts: Any, other: Any, edge: Any, seen: Any, part: Any, begin: Any, end: Any) -> None:
    """Depth first: an edge is a bridge where nothing behind it leads back before it (Tarjan, 1974)."""
    n = len(starts) - 1
    low = np.zeros(n, np.int64)
    at, came = starts[:-1].copy(), np.full(n, -1)
    stack = np.empty(n, np.int64)
    clock = parts = 0
    for root in range(n):
        if seen[root]:
            continue
        clock += 1
        seen[root] = low[root] = clock
        part[root] = parts
        stack[0] = root
        depth = 1
        while depth:
            u = stack[depth - 1]
            if at[u] < starts[u + 1]:
                k = at[u]
                at[u] += 1
                w = other[k]
                if edge[k] == came[u]:
                    continue
                if seen[w]:
                    low[u] = min(low[u], seen[w])
                else:
                    clock += 1
                    seen[w] = low[w] = clock
                    part[w] = parts
                    came[w] = edge[k]
                    stack[depth] = w
                    depth += 1
            else:
                depth -= 1
                if depth:
                    parent = stack[depth - 1]
                    low[parent] = min(low[parent], low[u])
                    if low[u] > seen[parent]:
                        begin[came[u]], end[came[u]] = seen[u], clock
        parts += 1
