"""Everything that follows from solved voltages, per bus, branch and injection."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ...electrical import FIXED, SLACK, NetArrays
from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...electrical.joints import JointFlows
from ._problem import Problem, Solution


class SwitchFlows:
    """Flows through closed switches; factors are kept per topology."""

    def __init__(self, arrays: NetArrays, problem: Problem) -> None:
        switch = arrays.tables["switch"]
        node = problem.topology.node
        joined = switch["closed"] & (node[switch["from"]] == node[switch["to"]])
        on = joined & (problem.pattern.row[switch["from"]] >= 0)
        self.closed: Ints = np.flatnonzero(on)
        self._joints = JointFlows(switch["from"][self.closed], switch["to"][self.closed], node)

    def solve(self, surplus: Complexes) -> Complexes:
        """Power into each closed switch at its from bus, from each bus's own surplus (n_bus,)."""
        return self._joints.solve(surplus)


class Reading:
    """Every quantity that follows from the solved voltages, computed when first asked for."""

    def __init__(self, arrays: NetArrays, problem: Problem, solution: Solution, switches: SwitchFlows) -> None:
        self.arrays, self.problem, self.solution, self._switches = arrays, problem, solution, switches
        self.positions: dict[int, float] = {}  # taps and steps that automatic control found, by position in element_id
        state = solution.attempt.state
        row = problem.pattern.row
        self.live: Bools = row >= 0
        node_voltage = state.v * np.exp(1j * state.theta)
        self.v: Complexes = np.full(arrays.n_bus, np.nan + 0j)
        self.v[self.live] = node_voltage[row[self.live]]
        self.v0: Complexes = np.where(self.live, self.v, 0)
        self.volts: Floats = np.abs(self.v)

    @property
    def roles(self) -> Ints:
        """Of every node: 0 nothing held, 1 voltage, 2 slack, 3 a machine that has let go at its reactive limit."""
        attempt = self.solution.attempt
        held = self.solution.targets.node_type
        return np.where((held == 1) & (attempt.at_limit != 0), 3, held)

    @cached_property
    def to_current(self) -> Complexes:
        """Current into every branch at its to end, p.u."""
        branch, ports = self.arrays.tables["branch"], self.solution.ports
        return np.asarray(ports.tf * self.v0[branch["from"]] + ports.tt * self.v0[branch["to"]])

    @cached_property
    def branch_power(self) -> tuple[Complexes, Complexes]:
        """Power into every branch at both ends, MVA."""
        branch, ports = self.arrays.tables["branch"], self.solution.ports
        vf, vt = self.v0[branch["from"]], self.v0[branch["to"]]
        base = self.arrays.base_mva
        return (
            vf * np.conj(ports.ff * vf + ports.ft * vt) * base,
            vt * np.conj(ports.tf * vf + ports.tt * vt) * base,
        )

    @cached_property
    def load_power(self) -> Complexes:
        """Power drawn by every load, MVA."""
        load = self.arrays.tables["load"]
        v = np.abs(self.v0[load["bus"]])
        constant = 1 - load["share_i"] - load["share_z"]
        if low := self.solution.low_voltage_pu:
            constant = constant * np.minimum(v / low, 1.0) ** 2
        mix = constant + load["share_i"] * v + load["share_z"] * v * v
        power = np.where(self.live[load["bus"]], (load["p"] + 1j * load["q"]) * mix, 0j)
        return np.asarray(power * self.arrays.base_mva)

    @cached_property
    def shunt_power(self) -> Complexes:
        """Power drawn by every shunt, MVA."""
        shunt = self.arrays.tables["shunt"]
        return np.asarray(np.conj(shunt["y"]) * np.abs(self.v0[shunt["bus"]]) ** 2 * self.arrays.base_mva)

    @cached_property
    def machine_power(self) -> Complexes:
        """Power delivered by every source and generator, MVA.

        At a node held by several, each has its set share; what is left is divided by weight
        (fault level of sources, rating of machines), machines within their limits.
        """
        machine = self.arrays.tables["injection"]
        at = self.problem.row_of(machine["bus"])
        live, control = at >= 0, machine["control"]
        p, q = np.where(live, machine["p"], 0.0), np.where(live & (control == FIXED), machine["q"], 0.0)
        attempt, targets, n = self.solution.attempt, self.solution.targets, self.problem.n
        v = attempt.state.v
        # What the solved voltages imply, less what loads and fixed machines already account for.
        rest_p = attempt.p - (targets.p0 + targets.p1 * v + targets.p2 * v * v)
        rest_q = attempt.q - (targets.q0 + targets.q1 * v + targets.q2 * v * v)
        slack, holds = live & (control == SLACK), live & (control == 1)
        has_slack = np.zeros(n, np.bool_)
        has_slack[at[slack]] = True
        q += self._divide(np.where(has_slack, 0.0, rest_q), at, holds)
        # Beside a source, machines hold no voltage of their own: they stay at the nearest limit to zero.
        beside = holds.copy()
        beside[holds] = has_slack[at[holds]]
        q[beside] = np.clip(0.0, machine["q_min"][beside], machine["q_max"][beside])
        rest_q = rest_q - np.bincount(at[beside], q[beside], n)
        p += self._divide(np.where(has_slack, rest_p, 0.0), at, slack)
        q += self._divide(np.where(has_slack, rest_q, 0.0), at, slack)
        return np.asarray((p + 1j * q) * self.arrays.base_mva)

    @cached_property
    def area_exchange(self) -> Floats:
        """Active power each area gives to the others, p.u., (n_area,)."""
        a, area = self.arrays, self.arrays.bus_area
        branch = a.tables["branch"]
        own = (self.bus_generation - self.bus_demand - self.bus_shunt).real
        inside = (area[branch["from"]] == area[branch["to"]]) & (area[branch["from"]] >= 0)
        loss = (self.branch_power[0] + self.branch_power[1]).real
        n, known = len(a.area_id), area >= 0
        total = np.bincount(area[known], own[known], n)
        total -= np.bincount(area[branch["from"]][inside], loss[inside], n)
        return np.asarray(total / a.base_mva)

    def _divide(self, amount: Floats, at: Ints, among: Bools) -> Floats:
        """Divide a node's amount by weight, filling members up to their limits where that is needed."""
        machine = self.arrays.tables["injection"]
        share = np.zeros(len(at))
        rows = np.flatnonzero(among)
        if not len(rows):
            return share
        node, weight, n = at[rows], machine["weight"][rows], len(amount)
        low, high = machine["q_min"][rows], machine["q_max"][rows]
        bounded = machine["control"][rows] != SLACK
        free = np.ones(len(rows), np.bool_)
        fixed = np.zeros(len(rows))
        for _ in range(8):
            left = amount - np.bincount(node[~free], fixed[~free], n)
            total = np.bincount(node[free], weight[free], n)
            part = np.where(free, left[node] * weight / np.where(total > 0, total, 1)[node], fixed)
            over = free & bounded & ((part > high + 1e-12) | (part < low - 1e-12))
            counts = np.bincount(node[free], minlength=n)
            over &= counts[node] > 1  # the last one takes what is left
            if not np.any(over):
                break
            fixed[over] = np.clip(part[over], low[over], high[over])
            free &= ~over
        share[rows] = part
        return share

    def _at_bus(self, rows: Ints, values: Complexes) -> Complexes:
        n = self.arrays.n_bus
        return np.bincount(rows, values.real, n) + 1j * np.bincount(rows, values.imag, n)

    @cached_property
    def bus_generation(self) -> Complexes:
        return self._at_bus(self.arrays.tables["injection"]["bus"], self.machine_power)

    @cached_property
    def bus_demand(self) -> Complexes:
        return self._at_bus(self.arrays.tables["load"]["bus"], self.load_power)

    @cached_property
    def bus_shunt(self) -> Complexes:
        return self._at_bus(self.arrays.tables["shunt"]["bus"], self.shunt_power)

    @cached_property
    def bus_surplus(self) -> Complexes:
        """Power each bus has left for its switches: generation less demand, shunts and branches, MVA."""
        branch = self.arrays.tables["branch"]
        s_from, s_to = self.branch_power
        out = self._at_bus(branch["from"], s_from) + self._at_bus(branch["to"], s_to)
        return self.bus_generation - self.bus_demand - self.bus_shunt - out

    @property
    def closed_switches(self) -> Ints:
        return self._switches.closed

    @cached_property
    def switch_power(self) -> Complexes:
        """Power through every switch from its from bus to its to bus, MVA; zero where open or dead."""
        switch = self.arrays.tables["switch"]
        flow = np.zeros(len(switch["from"]), np.complex128)
        flow[self._switches.closed] = self._switches.solve(self.bus_surplus)
        return flow

    @cached_property
    def switch_current(self) -> Floats:
        """Current through every switch, p.u.; zero where open or dead."""
        at = np.abs(self.v0[self.arrays.tables["switch"]["from"]])
        through = np.abs(self.switch_power) / self.arrays.base_mva
        return np.divide(through, at, out=np.zeros(len(at)), where=at > 0)

    def through_switches(self, asked: Ints, gone: Ints | None = None) -> Floats:
        """The same of rows of switches, counted before those that are ``gone`` were taken out of the arrays; zero of these."""
        if not len(asked):
            return np.zeros(0)
        if gone is None or not len(gone):
            return np.asarray(self.switch_current[asked])
        flow: Floats = np.zeros(len(self.switch_current) + len(gone))
        flow[np.delete(np.arange(len(flow)), gone)] = self.switch_current
        return flow[asked]

    @cached_property
    def bus_mismatch(self) -> Complexes:
        """What is left over at each bus when everything is added up, MVA."""
        switch = self.arrays.tables["switch"]
        flow = self.switch_power
        return np.asarray(self.bus_surplus - self._at_bus(switch["from"], flow) + self._at_bus(switch["to"], flow))


