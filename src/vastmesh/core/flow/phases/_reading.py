"""Everything that follows from solved conductor voltages: currents, powers, sequences, unbalance, losses."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Self

import numpy as np
from scipy.sparse import csr_array

from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...electrical.conductor import EARTH, ConductorArrays
from ...electrical.joints import JointFlows
from ._problem import Attempt, Demands, Problem

_A = np.exp(2j * np.pi / 3)
# Rows: zero, positive, negative sequence from phases A, B, C (Fortescue).
SEQUENCES = np.array([[1, 1, 1], [1, _A, _A**2], [1, _A**2, _A]]) / 3


@dataclass(frozen=True)
class Admittances:
    """What taps, phase shifters and banks have to say, as they stand: terminal admittances in S, and the terms of the limbs
    of transformers."""

    t_y: Complexes
    limb_i: Complexes
    limb_u: Complexes

    @classmethod
    def entered(cls, arrays: ConductorArrays) -> Self:
        return cls(arrays.t_y, arrays.term["i"], arrays.term["u"])


class Reading:
    """Quantities in V, A and VA, computed when first asked for. NaN where a conductor is absent or dead."""

    def __init__(
        self, arrays: ConductorArrays, problem: Problem, attempt: Attempt, demands: Demands, admittances: Admittances
    ) -> None:
        self.arrays, self.problem, self.attempt, self.demands = arrays, problem, attempt, demands
        self.admittances = admittances
        volts = np.full(arrays.n_node + 2, np.nan + 0j)
        volts[-1] = 0.0  # earth
        live = problem.row >= 0
        volts[: arrays.n_node][live] = attempt.v[problem.row[live]] * problem.base_v[problem.row[live]]
        self.node_v: Complexes = volts

    def voltage_at(self, node: Ints) -> Complexes:
        """Voltage to earth of nodes, V; NaN where absent (-2)."""
        return np.asarray(np.where(node == EARTH, 0.0, self.node_v[np.where(node < 0, self.arrays.n_node, node)]))

    @cached_property
    def bus_v(self) -> Complexes:
        """Voltage of A, B, C and N to earth, V, (n_bus, 4)."""
        found = self.voltage_at(self.arrays.node)
        found[~self.bus_live] = np.nan  # a neutral joined to earth is dead with its phases
        return found

    @cached_property
    def bus_live(self) -> Bools:
        node = self.arrays.node
        rows = np.append(self.problem.row, -1)
        return np.asarray(np.any(np.where(node >= 0, rows[np.maximum(node, -1)], -1) >= 0, axis=1))

    @cached_property
    def to_neutral(self) -> Complexes:
        """Voltage of A, B, C to the neutral, or to earth where there is none, V, (n_bus, 3)."""
        v = self.bus_v
        neutral = np.where(np.isfinite(v[:, 3].real), v[:, 3], 0)
        return np.asarray(v[:, :3] - neutral[:, None])

    @cached_property
    def between(self) -> Complexes:
        """Voltages AB, BC, CA, V, (n_bus, 3)."""
        v = self.bus_v[:, :3]
        return np.asarray(v - np.roll(v, -1, axis=1))

    @cached_property
    def bus_sequences(self) -> Complexes:
        """Zero, positive and negative sequence of the voltages to neutral, V, (n_bus, 3); NaN without three phases."""
        return np.asarray(self.to_neutral @ SEQUENCES.T)

    @cached_property
    def terminal_current(self) -> Complexes:
        """Current from the network into each terminal, A."""
        a = self.arrays
        count = len(a.terminal["key"])
        v = np.nan_to_num(self.voltage_at(a.terminal_node()))
        matrix = csr_array((self.admittances.t_y, (a.t_row, a.t_col)), shape=(count, count))
        return np.asarray(matrix @ v - a.t_i)

    @cached_property
    def demand_current(self) -> Complexes:
        """Current through each demand row from its first to its second node, A; zero where dead."""
        p = self.problem
        found = np.zeros(len(p.demand_live), np.complex128)
        current, _, _ = p.demand_current(self.demands, self.attempt.v, self.attempt.low_voltage_pu)
        found[p.demand_used] = current * p.base_va / p.u_scale
        return found

    @cached_property
    def demand_power(self) -> Complexes:
        """Power drawn by each demand row, VA."""
        d, a = self.arrays.demand, self.arrays
        u = self.voltage_at(a.node_of_key[d["key_p"]]) - self.voltage_at(a.node_of_key[d["key_q"]])
        return np.asarray(np.nan_to_num(u) * np.conj(self.demand_current))

    @cached_property
    def machine_current(self) -> Complexes:
        """Positive-sequence current delivered by each machine, A in phase A, with those that share one divided."""
        p, m, a = self.problem, self.arrays.machine, self.arrays
        found = np.zeros(len(m["element"]), np.complex128)
        if not p.m:
            return found
        whole = np.zeros(len(found), np.complex128)
        whole[p.leader] = self.attempt.i1
        v1 = np.zeros(len(found), np.complex128)
        v1[p.leader] = p.positive_voltage(self.attempt.v)
        lead = p.leader_of
        alone = np.bincount(lead, minlength=len(found))[lead] == 1
        found[alone] = whole[alone]
        for k in np.unique(lead[~alone]).tolist():
            members = np.flatnonzero(lead == k)
            set_p = self.demands.machine_p[members]
            same = m["role"][members] == m["role"][k]
            own = set_p + 1j * np.where(same, 0, np.clip(0, m["q_min"][members], m["q_max"][members]))
            total = v1[k] * np.conj(whole[k])
            weight = np.where(same, m["weight"][members], 0)
            rest = (total - own.sum()) * weight / weight.sum()
            found[members] = np.conj((own + rest) / v1[k])
        node = a.node_of_key[m["key_a"]]
        base = np.where(node >= 0, a.base_v[np.maximum(node, 0)], 1.0) if len(node) else np.ones(0)
        found[~p.machine_live] = 0
        return np.asarray(found * p.base_va / base)

    @cached_property
    def machine_phase_currents(self) -> Complexes:
        """Current delivered into A, B, C by the positive sequence of each machine, A, (n, 3)."""
        return np.asarray(self.machine_current[:, None] * np.array([1, _A**2, _A]))

    @cached_property
    def element_current(self) -> Complexes:
        """Current into each element at each side and conductor, A, (n_element, 3, 4), of everything linear."""
        a, t = self.arrays, self.arrays.terminal
        found = np.zeros((len(a.element_id), 3, 4), np.complex128)
        own = t["conductor"] < 4
        np.add.at(found, (t["element"][own], t["side"][own], t["conductor"][own]), self.terminal_current[own])
        return found

    @cached_property
    def _terminal_power(self) -> Complexes:
        volts = np.nan_to_num(self.voltage_at(self.arrays.terminal_node()))
        return np.asarray(volts * np.conj(self.terminal_current))

    @cached_property
    def element_power(self) -> Complexes:
        """Power into each element at each side over all its conductors, against earth, VA, (n_element, 3)."""
        a, t = self.arrays, self.arrays.terminal
        found = np.zeros((len(a.element_id), 3), np.complex128)
        np.add.at(found, (t["element"], t["side"]), self._terminal_power)
        return found

    @cached_property
    def side_power(self) -> Complexes:
        """The same over conductors of buses alone, points inside elements not counted."""
        a, t = self.arrays, self.arrays.terminal
        found = np.zeros((len(a.element_id), 3), np.complex128)
        own = t["key"] < 4 * a.n_bus
        np.add.at(found, (t["element"][own], t["side"][own]), self._terminal_power[own])
        return found

    @cached_property
    def injection_power(self) -> Complexes:
        """Power drawn by each element that hangs at one bus (negative: delivered), VA, (n_element,)."""
        a = self.arrays
        found = self.element_power[:, 0].copy()
        np.add.at(found, a.demand["element"], self.demand_power)
        m = a.machine
        volts = np.stack([self.voltage_at(a.node_of_key[m[f"key_{k}"]]) for k in "abc"], axis=1) if len(m["element"]) else (
            np.zeros((0, 3), np.complex128))  # fmt: skip
        np.subtract.at(found, m["element"], (np.nan_to_num(volts) * np.conj(self.machine_phase_currents)).sum(axis=1))
        return found

    def _drawn(self, of_key: Complexes | None = None) -> Complexes:
        """Sum over all that each element draws at conductors of buses, on side 0 of what has sides: its current, A; or that
        current's conjugate times a voltage of each key (n_bus * 4,). By conductor, (n_element, 4)."""
        a, d, m, t = self.arrays, self.arrays.demand, self.arrays.machine, self.arrays.terminal
        found = np.zeros((len(a.element_id), 4), np.complex128)

        def into(element: Ints, key: Ints, current: Complexes) -> None:
            own = key < 4 * a.n_bus
            value = current[own] if of_key is None else of_key[key[own]] * np.conj(current[own])
            np.add.at(found, (element[own], key[own] % 4), value)

        first = t["side"] == 0
        into(t["element"][first], t["key"][first], self.terminal_current[first])
        for key, sign in (("key_p", 1), ("key_q", -1)):
            into(d["element"], d[key], sign * self.demand_current)
        for c, k in enumerate("abc"):
            into(m["element"], m[f"key_{k}"], -self.machine_phase_currents[:, c])
        return found

    @cached_property
    def injection_phase_current(self) -> Complexes:
        """Current drawn from A, B, C and N by each element that hangs at one bus, A, (n_element, 4)."""
        return self._drawn()

    @cached_property
    def injection_phase_power(self) -> Complexes:
        """Power drawn from A, B and C against the neutral by each element that hangs at one bus, VA, (n_element, 3).

        Of demand along a line each end counts with its own voltage.
        """
        volts = np.zeros((self.arrays.n_bus, 4), np.complex128)
        volts[:, :3] = np.nan_to_num(self.to_neutral)
        return self._drawn(volts.ravel())[:, :3]

    @cached_property
    def switch_flows(self) -> dict[str, Complexes]:
        """Current through every closed switch by conductor, A, (4,). Rings of switches share equally."""
        a, d, m = self.arrays, self.arrays.demand, self.arrays.machine
        s = (
            a.switched[self.problem.row[np.maximum(a.node_of_key[a.switched[:, 2]], 0)] >= 0]
            if a.n_node
            else a.switched
        )
        s = s[a.node_of_key[s[:, 2]] >= 0]
        left = np.zeros(len(a.node_of_key), np.complex128)
        np.subtract.at(left, a.terminal["key"], self.terminal_current)
        np.subtract.at(left, d["key_p"], self.demand_current)
        np.add.at(left, d["key_q"], self.demand_current)
        for c, k in enumerate("abc"):
            np.add.at(left, m[f"key_{k}"], self.machine_phase_currents[:, c])
        flow = JointFlows(s[:, 2], s[:, 3], a.node_of_key).solve(left)
        found: dict[str, Complexes] = {}
        for (element, conductor, _, _), amps in zip(s.tolist(), flow, strict=True):
            found.setdefault(a.element_id[element], np.zeros(4, np.complex128))[conductor] = amps
        return found

    # Losses

    @cached_property
    def losses(self) -> Floats:
        """Active losses of branches in A, B, C, neutral, and earth or what is shared, W, (n_element, 5); of transformers in
        the limb of each phase: copper by its own resistance, and iron."""
        a = self.arrays
        loss, limb, i = a.loss, a.limb, self.terminal_current
        found = np.full((len(a.element_id), 5), np.nan)
        found[a.terminal["element"][a.terminal["side"] > 0]] = 0.0
        through = np.abs(i[loss["first"]] - i[loss["second"]]) / 2
        found[loss["element"], a.terminal["conductor"][loss["first"]]] = loss["own_ohm"] * through**2
        current, volts = (self._of_limbs(x) for x in (self.admittances.limb_i, self.admittances.limb_u))
        own = limb["r"] * np.abs(current) ** 2 + limb["g"] * np.abs(volts) ** 2
        np.add.at(found, (limb["element"], limb["phase"]), own)
        found[:, 4] = self.element_power.sum(axis=1).real - found[:, :4].sum(axis=1)
        return found

    def _of_limbs(self, coefficient: Complexes) -> Complexes:
        a, count = self.arrays, len(self.arrays.limb["element"])
        terminal = self.voltage_at(a.node_of_key[a.terminal["key"][a.term["terminal"]]])
        parts = coefficient * np.nan_to_num(terminal)
        real, imag = (np.bincount(a.term["limb"], x, count) for x in (parts.real, parts.imag))
        return np.asarray(real + 1j * imag)

    @cached_property
    def kirchhoff(self) -> Floats:
        """What is left of all currents at each node as apparent power, per unit of base power, (n_node,).

        Added up from the currents as they are reported, not from the solver's own mismatch.
        """
        a, d, m = self.arrays, self.arrays.demand, self.arrays.machine
        left = np.zeros(a.n_node, np.complex128)

        def into(node: Ints, current: Complexes) -> None:
            own = node >= 0
            np.add.at(left, node[own], current[own])

        into(a.terminal_node(), self.terminal_current)
        into(a.node_of_key[d["key_p"]], self.demand_current)
        into(a.node_of_key[d["key_q"]], -self.demand_current)
        for c, k in enumerate("abc"):
            into(a.node_of_key[m[f"key_{k}"]], -self.machine_phase_currents[:, c])
        live = self.problem.row >= 0
        volts = np.maximum(np.abs(np.nan_to_num(self.node_v[: a.n_node])), a.base_v)
        return np.where(live, np.abs(left) * volts / (a.base_mva * 1e6), 0.0)


def percent(part: Floats, whole: Floats) -> Floats:
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(np.where(whole > 1e-9, 100 * part / whole, np.nan))


def deviation(values: Floats) -> Floats:
    """Greatest deviation from the mean of three magnitudes, over the mean, %."""
    mean = values.mean(axis=1)
    return percent(np.abs(values - mean[:, None]).max(axis=1), mean)
