"""A network driven through time: steps one after another, and what is kept of them."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ...electrical import NetArrays, TwoPorts, compile_network
from ...electrical.arrays import Floats, Ints
from ...flow import Ending
from ...flow.balanced import (
    Controls,
    Problem,
    Reading,
    State,
    SwitchFlows,
    settle,
    solve_several,
    tap_order,
    with_positions,
)
from ...network import Network
from ...network.elements.profile import Profile
from ...network.hours import Clock, clock_of
from ...results.state import live_options
from ..base import Inputs
from ..judge import Judge
from ._drive import Drive, Powers
from ._kernel import at_buses, branch_figures, drawn, take_down
from ._options import OverTimeOptions
from ._stores import Stores

_TOGETHER = 96  # steps solved side by side: four days of hours, one of quarters
_LEAST_TOGETHER = 4


@dataclass
class Totals:
    """What is kept of all steps; nothing here grows with them but a few figures of each."""

    n_branch: int
    n_bus: int
    count: int
    done: int = 0
    unsolved: int = 0
    most: Floats = field(init=False)
    most_at: Ints = field(init=False)
    over: Floats = field(init=False)
    beyond_mvah: Floats = field(init=False)
    lost_mwh: Floats = field(init=False)
    low: Floats = field(init=False)
    low_at: Ints = field(init=False)
    high: Floats = field(init=False)
    high_at: Ints = field(init=False)
    outside: Floats = field(init=False)
    by_step: dict[str, Floats] = field(init=False)
    moves: dict[int, float] = field(default_factory=dict)
    element: Floats = field(init=False)
    further: dict[str, Floats] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.most, self.most_at = np.zeros(self.n_branch), np.full(self.n_branch, -1)
        self.over, self.beyond_mvah, self.lost_mwh = (
            np.zeros(self.n_branch),
            np.zeros(self.n_branch),
            np.zeros(self.n_branch),
        )
        self.low, self.low_at = np.full(self.n_bus, np.inf), np.full(self.n_bus, -1)
        self.high, self.high_at = np.full(self.n_bus, -np.inf), np.full(self.n_bus, -1)
        self.outside = np.zeros(self.n_bus)
        names = (
            "demand",
            "generation",
            "losses",
            "used",
            "used_at",
            "low",
            "low_at",
            "high",
            "high_at",
            "out",
            "broken",
            "moves",
        )
        self.by_step = {name: np.full(self.count, np.nan) for name in names}
        self.element = np.full(self.count, np.nan)


@dataclass(frozen=True)
class Seen:
    """A solved step: share of what is allowed, apparent power, MVA, and losses, MW, of every branch, (n_branch,); lowest and
    highest voltage of every bus, p.u., of its phases where it has several, NaN where dead, (n_bus,); ``further``: figures of
    the whole step that its load flow has besides."""

    used: Floats
    size: Floats
    lost: Floats
    low: Floats
    high: Floats
    demand_mw: float
    generation_mw: float
    further: dict[str, float] = field(default_factory=dict)


class Run:
    """One network driven through time; how a step is solved is for those who are one."""

    def __init__(self, inputs: Inputs, options: OverTimeOptions) -> None:
        self.options, self.condition = options, inputs.under
        self.network: Network = inputs.network.under(self.condition)
        step = None if options.step == "profiles" else int(options.step)
        self.clock: Clock = clock_of(self.network.of(Profile), options.begins, options.days, step)
        self.arrays = compile_network(self.network)
        self.drive = Drive(self.network, self.arrays, self.condition, self.clock)
        self.left: list[str] = self.drive.left
        self.stores: Stores | None = None  # that give and take what is there
        self.judge = Judge(self.network, self.arrays)
        self.limits = self.judge.limits[self.condition.limit_set]
        self.positions: dict[int, float] = {}
        self.totals = Totals(len(self.judge.ids), self.arrays.n_bus, self.clock.count)
        self.hours = self.clock.step_min / 60
        self.at_branch, self.at_bus = self._told_at(options.element)

    def _told_at(self, ident: str | None) -> tuple[Ints, int]:
        rows = [k for k, i in enumerate(self.judge.ids) if i == ident]
        bus = self.judge.arrays.bus_id.index(ident) if ident in self.judge.arrays.bus_id else -1
        return np.array(rows, np.int64), bus

    def step(self, n: int) -> None:
        """Solve a step and take down what it comes to."""
        raise NotImplementedError

    def advance(self, n: int) -> int:
        """Solve from step ``n`` on, one step or several; the first that has not been solved."""
        self.step(n)
        return n + 1

    def _take(self, n: int, seen: Seen, moved: float) -> None:
        t, told = self.totals, np.full(9, np.nan)
        take_down(
            n, self.hours, seen.used, seen.size, seen.lost, seen.low, seen.high, self.judge.in_view, self.limits.low,
            self.limits.high, t.most, t.most_at, t.over, t.beyond_mvah, t.lost_mwh, t.low, t.low_at, t.high, t.high_at,
            t.outside, told,
        )  # fmt: skip
        row = t.by_step
        row["demand"][n], row["generation"][n], row["moves"][n] = seen.demand_mw, seen.generation_mw, moved
        names = ("losses", "used", "used_at", "low", "low_at", "high", "high_at", "out", "broken")
        for name, value in zip(names, told.tolist(), strict=True):
            row[name][n] = value
        for name, value in seen.further.items():
            t.further.setdefault(name, np.full(t.count, np.nan))[n] = value
        if len(self.at_branch):
            t.element[n] = 100 * float(seen.used[self.at_branch].max())
        elif self.at_bus >= 0:
            t.element[n] = float(seen.low[self.at_bus])


class BalancedRun(Run):
    """Balanced load flows, each from the last one; where no automatic control stands between them, many side by side."""

    def __init__(self, inputs: Inputs, options: OverTimeOptions) -> None:
        super().__init__(inputs, options)
        self.stores: Stores = Stores(self.network, self.arrays)
        self.problem = Problem(self.arrays)
        self.switches = SwitchFlows(self.arrays, self.problem)
        self.order = tap_order(self.arrays, self.problem.topology)
        self.load_flow = live_options(inputs.network.settings)
        self._going_on = self.load_flow.model_copy(update={"start": "last"})
        self.last: State | None = None
        self._controlled = Controls(self.drive.base, self.problem.topology, self.load_flow, lambda: self.order).any
        self._ahead: Powers | None = None
        self._together, self._wait, self._alone = _TOGETHER, 1, 0

    def step(self, n: int) -> None:
        """Solve a step and take down what it comes to."""
        arrays = self.drive.at(n, self._powers(n))
        if self._controlled:
            arrays = with_positions(arrays, self.positions)
        options = self.load_flow if self.last is None else self._going_on
        controls = Controls(arrays, self.problem.topology, options, lambda: self.order)
        if controls.any:
            seen, solution, self.last = settle(self.problem, controls, options, self.switches, self.last)
        else:
            seen, solution = arrays, self.problem.solve(arrays, options, self.last)
        t = self.totals
        t.done = n + 1
        if solution.attempt.ending is not Ending.CONVERGED:
            t.unsolved += 1
            self.last = None
            return
        self.last = solution.attempt.state.copy()
        moved = 0.0
        if controls.any:
            found = controls.positions()
            for e, position in found.items():
                by = abs(position - self.positions.get(e, position))
                t.moves[e] = t.moves.get(e, 0.0) + by
                moved += by
            self.positions |= found
        switched = Reading(seen, self.problem, solution, self.switches).through_switches(self.judge.switches)
        self._take(n, self._read(seen.tables["load"]["p"], seen, self.last, solution.ports, switched), moved)

    def advance(self, n: int) -> int:
        """Solve from step ``n`` on as many as go together; the first that has not been solved."""
        alone = self._alone > 0 or self._controlled or self.load_flow.method not in ("automatic", "newton")
        if alone or self.last is None:
            self._alone = max(self._alone - 1, 0)
            self.step(n)
            return n + 1
        powers, problem = self._powers(n), self.problem
        some = slice(n - powers.first, n - powers.first + self._together)
        rest = (powers.load_p[some], powers.load_q[some], powers.machine_p[some], powers.machine_q[some])
        arrays = self.drive.at(n, powers)
        y = problem.admittance(arrays)
        net = problem.net_of_several(arrays, *rest)
        found = solve_several(problem, y, net, problem.targets(arrays), self.last, self.load_flow)
        at_limit = self.last.at_limit
        for m, met in enumerate(found.met.tolist()):
            if not met:
                # Fewer at once, and where not even the first went with the others, some alone before it is tried again.
                self._together = max(self._together // 2, _LEAST_TOGETHER) if m else _LEAST_TOGETHER
                self._wait = min(2 * self._wait, _TOGETHER) if m == 0 else 1
                self._alone = self._wait if m == 0 else 0
                self.step(n + m)
                return n + m + 1
            self.last = found.state(m, at_limit)
            self.totals.done = n + m + 1
            switched = np.zeros(0)
            if len(self.judge.switches):
                own = self.drive.at(n + m, powers)
                known = problem.standing(problem.targets(own), y, self.last, self.load_flow)
                switched = Reading(own, problem, known, self.switches).through_switches(self.judge.switches)
            self._take(n + m, self._read(rest[0][m], arrays, self.last, y.ports, switched), 0.0)
        self._together, self._wait = min(2 * self._together, _TOGETHER), 1
        return n + len(found.met)

    def _powers(self, n: int) -> Powers:
        """Powers of the steps about ``n``; they are asked for in order, as storage goes on from where it stood."""
        ahead = self._ahead
        if ahead is None or not ahead.first <= n < ahead.first + len(ahead):
            ahead = self._ahead = self.drive.powers(n, min(n + _TOGETHER, self.clock.count))
            self.stores.apply(ahead.machine_p, self.hours)
        return ahead

    def _read(self, load_p: Floats, arrays: NetArrays, state: State, ports: TwoPorts, switched: Floats) -> Seen:
        """Branches and buses at solved voltages; ``load_p``: what loads draw at 1 p.u., in place of what ``arrays`` have;
        ``switched``: current through the rated switches, p.u."""
        branch, load, shunt = (arrays.tables[t] for t in ("branch", "load", "shunt"))
        row, base, limits = self.problem.pattern.row, arrays.base_mva, self.limits
        e, h, volts = np.empty((3, len(row)))
        used, size, lost = np.empty((3, len(branch["from"])))
        at_buses(state.theta, state.v, row, e, h, volts)
        branch_figures(
            e, h, branch["from"], branch["to"], ports.ff, ports.ft, ports.tf, ports.tt, limits.most_from, limits.most_to, base,
            used, size, lost,
        )  # fmt: skip
        low = self.load_flow.low_voltage_pu
        demand = base * drawn(load_p, load["share_i"], load["share_z"], load["bus"], volts, low)
        # What is generated is what goes anywhere: cheaper than dividing it among machines.
        given = demand + float(lost.sum()) + base * float(shunt["y"].real @ volts[shunt["bus"]] ** 2)
        known = np.where(row >= 0, volts, np.nan)
        if len(switched):
            at = volts[arrays.tables["switch"]["from"][self.judge.switches]]
            used, size = np.r_[used, switched / limits.most_switch], np.r_[size, base * switched * at]
            lost = np.r_[lost, np.zeros(len(switched))]
        return Seen(used, size, lost, known, known, demand, given)
