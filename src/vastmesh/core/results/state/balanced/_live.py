"""A load flow that stays at hand: compiled once, patched with every edit, solved from the last answer."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np

from ....electrical import Kept, NetArrays, apply_condition, compile_network, patch
from ....electrical.arrays import Floats, Ints
from ....flow import Ending
from ....flow.balanced import (
    Controls,
    Linearisation,
    LoadFlowOptions,
    Problem,
    Reading,
    Solution,
    State,
    SwitchFlows,
    settle,
    tap_order,
)
from ....network import Condition, Item, Network, Settings
from ..._rows import Rows, rows_stay
from .._quantities import STATE_TOTALS, state_quantities
from .._result import LoadFlowResult
from ._account import account_for
from ._findings import find, find_in_model
from ._tables import build_tables, summarise


class LiveLoadFlow:
    """Solves one network again and again. Not safe for several threads at once."""

    def __init__(self, network: Network) -> None:
        self.network = network
        self._states = _states(network.condition)
        self._seen = network.under(network.condition)
        self._voltage: dict[str, complex] = {}
        self._last: State | None = None
        self._kept = Kept()
        self.rows_version = 0  # another one when what the tables say of their rows is another
        self._compile()

    def _compile(self) -> None:
        self._remember()
        self.arrays: NetArrays = compile_network(self._seen, self._kept)
        self.problem = Problem(self.arrays)
        self._switches = SwitchFlows(self.arrays, self.problem)
        self._rows: Rows | None = None
        self._tap_order: Ints | None = None
        self._admittance = self.problem.admittance(self.arrays)
        self._last = self._recall()

    def _remember(self) -> None:
        """Keep the last voltages by bus id, for a start when the arrays are built anew."""
        if self._last is None:
            return
        v = self._last.v * np.exp(1j * self._last.theta)
        row = self.problem.pattern.row
        self._voltage = {b: v[r] for b, r in zip(self.arrays.bus_id, row.tolist(), strict=True) if r >= 0}

    def _recall(self) -> State | None:
        """The remembered voltages on the new nodes; None when most of them are new."""
        volts = np.full(self.problem.n, np.nan + 0j)
        for ident, row in zip(self.arrays.bus_id, self.problem.pattern.row.tolist(), strict=True):
            if row >= 0 and ident in self._voltage:
                volts[row] = self._voltage[ident]
        known = np.isfinite(volts.real)
        if not len(volts) or known.mean() < 0.5:
            return None
        if not known.all():
            return None if known.sum() < len(volts) - 50 else self._fill(volts, known)
        return State(np.angle(volts), np.abs(volts))

    def _fill(self, volts: np.ndarray, known: np.ndarray) -> State | None:
        """Give new nodes the voltage of a known neighbour, through the ratio and shift between them."""
        branch, row = self.arrays.tables["branch"], self.problem.pattern.row
        live = self.problem.pattern.live_branch
        f, t, shift = row[branch["from"][live]], row[branch["to"][live]], branch["shift"][live]
        for _ in range(50):
            forward, backward = known[f] & ~known[t], known[t] & ~known[f]
            if not np.any(forward | backward):
                break
            volts[t[forward]] = volts[f[forward]] * np.exp(-1j * shift[forward])
            volts[f[backward]] = volts[t[backward]] * np.exp(1j * shift[backward])
            known = np.isfinite(volts.real)
        return State(np.angle(volts), np.abs(volts)) if known.all() else None

    def changed(self, idents: Iterable[str], previous: dict[str, Item]) -> None:
        """Take up changes of the network; ``previous`` holds altered items as they were before."""
        idents = list(idents)
        stay = rows_stay(idents, previous, self.network.items)
        self.rows_version += not stay
        old = self.arrays
        shift, angle = old.tables["branch"]["shift"].copy(), old.tables["injection"]["angle"].copy()
        self._seen = self.network.under(self.network.condition)
        states, self._states = self._states, _states(self.network.condition)
        plain = not any(states) and not any(self._states) and self._seen is self.network
        if plain and patch(old, self.network, idents, previous):
            if self._rows is not None and stay:
                self._rows.follow(idents, self.network.items)
            else:
                self._rows = None
            self._admittance = self.problem.admittance(old)
        else:
            rows = self._rows if stay and plain else None
            self._compile()
            if rows is not None:
                rows.follow(idents, self.network.items)
                rows.attach(self.arrays)
                self._rows = rows
        if self._turned(old, shift, angle):
            self.without_memory()  # angles have turned as a whole: Newton from the old ones may end anywhere

    def _turned(self, old: NetArrays, shift: Floats, angle: Floats) -> bool:
        """Whether the phase shift of a branch or the angle of a source is another than in the old arrays."""
        new = self.arrays
        now = new.tables["branch"]["shift"], new.tables["injection"]["angle"]
        if new is old:
            return not (np.array_equal(shift, now[0]) and np.array_equal(angle, now[1]))
        before = _by_id(old, "branch", shift) | _by_id(old, "injection", angle)
        after = _by_id(new, "branch", now[0]) | _by_id(new, "injection", now[1])
        return any(after.get(ident, turn) != turn for ident, turn in before.items())

    def solve(self, condition: Condition | None = None, options: LoadFlowOptions | None = None) -> LoadFlowResult:
        """Solve under a condition (the network's own when none is given). Never raises for a hard network."""
        condition = condition or self.network.condition
        options = options or live_options(self.network.settings)
        return self._publish(condition, options, *self._solution(condition, options))

    def linearise(
        self, condition: Condition | None = None, options: LoadFlowOptions | None = None
    ) -> Linearisation | None:
        """The equations linearised at their solution; None when there is none."""
        condition = condition or self.network.condition
        arrays, solution, controls = self._solution(condition, options or live_options(self.network.settings))
        if solution.attempt.ending is not Ending.CONVERGED:
            return None
        reading = Reading(arrays, self.problem, solution, self._switches)
        reading.positions = controls.positions() if controls is not None else {}
        return Linearisation(self.problem, reading)

    def _solution(self, condition: Condition, options: LoadFlowOptions) -> tuple[NetArrays, Solution, Controls | None]:
        if _states(condition) != self._states:
            self._states, self._seen = _states(condition), self.network.under(condition)
            self.rows_version += 1
            self._compile()
        arrays = apply_condition(self.arrays, condition)
        controls = Controls(arrays, self.problem.topology, options, self._order_of_taps)
        if not controls.any:
            solution = self.problem.solve(arrays, options, self._last, self._admittance)
            if solution.attempt.ending is Ending.CONVERGED:
                self._last = solution.attempt.state.copy()
            return arrays, solution, None
        arrays, solution = self._controlled(controls, options)
        return arrays, solution, controls

    def _order_of_taps(self) -> Ints:
        if self._tap_order is None:
            self._tap_order = tap_order(self.arrays, self.problem.topology)
        return self._tap_order

    def _controlled(self, controls: Controls, options: LoadFlowOptions) -> tuple[NetArrays, Solution]:
        """Solve, let the controllers act, and solve again until none moves."""
        arrays, solution, self._last = settle(self.problem, controls, options, self._switches, self._last)
        return arrays, solution

    def _publish(
        self, condition: Condition, options: LoadFlowOptions, arrays: NetArrays, solution: Solution,
        controls: Controls | None,
    ) -> LoadFlowResult:  # fmt: skip
        if self._rows is None:
            self._rows = Rows(self._seen, self.arrays)
        account = account_for(self._seen, arrays, self.problem, solution, options, self._rows)
        found = find_in_model(self._seen, arrays, self.problem, solution, self._rows)
        if solution.attempt.ending in (Ending.SINGULAR, Ending.ITERATION_LIMIT):
            return LoadFlowResult(account, {}, {}, found, bus_voltage=np.full(arrays.n_bus, np.nan + 0j))
        reading = Reading(arrays, self.problem, solution, self._switches)
        if controls is not None and solution.attempt.ending is Ending.CONVERGED:
            account.notes.extend(controls.notes(self._seen, reading))
        tables = build_tables(self._rows, reading, arrays, controls.positions() if controls else {})
        limits = find(self._seen, condition.limit_set, self._rows, tables)
        return LoadFlowResult(
            account,
            tables,
            summarise(reading),
            limits + found,
            quantities=state_quantities(tables),
            totals=list(STATE_TOTALS),
            bus_voltage=reading.v,
        )

    def without_memory(self) -> None:
        """Forget the last solution: the next one starts from scratch."""
        self._last, self._voltage = None, {}


def live_options(settings: Settings) -> LoadFlowOptions:
    """Options of the live load flow: all of them are settings of the network."""
    return LoadFlowOptions(**{f: getattr(settings, f) for f in LoadFlowOptions.model_fields})


def _states(condition: Condition) -> tuple[dict[str, str], dict[str, dict[str, Any]]]:
    """What a condition changes of elements, beyond factors."""
    return dict(condition.states), dict(condition.values)


def _by_id(arrays: NetArrays, table: str, values: Floats) -> dict[str, float]:
    elements = arrays.tables[table]["element"].tolist()
    return {arrays.element_id[e]: v for e, v in zip(elements, values.tolist(), strict=True)}


def run_load_flow(
    network: Network, options: LoadFlowOptions | None = None, condition: Condition | None = None
) -> LoadFlowResult:
    """Solve a network once, from scratch. ``start`` "last" means "linear" here: there is no last solution."""
    options = options or LoadFlowOptions()
    return LiveLoadFlow(network).solve(condition, _from_scratch(options))


def _from_scratch(options: LoadFlowOptions) -> LoadFlowOptions:
    return options.model_copy(update={"start": "linear"}) if options.start == "last" else options