@dataclass
class Ends:
    """Power and current at both ends of all branch elements (lines, transformers, switches), by element."""

    s_from: Complexes
    s_to: Complexes
    i_from: Floats
    i_to: Floats
    loading: Floats
    drop_pct: Floats
    carries: Bools  # live, and not an open switch


def ends_by_element(reading: Reading) -> Ends:
    """Two-port rows and switches brought onto one index: the position in ``element_id``."""
    arrays = reading.arrays
    count, amps = len(arrays.element_id), arrays.base_current_a()
    blank_s, blank = np.full(count, np.nan + 0j), np.full(count, np.nan)
    ends = Ends(
        s_from=blank_s, s_to=blank_s.copy(), i_from=blank, i_to=blank.copy(), loading=blank.copy(),
        drop_pct=blank.copy(), carries=np.zeros(count, np.bool_),
    )  # fmt: skip
    branch, switch, base = arrays.tables["branch"], arrays.tables["switch"], arrays.base_mva
    v = np.abs(reading.v0)

    def write(
        table: dict[str, np.ndarray], s_f: Complexes, s_t: Complexes, r_f: Floats, r_t: Floats, on: Bools
    ) -> None:
        frm, to, element = table["from"], table["to"], table["element"]
        with np.errstate(divide="ignore", invalid="ignore"):
            i_f = np.where(v[frm] > 0, np.abs(s_f) / base / v[frm] * amps[frm], 0.0)
            i_t = np.where(v[to] > 0, np.abs(s_t) / base / v[to] * amps[to], 0.0)
            load = np.maximum(i_f / r_f, i_t / r_t) * 100
        load = np.where(np.isfinite(r_f), load, np.nan)
        dead = ~on
        for target, values in ((ends.s_from, s_f), (ends.s_to, s_t), (ends.i_from, i_f), (ends.i_to, i_t),
                               (ends.loading, load), (ends.drop_pct, (v[frm] - v[to]) * 100)):  # fmt: skip
            target[element] = np.where(dead, np.nan, values)
        ends.carries[element] = on

    two = arrays.one_branch[branch["element"]]
    s_from, s_to = reading.branch_power
    table = {c: v[two] for c, v in branch.items() if c in ("from", "to", "element", "rating_from_a", "rating_to_a")}
    write(table, s_from[two], s_to[two], table["rating_from_a"], table["rating_to_a"], reading.live[table["from"]])
    flow = reading.switch_power
    on = np.zeros(len(flow), np.bool_)
    on[reading.closed_switches] = True
    write(switch, flow, -flow, switch["rating_a"], switch["rating_a"], on)
    return ends
