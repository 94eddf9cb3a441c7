"""The equations of the load flow per phase, solved by Newton's method in conductor coordinates.

Unknowns: real and imaginary part of the voltage of every conductor to earth, and of the positive-sequence current of
every machine. Equations: Kirchhoff's current law at every conductor, and for every machine what it holds. Currents of
demand depend on the conjugate of the voltage, so each complex term is a two by two real block.

Source: the current-injection Newton method, P. A. N. Garcia et al., "Three-phase power flow calculations using the
current injection method", IEEE Trans. Power Systems 15, 2000; machines by their sequence equivalents as bordering
unknowns.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from ...electrical import BlockLU
from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...electrical.conductor import PV_MACHINE, SLACK_MACHINE, ConductorArrays
from ...electrical.sparse import elimination_order
from ...errors import SingularMatrix
from ...network import kinds_with
from .._ending import Ending
from ._kernel import add_demand, add_entries, demand_currents, draw
from ._options import UnbalancedOptions

_TURN = np.exp(2j * np.pi / 3)
_POSITIVE = np.array([1, _TURN**2, _TURN])  # of phases A, B, C in a positive-sequence system
_FALLBACK_PU = 0.8
_MOST_STEPS, _MOST_HALVINGS = 40, 8
_ROUNDING = 1e-15
_RUNAWAY = 1e4  # p.u.; no step leads back from such voltages


@dataclass
class Demands:
    """Demand and machines as they are at one condition and one state of the controls.

    ``power``, ``current``, ``impedance``: what is drawn at nominal voltage u0 and goes with |U|⁰, |U|¹ and |U|², per unit
    (base power per phase). Delivered by machines, per unit of base power: ``machine_p``, ``machine_q`` + ``slope`` |V1|;
    ``role``: of each machine now.
    """

    power: Complexes
    current: Complexes
    impedance: Complexes
    machine_p: Floats
    machine_q: Floats
    slope: Floats
    role: Ints

    @property
    def nominal(self) -> Complexes:
        """What is drawn at nominal voltage."""
        return self.power + self.current + self.impedance


@dataclass
class Attempt:
    """One Newton run: how it ended, node voltages and machine currents per unit, mismatches by iteration."""

    ending: Ending
    v: Complexes
    i1: Complexes
    iterations: int
    history: list[float]
    rung: str
    low_voltage_pu: float
    mismatch: Complexes
    role: Ints
    at_limit: Ints = field(default_factory=lambda: np.zeros(0, np.int64))

    @property
    def converged(self) -> bool:
        return self.ending is Ending.CONVERGED


class Problem:
    """One topology: which nodes are alive, the pattern of the Jacobian and its symbolic analysis.

    ``row``: unknown of each node, -1 where dead, shape (n_node,). Node quantities are per unit: voltage on the
    phase-to-neutral base of the node, power on a third of the base power.
    """

    def __init__(self, arrays: ConductorArrays) -> None:
        self.arrays = arrays
        self.base_va = arrays.base_mva * 1e6 / 3
        self._t_node = arrays.terminal_node()
        self._trace()
        self._leaders()
        self._t_y: Complexes | None = None
        self._conjugates: tuple[Demands | None, Complexes, Complexes, Complexes] = (
            None,
            *(np.zeros(0, np.complex128),) * 3,
        )
        self.n, self.m = int(self.live.sum()), len(self.leader)
        self.base_v = arrays.base_v[self.live]
        self._pattern()
        at = self._t_node
        inside = np.flatnonzero((at >= 0) & (arrays.t_i != 0))
        self._driven: Complexes = np.zeros(self.n, np.complex128)
        rows = self.row[at[inside]] if len(self.row) else inside
        here = rows >= 0
        np.add.at(self._driven, rows[here], arrays.t_i[inside[here]] * self.base_v[rows[here]] / self.base_va)

    # Topology

    def _trace(self) -> None:
        a, t = self.arrays, self._t_node
        n, d, m = a.n_node, a.demand, a.machine
        i, j = t[a.t_row], t[a.t_col]
        inner = (i >= 0) & (j >= 0)
        p, q = a.node_of_key[d["key_p"]], a.node_of_key[d["key_q"]]
        legs = (p >= 0) & (q >= 0)
        abc = (
            np.stack([a.node_of_key[m[f"key_{k}"]] for k in "abc"]) if len(m["element"]) else np.zeros((3, 0), np.int64)
        )
        machine_edges = (np.r_[abc[0], abc[1]], np.r_[abc[1], abc[2]])
        alive = np.all(abc >= 0, axis=0)
        pairs = (np.r_[i[inner], p[legs], machine_edges[0]], np.r_[j[inner], q[legs], machine_edges[1]])
        keep = (pairs[0] >= 0) & (pairs[1] >= 0)
        label = _components(n, pairs[0][keep], pairs[1][keep])
        slack = alive & (m["role"] == SLACK_MACHINE)
        fed = np.zeros(n + 1, np.bool_)
        if n and np.any(slack):
            fed[label[abc[0][slack]]] = True
        self.live: Bools = fed[label] if n else np.zeros(0, np.bool_)
        self.machine_nodes: Ints = abc
        self.machine_live = alive & (self.live[abc[0]] if n else alive)
        # What hangs on demand alone (a conductor broken on its way) has no answer at constant power.
        earth = np.where(t == -1, n, t)
        linked = (earth[a.t_row] >= 0) & (earth[a.t_col] >= 0) & self._firm_entries
        rows, cols = earth[a.t_row][linked], earth[a.t_col][linked]
        to_earth = self._row_sums_to_earth()
        rows = np.r_[rows, np.flatnonzero(to_earth), machine_edges[0][machine_edges[0] >= 0]]
        cols = np.r_[cols, np.full(int(to_earth.sum()), n), machine_edges[1][machine_edges[0] >= 0]]
        firm = _components(n + 1, rows, np.maximum(cols, 0))
        strong = np.zeros(n + 2, np.bool_)
        if np.any(slack):
            strong[firm[abc[0][slack]]] = True
        firm_node = np.append(strong[firm[:n]], strong[firm[n]] if n else True)
        self.forced: Bools = ~(firm_node[p] & firm_node[q]) if len(p) else np.zeros(0, np.bool_)
        self.row = np.where(self.live, np.cumsum(self.live) - 1, -1)

    def _row_sums_to_earth(self) -> Bools:
        """Nodes with a linear path to earth of their own (charging, electrodes, windings to earth)."""
        a, t = self.arrays, self._t_node
        i = t[a.t_row]
        own = i >= 0
        total = np.bincount(i[own], np.abs(a.t_y[own]), a.n_node)
        summed = np.zeros(a.n_node, np.complex128)
        np.add.at(summed, i[own], a.t_y[own])
        earthed = np.zeros(a.n_node, np.bool_)
        earthed[i[own & (t[a.t_col] == -1) & (np.abs(a.t_y) > 0)]] = True
        return np.asarray(earthed | (np.abs(summed) > 1e-9 * np.maximum(total, 1e-30)))

    def _leaders(self) -> None:
        """Several sources, or machines that hold a voltage, at the same nodes have one current together."""
        m = self.arrays.machine
        nodes = self.machine_nodes
        holds = np.isin(m["role"], (SLACK_MACHINE, PV_MACHINE)) & self.machine_live
        leader = np.arange(len(m["element"]))
        first: dict[tuple[int, ...], int] = {}
        order = np.argsort(np.where(m["role"] == SLACK_MACHINE, 0, 1), kind="stable")
        for k in order.tolist():
            if holds[k]:
                leader[k] = first.setdefault(tuple(nodes[:, k].tolist()), k)
        self.leader_of = leader
        self.leader = np.flatnonzero((leader == np.arange(len(leader))) & self.machine_live)
        self.clash = np.flatnonzero(
            holds & (leader != np.arange(len(leader)))
            & ((np.abs(m["voltage"] - m["voltage"][leader]) > 1e-9) | (m["role"] == PV_MACHINE))
        )  # fmt: skip

    def _pattern(self) -> None:
        a, t = self.arrays, self._t_node
        i, j = t[a.t_row], t[a.t_col]
        i, j = np.where(i >= 0, self.row[i], -1), np.where(j >= 0, self.row[j], -1)
        self._inside = np.flatnonzero((i >= 0) & (j >= 0))
        yi, yj = i[self._inside], j[self._inside]
        d = a.demand
        p, q = (self._rows(a.node_of_key[d[f"key_{k}"]]) for k in "pq")
        self.demand_live = ((p >= 0) | (q >= 0)) & ~((p < 0) & (q < 0))
        used = np.flatnonzero(self.demand_live)
        self.demand_used, self.p, self.q = used, p[used], q[used]
        pu, qu = self.p, self.q
        self.u_scale = d["u0"][used]
        abc = self._rows(self.machine_nodes[:, self.leader]) if self.m else np.zeros((3, 0), np.int64)
        self.abc = abc
        border = self.n + np.arange(self.m)
        self._pin_rows, self._pin_cols, self._pin_y = self._pins()
        size = self.n + self.m
        rows = [yi, pu, pu, qu, qu, *abc, *([border] * 3), border, self._pin_rows, np.arange(self.n)]
        cols = [yj, pu, qu, pu, qu, *([border] * 3), *abc, border, self._pin_cols, np.arange(self.n)]
        lengths = [len(r) for r in rows]
        row, col = np.concatenate(rows).astype(np.int64), np.concatenate(cols).astype(np.int64)
        valid = (row >= 0) & (col >= 0)
        row, col, every = row[valid], col[valid], max(size, 1)
        self._order = self._elimination(np.r_[row, col], np.r_[col, row], size)
        rank = np.empty(size, np.int64)
        rank[self._order] = np.arange(size)
        self._rank = rank
        # The mirror image of every entry belongs to the pattern: factors of blocks need it symmetric.
        keys, slot = np.unique(np.r_[rank[row] * every + rank[col], rank[col] * every + rank[row]], return_inverse=True)
        indptr = np.searchsorted(keys, np.arange(size + 1) * size)
        indices = keys % every
        all_slots = np.full(len(valid), -1, np.int64)
        all_slots[valid] = slot[: len(row)]
        counts = np.diff(indptr)
        at_row = np.repeat(np.arange(size), counts)
        at = 4 * indptr[at_row] + 2 * (np.arange(len(indices)) - indptr[at_row])
        below = 2 * counts[at_row]
        # Places of the four real parts of each complex entry: (re,re), (im,re), (re,im), (im,im).
        self._place = np.stack([at, at + below, at + 1, at + below + 1])
        self.nnz = 4 * len(indices)
        parts = np.split(all_slots, np.cumsum(lengths)[:-1])
        self._slot_y, self._slot_d = parts[0], np.stack(parts[1:5]) if len(used) else np.zeros((4, 0), np.int64)
        self._slot_in, self._slot_out = np.stack(parts[5:8]), np.stack(parts[8:11])
        self._slot_own, self._slot_pin = parts[11], parts[12]
        self.pattern = indptr, indices
        self.lu = BlockLU(indptr, indices) if size else None

    def _elimination(self, rows: Ints, cols: Ints, size: int) -> Ints:
        """The order in which unknowns are eliminated: with few further entries, and the current of every machine after the
        voltages that answer to it, as nothing of its own stands on its diagonal."""
        keys = np.unique(np.r_[rows * size + cols, np.arange(size) * (size + 1)])
        order = elimination_order(np.searchsorted(keys, np.arange(size + 1) * size), keys % max(size, 1))
        if not self.m:
            return order
        when = np.empty(size)
        when[order] = np.arange(size)
        known = np.where(self.abc >= 0, when[np.maximum(self.abc, 0)], -1.0)
        when[self.n :] = np.maximum(when[self.n :], known.max(axis=0) + 0.5)
        return np.argsort(when, kind="stable")

    def _answer(self, rhs: Floats) -> Floats:
        """Solution of the equations factorised last, unknowns and equations in their own order, (..., 2 (n + m))."""
        assert self.lu is not None
        pairs = rhs.reshape(*rhs.shape[:-1], -1, 2)
        found = self.lu.solve(np.ascontiguousarray(pairs[..., self._order, :]).reshape(rhs.shape))
        return np.asarray(found.reshape(pairs.shape)[..., self._rank, :].reshape(rhs.shape))

    def _rows(self, node: Ints) -> Ints:
        return np.where(node >= 0, self.row[node], -1) if len(self.row) else np.full(node.shape, -1, np.int64)

    # Admittances

    def _pins(self) -> tuple[Ints, Ints, Complexes]:
        """Entries that fix the mean voltage of a part that nothing ties to earth; they carry no current."""
        a, t = self.arrays, self._t_node
        live = np.flatnonzero(self.live)
        self.floating: list[Ints] = []
        if not len(live):
            return np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, np.complex128)
        i, j = t[a.t_row], t[a.t_col]
        inner = (i >= 0) & (j >= 0) & self._conductive
        d = a.demand
        p, q = a.node_of_key[d["key_p"]], a.node_of_key[d["key_q"]]
        legs = (p >= 0) & (q >= 0)
        zone = _components(a.n_node, np.r_[i[inner], p[legs]], np.r_[j[inner], q[legs]])
        kept = (i >= 0) & (j >= 0) & (zone[np.maximum(i, 0)] == zone[np.maximum(j, 0)])
        summed = np.zeros(a.n_node, np.complex128)
        np.add.at(summed, i[kept], a.t_y[kept])
        size = np.bincount(i[kept], np.abs(a.t_y[kept]), a.n_node)
        zones = int(zone.max()) + 1
        # Demand to earth (a phase without neutral) ties a part to earth as well.
        tied = np.bincount(zone, (np.abs(summed) > 1e-9 * np.maximum(size, 1e-30)), zones) > 0
        for other, end in ((q, p), (p, q)):
            tied[zone[end[(other == -1) & (end >= 0)]]] = True
        scale = np.zeros(zones)
        np.maximum.at(scale, zone, size)
        rows, cols, values = [], [], []
        for z in np.unique(zone[live]):
            members = live[zone[live] == z]
            if tied[z]:
                continue
            self.floating.append(members)
            placed = members[self._bus_of[members] >= 0]
            first = members[self._bus_of[members] == self._bus_of[placed[0]]] if len(placed) else members[:1]
            k, r, v = len(first), self.row[first], a.base_v[first]
            rows.append(np.repeat(r, k))
            cols.append(np.tile(r, k))
            values.append((np.outer(v, v) * max(scale[z], 1e-3) / k**2 / self.base_va).ravel().astype(np.complex128))
        if not rows:
            return np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, np.complex128)
        return np.concatenate(rows), np.concatenate(cols), np.concatenate(values)

    @cached_property
    def pins(self) -> tuple[Ints, Ints, Complexes]:
        """By node, in S: admittances that fix the mean voltage of a part that nothing ties to earth. They carry no current."""
        node = np.flatnonzero(self.live)
        rows, cols = node[self._pin_rows], node[self._pin_cols]
        base = self.arrays.base_v
        return rows, cols, np.asarray(self._pin_y * self.base_va / base[rows] / base[cols])

    @cached_property
    def _firm_entries(self) -> Bools:
        """Entries through which a node can be held: all but the coupling of parallel conductors."""
        a = self.arrays
        element = a.terminal["element"]
        if not len(element):
            return np.zeros(0, np.bool_)
        along = kinds_with("side_by_side")
        parallel = np.array([k in along for k in a.element_kind], np.bool_)[element[a.t_row]]
        conductor = a.terminal["conductor"]
        return np.asarray(~parallel | (conductor[a.t_row] == conductor[a.t_col]))

    @cached_property
    def _conductive(self) -> Bools:
        """Entries of the terminal matrix behind which there is metal: not the coupling of parallel conductors, nor that of
        windings on one limb."""
        a = self.arrays
        side, conductor, element = a.terminal["side"], a.terminal["conductor"], a.terminal["element"]
        if not len(element):
            return np.zeros(0, np.bool_)
        row, col = a.t_row, a.t_col
        windings = kinds_with("wound")
        wound = np.array([k in windings for k in a.element_kind], np.bool_)[element[row]]
        same_side = (side[row] == side[col]) & ((conductor[row] < 5) == (conductor[col] < 5))
        return np.asarray((~wound | same_side) & self._firm_entries)

    @cached_property
    def _bus_of(self) -> Ints:
        """The bus of each node, -1 of star points inside elements."""
        a = self.arrays
        found = np.full(a.n_node, -1, np.int64)
        for c in (3, 2, 1, 0):
            has = a.node[:, c] >= 0
            found[a.node[has, c]] = np.flatnonzero(has)
        return found

    def admittance(self, t_y: Complexes) -> None:
        """Take up terminal admittances (S): everything in the Jacobian that does not depend on voltages."""
        if self._t_y is not None and np.array_equal(t_y, self._t_y):
            return
        self._t_y = t_y.copy()
        a, t = self.arrays, self._t_node
        k = self._inside
        i, j = self.row[t[a.t_row[k]]], self.row[t[a.t_col[k]]]
        y = t_y[k] * self.base_v[i] * self.base_v[j] / self.base_va
        base = np.zeros(self.nnz)
        self._add(base, self._slot_y, y, np.zeros(len(y), np.complex128))
        self._add(base, self._slot_pin, self._pin_y, np.zeros(len(self._pin_y), np.complex128))
        for c in range(3):  # current of a machine into its phases
            self._add(base, self._slot_in[c], np.full(self.m, -_POSITIVE[c]), np.zeros(self.m, np.complex128))
        self._base, self.jacobian = base, base.copy()
        where = np.r_[i, self._pin_rows], np.r_[j, self._pin_cols]
        self._nodal = coo_array((np.r_[y, self._pin_y], where), shape=(self.n, self.n)).tocsr()
        # Currents cancel to no better than rounding of the largest of them; demanding more would never end.
        self._rounding = _ROUNDING * np.bincount(where[0], np.abs(np.r_[y, self._pin_y]), self.n)

    def _add(self, values: Floats, slots: Ints, alpha: Complexes, beta: Complexes) -> None:
        """Add entries whose current is α dV + β dV* to real values of the Jacobian."""
        add_entries(values, self._place, slots, alpha, beta)

    # Solution

    def solve(
        self, demands: Demands, options: UnbalancedOptions, last: tuple[Complexes, Complexes] | None
    ) -> tuple[Attempt, list[Attempt]]:
        """Try from the start asked for, then from others, then with demand that gives way at low voltage."""
        low = options.low_voltage_pu
        attempts: list[Attempt] = []
        if self.n == 0:
            nothing = Attempt(Ending.NOTHING_TO_SOLVE, np.zeros(0, np.complex128), np.zeros(0, np.complex128), 0, [], "", low,
                              np.zeros(0, np.complex128), demands.role)  # fmt: skip
            return nothing, [nothing]
        rungs: list[tuple[str, float]] = []
        if last is not None and options.start == "last":
            rungs.append(("last answer", low))
        rungs += [("no load", low), ("linear start", low)] if options.start == "flat" else [("linear start", low),
                                                                                            ("no load", low)]  # fmt: skip
        if not low:
            rungs += [("linear start, demand giving way", _FALLBACK_PU)]
        for name, threshold in rungs:
            try:
                start = last if name == "last answer" and last is not None else self._linear_start(
                    demands, loaded=not name.startswith("no load")
                )  # fmt: skip
                found = self._newton(demands, options, start, threshold, name)
            except SingularMatrix:
                nan = np.full(self.n, np.nan + 0j)
                found = Attempt(Ending.SINGULAR, nan, np.zeros(self.m, np.complex128), 0, [np.inf], name, threshold, nan,
                                demands.role)  # fmt: skip
            attempts.append(found)
            if found.converged and (name != "last answer" or self._plausible(found)):
                return found, attempts
        return min(attempts, key=lambda a: a.history[-1] if np.isfinite(a.history[-1]) else np.inf), attempts

    def _plausible(self, found: Attempt) -> bool:
        """An answer from the last one that is low somewhere is checked from scratch."""
        used = self.demand_used
        if not len(used):
            return True
        u = np.abs(self._across(found.v)) / (self.u_scale)
        return bool(np.min(u[~self.forced[used]], initial=1.0) > 0.6)

    def _across(self, v: Complexes) -> Complexes:
        """Voltage over each demand in use, V."""
        volts = np.append(v * self.base_v, 0.0)
        return np.asarray(volts[self.p] - volts[self.q])

    def _linear_start(self, demands: Demands, *, loaded: bool) -> tuple[Complexes, Complexes]:
        """One linear solution: sources as they are, demand as impedances or none, machines without current."""
        assert self.lu is not None
        used = self.demand_used
        v0 = np.zeros(self.n, np.complex128)
        values = self._base.copy()
        s = demands.nominal[used] if loaded else np.zeros(len(used), np.complex128)
        s = np.where(s.real > 0, s, np.where(self.forced[used], s, 0))
        y = np.conj(s)
        self._demand_blocks(values, y, np.zeros(len(y), np.complex128))
        rhs = np.zeros(2 * (self.n + self.m))
        rhs[0 : 2 * self.n : 2], rhs[1 : 2 * self.n : 2] = self._driven.real, self._driven.imag
        m = self.arrays.machine
        role = demands.role[self.leader]
        holds = np.isin(role, (SLACK_MACHINE, PV_MACHINE))
        # A machine that holds a voltage is a source at an angle of its own only when it is one.
        slack = role == SLACK_MACHINE
        self._machine_rows(values, slack, v0, np.zeros(self.m, np.complex128), linear=True)
        e = m["voltage"][self.leader] * np.exp(1j * m["angle"][self.leader])
        rhs[2 * self.n :: 2], rhs[2 * self.n + 1 :: 2] = np.where(slack, e.real, 0), np.where(slack, e.imag, 0)
        self.lu.factorise(values)
        x = self._answer(rhs)
        v = x[0 : 2 * self.n : 2] + 1j * x[1 : 2 * self.n : 2]
        i1 = x[2 * self.n :: 2] + 1j * x[2 * self.n + 1 :: 2]
        if np.any(holds & ~slack) or np.any(~holds):
            v1 = self.positive_voltage(v)
            s1 = demands.machine_p[self.leader] + 1j * demands.machine_q[self.leader]
            with np.errstate(divide="ignore", invalid="ignore"):
                i1 = np.where(slack, i1, np.where(np.abs(v1) > 1e-6, np.conj(s1 / v1), 0))
        return v, i1

    def positive_voltage(self, v: Complexes) -> Complexes:
        """Positive-sequence voltage of each leading machine."""
        padded = np.append(v, 0)
        return np.asarray((padded[self.abc] * np.conj(_POSITIVE)[:, None]).sum(axis=0) / 3)

    def _demand_blocks(self, values: Floats, alpha: Complexes, beta: Complexes) -> None:
        """Add dI of demand over (p, p), (p, q), (q, p), (q, q); α and β per unit of its own nominal voltage."""
        add_demand(values, self._place, self._slot_d, self.p, self.q, self.base_v, self.u_scale, alpha, beta)

    def _machine_rows(self, values: Floats, slack: Bools, v: Complexes, i1: Complexes, *, linear: bool = False,
                      pv: Bools | None = None, slope: Floats | None = None) -> None:  # fmt: skip
        """Rows of the machines. Source: V1. Power: V1 I1*. Voltage held: (P, |V1|²)."""
        zero = np.zeros(self.m, np.complex128)
        one = np.ones(self.m, np.complex128)
        third = np.conj(_POSITIVE) / 3
        v1 = self.positive_voltage(v)
        if linear:
            for c in range(3):
                self._add(values, self._slot_out[c], np.where(slack, third[c], 0) * one, zero)
            self._add(values, self._slot_own, np.where(slack, 0, one), zero)
            return
        assert pv is not None
        power = ~slack & ~pv
        # d(V1 I1*) = I1* dV1 + V1 dI1*; d|V1| = (V1* dV1 + V1 dV1*) / 2|V1|
        unit = v1 / np.maximum(np.abs(v1), 1e-9) * (-0.5j) * (slope if slope is not None else np.zeros(self.m))
        for c in range(3):
            own = (np.conj(i1) - np.conj(unit * 1j) * 1j) * third[c]
            alpha = np.where(slack, third[c], np.where(power, own, 0))
            self._add(values, self._slot_out[c], alpha, np.where(power, unit * np.conj(third[c]), 0))
        self._add(values, self._slot_own, zero, np.where(power, v1, 0))
        if np.any(pv):
            # The real row is Re(V1 I1*), the imaginary one |V1|².
            for c in range(3):
                used = pv & (self._slot_out[c] >= 0)
                place = self._place[:, self._slot_out[c][used]]
                k, w = (np.conj(i1) * third[c])[used], (2 * np.conj(v1) * third[c])[used]
                np.add.at(values, place[0], k.real)
                np.add.at(values, place[2], -k.imag)
                np.add.at(values, place[1], w.real)
                np.add.at(values, place[3], -w.imag)
            place = self._place[:, self._slot_own[pv]]
            np.add.at(values, place[0], v1[pv].real)
            np.add.at(values, place[2], v1[pv].imag)

    def demand_current(self, demands: Demands, v: Complexes, low: float) -> tuple[Complexes, Complexes, Complexes]:
        """Current of each demand in use per unit of S_base / u0, and its derivatives by voltage and its conjugate."""
        if self._conjugates[0] is not demands:
            used = self.demand_used
            forced = self.forced[used]
            z = np.conj(np.where(forced, demands.nominal[used], demands.impedance[used]))
            c = np.conj(np.where(forced, 0.0, demands.current[used]))
            s = np.conj(np.where(forced, 0.0, demands.power[used]))
            self._conjugates = demands, s, c, z
        _, s, c, z = self._conjugates
        i, alpha, beta = (np.empty(len(s), np.complex128) for _ in range(3))
        demand_currents(v, self.p, self.q, self.base_v, self.u_scale, s, c, z, low, i, alpha, beta)
        return i, alpha, beta

    def mismatch(self, demands: Demands, v: Complexes, i1: Complexes, current: Complexes) -> Complexes:
        """Current left over at every node, then what every machine lacks."""
        f = self._nodal @ v - self._driven
        draw(f, self.p, self.q, self.base_v, self.u_scale, current)
        for c in range(3):
            np.subtract.at(f, self.abc[c], i1 * _POSITIVE[c])
        m, lead = self.arrays.machine, self.leader
        v1, role = self.positive_voltage(v), demands.role[lead]
        p, q = self._shared(demands)
        q = q + demands.slope[lead] * np.abs(v1)
        e = m["voltage"][lead] * np.exp(1j * m["angle"][lead])
        s1 = v1 * np.conj(i1)
        g = np.where(role == SLACK_MACHINE, v1 - e, s1 - (p + 1j * q))
        g = np.where(role == PV_MACHINE, (s1.real - p) + 1j * (np.abs(v1) ** 2 - m["voltage"][lead] ** 2), g)
        return np.asarray(np.r_[f, g], np.complex128)

    def _shared(self, demands: Demands) -> tuple[Floats, Floats]:
        """Set power of each leading machine: its own, and that of those that hold the same voltage with it."""
        count = len(self.leader_of)
        both = (demands.machine_p, demands.machine_q)
        p, q = (
            np.asarray(np.bincount(self.leader_of, x, count)[self.leader] if count else x, np.float64) for x in both
        )
        return p, q

    def _newton(
        self, demands: Demands, options: UnbalancedOptions, start: tuple[Complexes, Complexes], low: float, rung: str
    ) -> Attempt:
        assert self.lu is not None
        v, i1 = start[0].copy(), start[1].copy()
        role = demands.role[self.leader]
        slack, pv = role == SLACK_MACHINE, role == PV_MACHINE
        most = options.max_iterations or _MOST_STEPS
        history: list[float] = []
        n = self.n
        current, alpha, beta = self.demand_current(demands, v, low)
        f = self.mismatch(demands, v, i1, current)
        polish = False
        ending = Ending.ITERATION_LIMIT
        for _ in range(most + 1):
            worst, met = self._worst(v, f, options.tolerance_pu)
            history.append(worst)
            if not np.isfinite(worst):
                break
            if met:
                # One step more costs little and leaves rounding only; it ends where it no longer helps.
                if polish or worst < 1e-13:
                    ending = Ending.CONVERGED
                    break
                polish = True
            values = self.jacobian
            np.copyto(values, self._base)
            self._demand_blocks(values, alpha, beta)
            self._machine_rows(values, slack, v, i1, pv=pv, slope=demands.slope[self.leader])
            # Old pivots are trusted while the mismatch falls; where it does not, they are looked at.
            if len(history) > 1 and not history[-1] < 0.5 * history[-2]:
                self.lu.factorise(values)
            else:
                self.lu.refactorise(values)
            rhs = np.empty(2 * len(f))
            rhs[0::2], rhs[1::2] = f.real, f.imag
            x = self._answer(rhs)
            dv, di = x[0 : 2 * n : 2] + 1j * x[1 : 2 * n : 2], x[2 * n :: 2] + 1j * x[2 * n + 1 :: 2]
            share, norm = 1.0, float(np.linalg.norm(f))
            for _ in range(_MOST_HALVINGS):
                v_new, i_new = v - share * dv, i1 - share * di
                if not np.max(np.abs(v_new), initial=0.0) < _RUNAWAY:
                    share /= 2
                    continue
                current, alpha, beta = self.demand_current(demands, v_new, low)
                f_new = self.mismatch(demands, v_new, i_new, current)
                if np.linalg.norm(f_new) < norm * (1 - 1e-4 * share) or polish or norm < 1e-10:
                    break
                share /= 2
            else:
                if not np.max(np.abs(v_new), initial=0.0) < _RUNAWAY:
                    break
            v, i1, f = v_new, i_new, f_new
        return Attempt(ending, v, i1, len(history) - 1, history, rung, low, f[:n], demands.role)

    def linear_response(self, demands: Demands, attempt: Attempt, rhs: Floats) -> Floats:
        """Solutions of the Jacobian at a solved state for several right-hand sides, (k, 2 (n + m)), real and interleaved."""
        assert self.lu is not None
        role = demands.role[self.leader]
        _, alpha, beta = self.demand_current(demands, attempt.v, attempt.low_voltage_pu)
        values = self._base.copy()
        self._demand_blocks(values, alpha, beta)
        self._machine_rows(values, role == SLACK_MACHINE, attempt.v, attempt.i1, pv=role == PV_MACHINE,
                           slope=demands.slope[self.leader])  # fmt: skip
        self.lu.factorise(values)
        return np.asarray(self._answer(rhs))

    def _worst(self, v: Complexes, f: Complexes, tolerance: float) -> tuple[float, bool]:
        """Largest mismatch (apparent power at a conductor at nominal voltage at least, per unit of base power), and
        whether all are within the tolerance or what rounding leaves."""
        nodes = np.abs(f[: self.n]) * np.maximum(np.abs(v), 1.0) / 3
        machines = np.abs(f[self.n :])
        met = bool(np.all(nodes < np.maximum(tolerance, self._rounding)) and np.all(machines < max(tolerance, 1e-14)))
        return float(max(np.max(nodes, initial=0.0), np.max(machines, initial=0.0))), met


def _components(n: int, rows: Ints, cols: Ints) -> Ints:
    if n == 0:
        return np.zeros(0, np.int64)
    graph = coo_array((np.ones(len(rows), np.int8), (rows, cols)), shape=(n, n))
    _, label = connected_components(graph, directed=False)
    return np.asarray(label, np.int64)


__all__ = ["Attempt", "Demands", "Problem"]
