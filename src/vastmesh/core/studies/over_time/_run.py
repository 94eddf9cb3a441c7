"""A network driven through time: steps one after another, and what is kept of them."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ...electrical import compile_network
from ...electrical.arrays import Floats, Ints
from ...flow import Ending
from ...flow.balanced import Controls, Problem, Reading, State, SwitchFlows, settle, tap_order, with_positions
from ...network import Network
from ...network.elements.profile import Profile
from ...network.hours import Clock, clock_of
from ...results.state import live_options
from ..base import Inputs
from ..judge import Judge
from ._drive import Drive
from ._options import OverTimeOptions
from ._stores import Stores


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

    def _take(self, n: int, seen: Seen, moved: float) -> None:
        t, used = self.totals, seen.used
        more = used > t.most
        t.most[more], t.most_at[more] = used[more], n
        over = used > 1
        t.over += over * self.hours
        t.beyond_mvah += np.where(over, seen.size * (1 - 1 / np.maximum(used, 1)), 0) * self.hours
        t.lost_mwh += seen.lost * self.hours
        low, high = (np.where(self.judge.in_view, v, np.nan) for v in (seen.low, seen.high))
        known = np.isfinite(low)
        lower, higher = known & (low < t.low), known & (high > t.high)
        t.low[lower], t.low_at[lower] = low[lower], n
        t.high[higher], t.high_at[higher] = high[higher], n
        with np.errstate(invalid="ignore"):
            out = np.fmax(self.limits.low / low - 1, high / self.limits.high - 1)
        outside = known & (out > 1e-12)
        t.outside += outside * self.hours
        row = t.by_step
        row["demand"][n], row["losses"][n], row["generation"][n] = (
            seen.demand_mw,
            float(seen.lost.sum()),
            seen.generation_mw,
        )
        k = int(np.argmax(used)) if len(used) else 0
        row["used"][n], row["used_at"][n] = (100 * used[k], k) if len(used) else (np.nan, -1)
        if known.any():
            lowest, highest = int(np.nanargmin(low)), int(np.nanargmax(high))
            row["low"][n], row["low_at"][n] = low[lowest], lowest
            row["high"][n], row["high_at"][n] = high[highest], highest
            row["out"][n] = 100 * float(np.nanmax(out))
        row["broken"][n] = float(over.sum() + outside.sum())
        row["moves"][n] = moved
        for name, value in seen.further.items():
            t.further.setdefault(name, np.full(t.count, np.nan))[n] = value
        if len(self.at_branch):
            t.element[n] = 100 * float(used[self.at_branch].max())
        elif self.at_bus >= 0:
            t.element[n] = float(seen.low[self.at_bus])


class BalancedRun(Run):
    """Balanced load flows, each from the last one."""

    def __init__(self, inputs: Inputs, options: OverTimeOptions) -> None:
        super().__init__(inputs, options)
        self.stores: Stores = Stores(self.network, self.arrays)
        self.problem = Problem(self.arrays)
        self.switches = SwitchFlows(self.arrays, self.problem)
        self.order = tap_order(self.arrays, self.problem.topology)
        self.load_flow = live_options(inputs.network.settings)
        self.last: State | None = None

    def step(self, n: int) -> None:
        """Solve a step and take down what it comes to."""
        arrays = with_positions(self.stores.apply(self.drive.at(n), self.hours), self.positions)
        options = self.load_flow if self.last is None else self.load_flow.model_copy(update={"start": "last"})
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
        self._take(n, self._read(Reading(seen, self.problem, solution, self.switches)), moved)

    def _read(self, reading: Reading) -> Seen:
        s_from, s_to = reading.branch_power
        lost = (s_from + s_to).real
        used = self.judge.used(reading.v, reading.solution.ports, self.condition.limit_set)
        volts, demand = np.abs(reading.v), float(reading.load_power.real.sum())
        # What is generated is what goes anywhere: cheaper than dividing it among machines.
        given = demand + float(lost.sum()) + float(reading.shunt_power.real.sum())
        return Seen(used, np.maximum(np.abs(s_from), np.abs(s_to)), lost, volts, volts, demand, given)
