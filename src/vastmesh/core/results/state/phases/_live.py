"""A load flow per phase that stays at hand: compiled once, solved anew for every condition and edit."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

import numpy as np

from ....electrical import compile_network, factors
from ....electrical.arrays import Complexes, Ints
from ....electrical.conductor import MOTOR, PQ_MACHINE, PV_MACHINE, compile_conductors, patch_conductors
from ....flow import Ending
from ....flow.balanced import MOST_ROUNDS
from ....flow.phases import (
    MOST_ITERATIONS,
    Admittances,
    Attempt,
    Demands,
    PhaseControls,
    Problem,
    Reading,
    UnbalancedOptions,
)
from ....network import (
    Condition,
    Generator,
    Inverter,
    Item,
    Line,
    Load,
    LumpedLoad,
    Network,
    Settings,
    Shunt,
)
from ..._rows import rows_stay
from .._quantities import STATE_TOTALS, state_quantities
from .._result import LoadFlowResult
from ._account import account_for
from ._findings import find, find_in_model
from ._tables import PhaseRows, build_tables, summarise

_STEADY = (Line, Load, LumpedLoad, Shunt, Generator, Inverter)  # kinds whose change leaves the last answer near
_MOST_RETURNS = 3


class LiveUnbalanced:
    """Solves one network per phase again and again. Not safe for several threads at once."""

    def __init__(self, network: Network) -> None:
        self.network = network
        self._states: tuple[dict[str, Any], dict[str, Any]] | None = None
        self._last: tuple[Complexes, Complexes] | None = None
        self._stale = True
        self._rows: PhaseRows | None = None
        self.rows_version = 0  # another one when what the tables say of their rows is another

    def changed(self, idents: Iterable[str], previous: dict[str, Item]) -> None:
        """Take up changes of the network; ``previous`` holds altered items as they were before."""
        idents = list(idents)
        stay = rows_stay(idents, previous, self.network.items)
        self.rows_version += not stay
        if self._stale:
            return
        plain = not any(self._states or ()) and self.seen is self.network
        altered = patch_conductors(self.arrays, self.network, idents, previous) if plain else None
        if altered is None:
            self._stale = True
            # Angles that turn as a whole, or another way of supply, are no start: Newton may end anywhere from there.
            if not all(type(self.network.items.get(i)) in _STEADY for i in idents):
                self._last = None
            return
        if altered and self._set_points(idents):
            self.controls = PhaseControls(self.seen, self.arrays, compile_network(self.seen))
        if self._rows is not None:
            if stay:
                self._rows.follow(idents, self.network.items)
            else:
                self._rows = None

    def _set_points(self, idents: list[str]) -> bool:
        """Whether what automatic control looks at may be another: set-points of machines, not plain demand."""
        return any(isinstance(self.network.items.get(i), Generator | Inverter) for i in idents)

    def make_ready(self, condition: Condition) -> None:
        """Compile what a condition leaves in service, unless that is at hand."""
        states = (dict(condition.states), dict(condition.values))
        if not self._stale and states == self._states:
            return
        remembered = self._remembered() if states == self._states else None
        self.seen = self.network.under(condition)
        self.arrays = compile_conductors(self.seen)
        self.problem = Problem(self.arrays)
        self.problem.admittance(self.arrays.t_y)
        self.controls = PhaseControls(self.seen, self.arrays, compile_network(self.seen))
        self._rows = None
        self.rows_version += states != self._states
        self._states, self._stale = states, False
        self._last = self._recalled(*remembered) if remembered else None

    def _unknowns(self) -> Ints:
        """The unknown of every conductor of every bus, -1 where it has none, (n_bus, 4)."""
        node, row = self.arrays.node, self.problem.row
        return np.where(node >= 0, row[np.maximum(node, 0)], -1) if len(row) else np.full(node.shape, -1, np.int64)

    def _remembered(self) -> tuple[list[str], Complexes, dict[str, complex]] | None:
        """Buses, the last voltages of their four conductors (n_bus, 4), and machine currents by element, for another start."""
        if self._last is None:
            return None
        (v, current), a, p = self._last, self.arrays, self.problem
        row = self._unknowns()
        volts = np.where(row >= 0, np.append(v, np.nan)[row], np.nan)
        lead = a.machine["element"][p.leader].tolist()
        return a.bus_id, volts, {a.element_id[e]: i for e, i in zip(lead, current.tolist(), strict=True)}

    def _recalled(
        self, buses: list[str], before: Complexes, by_machine: dict[str, complex]
    ) -> tuple[Complexes, Complexes] | None:
        """The remembered voltages on the nodes as they are now; None where some are new."""
        a, p = self.arrays, self.problem
        if a.bus_id == buses:
            volts = before
        else:
            at = {b: i for i, b in enumerate(buses)}
            rows = np.array([at.get(b, -1) for b in a.bus_id], np.int64)
            volts = np.concatenate([before, np.full((1, 4), np.nan + 0j)])[rows]
        found = np.full(p.n, np.nan + 0j)
        row = self._unknowns()
        found[row[row >= 0]] = volts[row >= 0]
        names = (a.element_id[e] for e in a.machine["element"][p.leader].tolist())
        current = np.array([by_machine.get(n, np.nan + 0j) for n in names], np.complex128)
        known = bool(np.all(np.isfinite(found.real)) and np.all(np.isfinite(current.real)))
        return (found, current) if known else None

    def solve(self, condition: Condition | None = None, options: UnbalancedOptions | None = None) -> LoadFlowResult:
        """Solve under a condition (the network's own when none is given). Never raises for a hard network."""
        condition = condition or self.network.condition
        options = options or live_options(self.network.settings)
        self.make_ready(condition)
        return self._publish(condition, options, *self._solution(condition, options))

    def reading(self, condition: Condition | None = None, options: UnbalancedOptions | None = None) -> Reading | None:
        """The solved state itself, for studies that build on it; None when there is none."""
        condition = condition or self.network.condition
        options = options or live_options(self.network.settings)
        self.make_ready(condition)
        attempt, _, demands, admittances = self._solution(condition, options)
        return Reading(self.arrays, self.problem, attempt, demands, admittances) if attempt.converged else None

    def _solution(
        self, condition: Condition, options: UnbalancedOptions
    ) -> tuple[Attempt, list[Attempt], Demands, Admittances]:
        entered = self.demands(condition)
        self.controls.begin(options, entered)
        for left in reversed(range(MOST_ROUNDS + 1)):
            admittances, demands = self.controls.admittances(), self.controls.applied(entered)
            self.problem.admittance(admittances.t_y)
            attempt, attempts, demands = self._within_limits(demands, options)
            if not attempt.converged:
                break
            self._last = attempt.v, attempt.i1
            options = options.model_copy(update={"start": "last"})
            if not self.controls.kinds:
                break
            self.controls.settled = left > 0
            reading = Reading(self.arrays, self.problem, attempt, demands, admittances)
            if not left or not self.controls.move(self.controls.see(reading)):
                break
        return attempt, attempts, demands, admittances

    def demands(self, condition: Condition) -> Demands:
        """Demand and machines under a condition."""
        a, base = self.arrays, self.problem.base_va
        demand = factors(a.groups, "class:", condition.demand_factor, condition.class_factors)
        energy = factors(a.groups, "energy:", condition.generation_factor, condition.energy_factors)
        areas = factors(a.groups, "area:", 1.0, condition.area_factors)
        d, m = a.demand, a.machine
        plant = d["sign"] < 0
        by_area = np.where(d["area"] >= 0, areas[d["area"]], 1.0)
        factor = np.where(plant, energy[d["group"]], demand[d["group"]] * by_area)
        s = np.asarray(d["s"] * factor / base, np.complex128)
        motor, free = m["role"] == MOTOR, m["group"] < 0
        own = np.where(m["area"] >= 0, areas[m["area"]], 1.0)
        scale = np.where(free, 1.0, np.where(motor, demand[m["group"]] * own, energy[m["group"]]))
        constant = 1 - d["share_i"] - d["share_z"]
        power, current, impedance = (np.asarray(s * x, np.complex128) for x in (constant, d["share_i"], d["share_z"]))
        return Demands(
            power, current, impedance, m["p"] * scale, m["q"] * scale,
            np.zeros(len(m["p"])), m["role"].copy(),
        )  # fmt: skip

    def _within_limits(self, demands: Demands, options: UnbalancedOptions) -> tuple[Attempt, list[Attempt], Demands]:
        """Solve; a machine past its reactive limit gives up its voltage and stays there, and may come back."""
        m, lead = self.arrays.machine, self.problem.leader
        at_limit = np.zeros(len(m["role"]), np.int64)
        returns = np.zeros(len(m["role"]), np.int64)
        beside = self.problem.leader_of != np.arange(len(m["role"]))
        role, q = demands.role, demands.machine_q.copy()
        # Beside a source a machine holds no voltage of its own: it stays at the nearest limit to zero.
        under = beside & (role == PV_MACHINE) & (m["role"][self.problem.leader_of] == 0)
        q[under] = np.clip(0.0, m["q_min"][under], m["q_max"][under])
        demands = replace(demands, machine_q=q)
        for _ in range(20):
            attempt, attempts = self.problem.solve(demands, options, self._last)
            attempt.at_limit = at_limit
            held = [k for k in lead.tolist() if m["role"][k] == PV_MACHINE]
            if not attempt.converged or not options.reactive_limits or not held:
                return attempt, attempts, demands
            v1 = self.problem.positive_voltage(attempt.v)
            s1 = dict(zip(lead.tolist(), (v1 * np.conj(attempt.i1)), strict=True))
            volts = dict(zip(lead.tolist(), np.abs(v1), strict=True))
            switched = False
            role, q = demands.role.copy(), demands.machine_q.copy()
            for k in held:
                group = np.flatnonzero((self.problem.leader_of == k) & (m["role"] == PV_MACHINE))
                low, high = m["q_min"][group].sum(), m["q_max"][group].sum()
                delivered = s1[k].imag
                if at_limit[k] == 0 and (delivered > high + 1e-9 or delivered < low - 1e-9):
                    at_limit[k] = 1 if delivered > high else -1
                    role[k], q[group], q[k] = PQ_MACHINE, 0.0, high if delivered > high else low
                    switched = True
                elif at_limit[k] and returns[k] < _MOST_RETURNS and (volts[k] - m["voltage"][k]) * at_limit[k] > 1e-9:
                    at_limit[k] = 0
                    returns[k] += 1
                    role[k], switched = PV_MACHINE, True
            if not switched:
                return attempt, attempts, demands
            self._last = attempt.v, attempt.i1
            options = options.model_copy(update={"start": "last"})
            demands = replace(demands, machine_q=q, role=role)
        return attempt, attempts, demands

    def _publish(
        self, condition: Condition, options: UnbalancedOptions, attempt: Attempt, attempts: list[Attempt],
        demands: Demands, admittances: Admittances,
    ) -> LoadFlowResult:  # fmt: skip
        if self._rows is None:
            self._rows = PhaseRows(self.seen, self.arrays)
        account = account_for(self.seen, self.arrays, self.problem, attempt, attempts, options)
        found = find_in_model(self.seen, self.arrays, self.problem)
        if not attempt.converged and attempt.ending is not Ending.NOTHING_TO_SOLVE:
            return LoadFlowResult(account, {}, {}, found, bus_voltage=np.full(self.arrays.n_bus, np.nan + 0j))
        reading = Reading(self.arrays, self.problem, attempt, demands, admittances)
        if self.controls.kinds:
            account.notes.extend(self.controls.notes(self.controls.see(reading)))
        tables = build_tables(self.seen, self._rows, reading, self.controls)
        limits = find(self.seen, condition.limit_set, self._rows, tables)
        return LoadFlowResult(
            account,
            tables,
            summarise(self._rows, reading, tables),
            limits + found,
            quantities=state_quantities(tables),
            totals=list(STATE_TOTALS),
            bus_voltage=reading.bus_sequences[:, 1] / self.arrays.phase_v,
        )


def live_options(settings: Settings) -> UnbalancedOptions:
    """Options of the live load flow per phase: all of them are settings of the network."""
    found = UnbalancedOptions(
        **{f: getattr(settings, f) for f in UnbalancedOptions.model_fields if f != "max_iterations"}
    )
    most = settings.max_iterations and min(settings.max_iterations, MOST_ITERATIONS)
    return found.model_copy(update={"max_iterations": most or None})


def run_unbalanced(
    network: Network, options: UnbalancedOptions | None = None, condition: Condition | None = None
) -> LoadFlowResult:
    """Solve a network per phase once, from scratch."""
    return LiveUnbalanced(network).solve(condition, options or UnbalancedOptions())
