"""A switched state solved where it changes, on top of one that is known: at the cost of the parts concerned, not of the whole.

A part that hangs on the rest by one branch is solved in full; the rest answers at the node it hangs on, as its Jacobian in
the known state says (a compensation at the boundary; Tinney, "Compensation methods for network solutions by optimally ordered
triangular factorization", IEEE Trans. PAS-91, 1972). The answer is then put into the equations of the whole network: where
these are not met the rest is corrected, and where that does not help, or a machine of the rest would meet a limit, there is none.
"""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass

import numpy as np

from ...electrical import BlockLU
from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...electrical.topology import components
from ...errors import SingularMatrix
from ._kernel import (
    PQ,
    PV,
    REF,
    flow_at_nodes,
    holds_as_it_is,
    lowest_share,
    mismatch,
    mismatch_and_jacobian,
    switch_types,
    take_step,
)
from ._options import LoadFlowOptions
from ._problem import NEAR, Problem, lower_of_two
from ._state import Attempt, Nodal, State
from ._without import Bridges

_LARGEST = 300  # nodes of a part that is solved in full; what hangs together with more belongs to the rest
_MOST_NODES, _MOST_HEADS = 900, 8
_MET = 1e-6  # of what flows at a node, left there
_MOVED = 1e-6  # step of an angle, rad, or of a voltage, relative, after which Newton's next would be nothing
_ROUNDING = 1e-13  # of the admittance at a node: what the last places of its voltage leave in its power
_STEPS, _ROUNDS = 14, 3
_ROUGH = 1e-4  # step that no longer falls for what rounding leaves of powers over joints
_LIMITS_FROM = 1e-3  # step after which limits of machines are looked at
_KEPT_BYTES = 64e6


@dataclass
class _Place:
    """Parts and nodes between which something may switch. ``nodes``: theirs, those of the rest that they hang on last (heads,
    ``n_head``); ``branches``: places of branches with an end inside, or between heads where they switch; ``slots``: of their
    entries and of the diagonal on the local pattern; ``own``: admittance to earth of every node inside, p.u.; ``base_power``,
    ``base_k``: what heads send inside in the known state, and how it moves with their voltages; ``z``: by how much the
    heads move, interleaved angle and voltage, per power drawn there, machines and sources in mind, inside included."""

    nodes: Ints
    n_head: int
    branches: Ints
    frm: Ints
    to: Ints
    indptr: Ints
    indices: Ints
    index: tuple[np.ndarray, ...]
    slots: Ints
    own: Complexes
    jacobian: Floats
    lu: BlockLU
    z: Floats
    base_k: Floats
    base_power: Floats


class Nearby:
    """``attempt``: the known state, solved with the live branches ``kept``; ``dead``: nodes without supply in it, (n,); ``y``:
    its nodal values, which this one makes its own; ``ports``: of every branch, (4, n_branch); ``joints``: live branches of hardly
    any reactance, whose ends begin alike. Not safe for several threads at once."""

    def __init__(
        self, problem: Problem, ports: Floats, y: Nodal, back: Ints, kept: Bools, joints: Bools, attempt: Attempt,
        dead: Bools, options: LoadFlowOptions,
    ) -> None:  # fmt: skip
        p, t = problem, attempt.targets
        self._problem, self._ports, self._kept, self._joints = p, ports, kept, joints
        self._back, self._y = back, y
        self._state, self._base_targets = attempt.state, t
        self._at_limit = attempt.at_limit
        self._type = np.where(attempt.at_limit != 0, PQ, t.node_type)
        self._q0 = t.q0 + np.where(attempt.at_limit > 0, t.q_high, np.where(attempt.at_limit < 0, t.q_low, 0.0))
        self._net = np.array([t.p0, t.q0, t.p1, t.q1, t.p2, t.q2, t.constant_p, t.constant_q])[None]
        self._held = np.flatnonzero(t.node_type == PV) if options.reactive_limits else np.zeros(0, np.int64)
        self._holds = np.zeros(p.n, np.bool_)
        self._holds[self._held] = True
        self._stiffness = y.stiffness
        self._low = options.low_voltage_pu
        live = p.pattern.live_branch
        flow, rounding = np.empty(p.n), np.empty(p.n)
        flow_at_nodes(p.branch_from, p.branch_to, live, y.two_ports, self._state.v, self._state.theta, y.g, y.b,
                      p.pattern.diagonal, flow, rounding)  # fmt: skip
        self._allowed = np.maximum(_MET * np.maximum(flow, 1e-3 * float(flow.mean())), _ROUNDING / 1e-14 * rounding)
        self._slack = 1e-9 * max(t.scale, 1.0)
        usual = p.flat_start(y, t)
        self._usual = np.where(t.node_type == PQ, usual.v, t.voltage)
        # What a node has to earth by itself: of its own admittance what no branch brings.
        own = y.g[p.pattern.diagonal] + 1j * y.b[p.pattern.diagonal]
        ff, tt = ports[0, live], ports[3, live]
        for at, part in ((p.branch_from, np.where(kept, ff, 0)), (p.branch_to, np.where(kept, tt, 0))):
            own -= np.bincount(at, part.real, p.n) + 1j * np.bincount(at, part.imag, p.n)
        self._own: Complexes = own
        self._f, self._p, self._q = np.empty(2 * p.n), np.empty(p.n), np.empty(p.n)
        self._sources: Bools = (t.node_type == REF) & ~dead
        self._find_parts(self._sources)
        self._lu = BlockLU(p.pattern.indptr, p.pattern.indices)
        jac = np.empty_like(p.jacobian)
        self._fill(self._state, self._type, jac)
        self._lu.factorise(jac)
        self._places: OrderedDict[bytes, _Place | None] = OrderedDict()
        self._columns: OrderedDict[int, Floats] = OrderedDict()

    def _find_parts(self, reference: Bools) -> None:
        """The largest part that each node hangs in by one branch, where it is small enough."""
        p, kept = self._problem, np.flatnonzero(self._kept)
        # Searched from the sources on, so that what is behind a bridge is what it feeds.
        order = np.argsort(~reference, kind="stable")
        label = np.empty(p.n, np.int64)
        label[order] = np.arange(p.n)
        bridges = Bridges.of(p.n, label[p.branch_from[kept]], label[p.branch_to[kept]])
        size = bridges.end - bridges.begin + 1
        place = bridges.first[label]
        fits = np.flatnonzero((bridges.begin >= 0) & (size <= _LARGEST))
        # Parts lie within each other or apart, so that a larger one written later covers those within.
        part_at = np.full(p.n + 2, -1)
        for k in fits[np.argsort(size[fits], kind="stable")].tolist():
            part_at[bridges.begin[k] : bridges.end[k] + 1] = k
        self._part: Ints = part_at[place]
        edge = kept[np.maximum(self._part, 0)]
        inside = self._part[p.branch_from[edge]] == self._part
        self._head: Ints = np.where(inside, p.branch_to[edge], p.branch_from[edge])
        fed = np.zeros(int(bridges.part.max(initial=0)) + 1, np.bool_)
        fed[bridges.part[label[reference]]] = True
        self._fed: Bools = fed[bridges.part[label]]
        by = np.argsort(self._part, kind="stable")
        self._by_part, self._sorted_part = by, self._part[by]
        ends = np.r_[p.branch_from, p.branch_to]
        self._at_node = np.argsort(ends, kind="stable")
        self._at_start = np.searchsorted(ends[self._at_node], np.arange(p.n + 1))

    def solve(self, kept: Bools) -> tuple[State, Bools] | None:
        """Voltages with the live branches ``kept``, (n_live_branch,), and which nodes have no supply then, (n,). None: it can't
        be told from here."""
        p = self._problem
        toggled = np.flatnonzero(kept != self._kept)
        ends = np.unique(np.r_[p.branch_from[toggled], p.branch_to[toggled]])
        if not len(toggled):
            return self._state.copy(), ~self._fed
        if not np.all(self._fed[ends]):
            return None
        part = self._part
        away = toggled[~kept[toggled]]
        if np.any((part[p.branch_from[away]] < 0) & (part[p.branch_to[away]] < 0)):
            return None  # the rest itself comes apart
        parts = np.unique(part[ends])
        parts = parts[parts >= 0]
        heads = ends[part[ends] < 0]
        between = toggled[(part[p.branch_from[toggled]] < 0) & (part[p.branch_to[toggled]] < 0)]
        place = self._place(parts, heads, between)
        if place is None:
            return None
        try:
            return self._solved(place, kept, toggled)
        except SingularMatrix:
            return None

    def _place(self, parts: Ints, heads: Ints, between: Ints) -> _Place | None:
        key = parts.tobytes() + b"|" + heads.tobytes() + b"|" + between.tobytes()
        if key in self._places:
            self._places.move_to_end(key)
            return self._places[key]
        found = self._places[key] = self._made(parts, heads, between)
        if len(self._places) > 64:
            self._places.popitem(last=False)
        return found

    def _made(self, parts: Ints, heads: Ints, between: Ints) -> _Place | None:
        p = self._problem
        first, last = (np.searchsorted(self._sorted_part, parts, side=s) for s in ("left", "right"))
        inner = np.concatenate(
            [self._by_part[a:b] for a, b in zip(first, last, strict=True)] or [np.zeros(0, np.int64)]
        )
        heads = np.unique(np.r_[heads, self._head[self._by_part[first]]]).astype(np.int64)
        if len(inner) > _MOST_NODES or len(heads) > _MOST_HEADS:
            return None
        nodes = np.r_[inner, heads]
        spans = [self._at_node[self._at_start[k] : self._at_start[k + 1]] for k in inner.tolist()]
        branches = np.unique(np.concatenate([*spans, np.zeros(0, np.int64)]) % len(p.branch_from)).astype(np.int64)
        # Of what a switch that is open now would join to somewhere else nothing is known here.
        where = np.full(p.n, -1)
        where[nodes] = np.arange(len(nodes))
        branches = branches[(where[p.branch_from[branches]] >= 0) & (where[p.branch_to[branches]] >= 0)]
        branches = np.r_[branches, between]
        f, t, m = where[p.branch_from[branches]], where[p.branch_to[branches]], len(nodes)
        every = np.arange(m)
        keys = np.unique(np.r_[f, t, f, t, every] * m + np.r_[f, f, t, t, every])
        indptr, indices = np.searchsorted(keys, np.arange(m + 1) * m).astype(np.int64), (keys % m).astype(np.int64)
        # Entries by columns and by rows have the same places, as the pattern is symmetric: what stands here is (row, column).
        keys_by_row = np.r_[f, f, t, t, every] * m + np.r_[f, t, f, t, every]
        slots = np.searchsorted(keys, keys_by_row)
        index = tuple(a.astype(np.uint32) for a in (indptr, indices, slots[4 * len(branches) :]))
        own = self._own[nodes].copy()
        own[len(inner) :] = 0
        rows = _both(heads)
        z = np.concatenate([self._column(h)[:, rows] for h in heads.tolist()]).T.copy()
        place = _Place(
            nodes, len(heads), branches, f, t, indptr, indices, index, slots[: 4 * len(branches)], own,
            np.empty(4 * len(indices)), BlockLU(indptr, indices), z, np.zeros(0), np.zeros(0),
        )  # fmt: skip
        local = _Local(self, place, self._kept[branches], np.zeros(m, np.bool_), self._state)
        try:
            place.base_power, place.base_k = local.power(), local.linearised()[2]
        except SingularMatrix:
            return None
        return place

    def _column(self, head: int) -> Floats:
        """How all angles and voltages answer to power drawn at a node, active and reactive, (2, 2n)."""
        if head in self._columns:
            self._columns.move_to_end(head)
            return self._columns[head]
        found = np.zeros((2, 2 * self._problem.n))
        kind = self._type[head]
        for k in range(0 if kind == REF else 1 if kind == PV else 2):
            rhs = np.zeros(2 * self._problem.n)
            rhs[2 * head + k] = 1.0
            found[k] = self._lu.solve(rhs)
        self._columns[head] = found
        while len(self._columns) * found.nbytes > _KEPT_BYTES and len(self._columns) > 2 * _MOST_HEADS:
            self._columns.popitem(last=False)
        return found

    def _answer(self, heads: Ints, drawn: np.ndarray) -> Floats:
        """By how much all angles and voltages fall for power drawn at heads, active and reactive interleaved, (2n,)."""
        found = np.zeros(2 * self._problem.n)
        for k, head in enumerate(heads.tolist()):
            found += drawn[2 * k : 2 * k + 2] @ self._column(head)
        return found

    def _solved(self, place: _Place, kept: Bools, toggled: Ints) -> tuple[State, Bools] | None:
        p, m, h = self._problem, len(place.nodes), place.n_head
        on = kept[place.branches]
        dead_here = self._dead(place, on)
        local = _Local(self, place, on, dead_here, self._state)
        local.begin_alike(self._joints[place.branches] & on, place.frm, place.to)
        dead = ~self._fed
        dead[place.nodes] = dead_here
        node_type, at_limit, q0 = np.where(dead, REF, self._type), self._at_limit.copy(), self._q0.copy()
        heads = place.nodes[m - h :]
        allowed = np.where(dead, np.inf, self._allowed)
        closing = toggled[kept[toggled]]
        for port, at in ((0, p.branch_from[closing]), (3, p.branch_to[closing])):
            np.maximum.at(allowed, at, _ROUNDING * np.abs(self._ports[port, p.pattern.live_branch[closing]]))
        # By how much heads move per power drawn there, what hangs on them left out.
        inner = np.eye(2 * h) - place.base_k @ place.z
        z = place.z @ np.linalg.inv(inner)
        rest = self._state
        for _ in range(_ROUNDS):
            if not local.settle(place, _interleaved(rest, heads), z):
                return None
            drawn = np.linalg.solve(inner, local.power() - place.base_power)
            state = rest.copy()
            take_step(state.theta, state.v, -self._answer(heads, drawn), 1.0)
            inside = place.nodes[: m - h]
            state.theta[inside], state.v[inside] = local.theta[: m - h], local.v[: m - h]
            where_dead = inside[dead_here[: m - h]]
            state.theta[where_dead], state.v[where_dead] = self._state.theta[where_dead], self._state.v[where_dead]
            state.theta[heads], state.v[heads] = local.theta[m - h :], local.v[m - h :]
            node_type[inside], at_limit[inside], q0[inside] = (
                x[: m - h] for x in (local.node_type, local.at_limit, local.q0)
            )
            self._patched(state, node_type, q0, toggled)
            left = np.maximum(np.abs(self._f[0::2]), np.abs(self._f[1::2]))
            if bool(np.all(left <= allowed)):
                return (state, dead) if self._stands(state, dead, node_type, at_limit, local, place, z) else None
            # What the rest still lacks moves it as it would with the parts as they were; that they are not is put right.
            self._f[_both(inside)] = 0.0
            step = self._lu.solve(np.negative(self._f))
            at = _both(heads)
            step += self._answer(heads, np.linalg.solve(inner, place.base_k @ step[at]))
            rest = rest.copy()
            take_step(rest.theta, rest.v, step, 1.0)
        return None

    def _stands(
        self, state: State, dead: Bools, node_type: Ints, at_limit: Ints, local: _Local, place: _Place, z: Floats
    ) -> bool:
        """Whether the conditions of all machines are met, and it is not the lower of two answers."""
        t, met = self._base_targets, np.ones(1, np.bool_)
        holds_as_it_is(
            state.v[None], self._q[None], self._net, self._held[~dead[self._held]], t.q_low, t.q_high, t.voltage, node_type,
            at_limit, self._slack, self._usual, 0.0, self._low, met,
        )  # fmt: skip
        lowest = float(lowest_share(state.v, node_type, self._usual, t.voltage))
        near = float(np.max(np.abs(state.v - self._state.v))) < NEAR
        told = lower_of_two(lowest, limited=bool(np.any(at_limit)), near=near)
        return bool(met[0]) and not (local.turned_over(place, z) if told is None else told)

    def _dead(self, place: _Place, on: Bools) -> Bools:
        m = len(place.nodes)
        count, part = components(m, place.frm[on], place.to[on])
        fed = np.zeros(count, np.bool_)
        fed[part[m - place.n_head :]] = True
        fed[part[self._sources[place.nodes]]] = True
        return np.asarray(~fed[part])

    def _fill(self, s: State, node_type: Ints, jac: Floats) -> None:
        t, (indptr, indices, diagonal), (g, b) = self._base_targets, self._problem.index, self._y.by_rows
        mismatch_and_jacobian(indptr, indices, diagonal, g, b, s.theta, s.v, t.p0, self._q0, t.p1, t.q1, t.p2, t.q2, node_type,
                              self._f, jac, self._p, self._q)  # fmt: skip

    def _patched(self, s: State, node_type: Ints, q0: Floats, toggled: Ints) -> None:
        """The mismatch of the whole with some branches the other way."""
        pattern, (g, b) = self._problem.pattern, self._y.by_rows
        count = len(pattern.live_branch)
        sign = np.where(self._kept[toggled], -1.0, 1.0)
        at = [self._back[pattern.slots[k * count + toggled]] for k in range(4)]
        every = np.unique(np.concatenate(at))
        before = g[every], b[every]
        for k in range(4):
            change = sign * self._ports[k, pattern.live_branch[toggled]]
            np.add.at(g, at[k], change.real)
            np.add.at(b, at[k], change.imag)
        t = self._base_targets
        indptr, indices, *_ = self._problem.index
        mismatch(indptr, indices, g, b, s.theta, s.v, t.p0, q0, t.p1, t.q1, t.p2, t.q2, node_type, self._f,
                 self._p, self._q)  # fmt: skip
        g[every], b[every] = before


class _Local:
    """The equations of a place in one state of its switches, heads with what they send inside."""

    def __init__(self, near: Nearby, place: _Place, on: Bools, dead: Bools, state: State) -> None:
        nodes, m, h = place.nodes, len(place.nodes), place.n_head
        t = near._base_targets
        self._place, self._h = place, h
        rows = near._problem.pattern.live_branch[place.branches]
        values = np.where(on, near._ports[:, rows], 0).ravel()
        nnz = len(place.indices)
        at = place.index[2].astype(np.int64)
        self._g: Floats = np.bincount(place.slots, values.real, nnz).astype(np.float64)
        self._b: Floats = np.bincount(place.slots, values.imag, nnz).astype(np.float64)
        self._g[at] = self._g[at] + place.own.real
        self._b[at] = self._b[at] + place.own.imag
        self._net = np.array([t.p0[nodes], near._q0[nodes], t.p1[nodes], t.q1[nodes], t.p2[nodes], t.q2[nodes]])
        self._net[:, m - h :] = 0.0
        self.node_type = np.where(dead, REF, near._type[nodes])
        self.node_type[m - h :] = PQ
        # Machines inside may meet a limit or come back from one; what ``q0`` is without, and what stays as it is.
        held = np.flatnonzero(near._holds[nodes] & ~dead)
        self._machines = held[held < m - h]
        self.at_limit = near._at_limit[nodes].copy()
        limits = t.q_low, t.q_high, t.voltage, near._stiffness
        self._limits = (t.q0[nodes], self._net[3], self._net[5], *(x[nodes] for x in limits))
        self._returns, self._slack = np.zeros(m, np.int64), near._slack
        self.theta, self.v = state.theta[nodes].copy(), state.v[nodes].copy()
        self._voltage = t.voltage[nodes]
        self._f, self._p, self._q = np.empty(2 * m), np.empty(m), np.empty(m)
        starts = place.indptr
        self._columns = [_both(place.indices[starts[i] : starts[i + 1]]) for i in range(m - h, m)]
        self._evaluate()

    def begin_alike(self, joints: Bools, frm: Ints, to: Ints) -> None:
        """Where two ends are joined they begin alike: over so small a reactance any difference would carry far too much."""
        count, group = components(len(self.v), frm[joints], to[joints])
        many = np.bincount(group, minlength=count)
        held = self.node_type == PV
        reference = self.node_type == REF
        theta, v = (np.bincount(group, x, count)[group] / many[group] for x in (self.theta, self.v))
        self.theta = np.where(reference, self.theta, theta)
        self.v = np.where(held | reference, self.v, v)
        self._evaluate()

    def _evaluate(self) -> None:
        p0, q0, p1, q1, p2, q2 = self._net
        indptr, indices, diagonal = self._place.index
        mismatch_and_jacobian(indptr, indices, diagonal, self._g, self._b, self.theta, self.v, p0, q0, p1, q1, p2, q2,
                              self.node_type, self._f, self._place.jacobian, self._p, self._q)  # fmt: skip

    @property
    def q0(self) -> Floats:
        q0: Floats = self._net[1]
        return q0

    def _switch(self) -> bool:
        q0, q1, q2, low, high, voltage, stiffness = self._limits
        if not len(self._machines):
            return False
        return bool(
            switch_types(
                self.v, self._q, self._machines, q0, q1, q2, low, high, voltage, stiffness, self.node_type, self._net[1],
                self.at_limit, self._returns, self._slack, True,
            )
        )  # fmt: skip

    def power(self) -> Floats:
        """What heads send inside, active and reactive interleaved, p.u."""
        m, h = len(self.v), self._h
        return np.ravel(np.column_stack([self._p[m - h :], self._q[m - h :]]))

    def linearised(self) -> tuple[Floats, Floats, Floats, Floats]:
        """At the voltages evaluated last: step of all unknowns with heads held; how they follow each unknown of a head, (2h, 2m);
        how the power of heads moves with their unknowns, (2h, 2h), and with that step, (2h,). Raises ``SingularMatrix``."""
        place, h, m = self._place, self._h, len(self.v)
        jac, heads = place.jacobian, []
        for i, columns in zip(range(m - h, m), self._columns, strict=True):
            first, count = int(place.indptr[i]), len(columns)
            span = slice(4 * first, 4 * first + 2 * count)
            heads.append((jac[span].reshape(2, count).copy(), columns))
            jac[span] = 0.0
            own = 2 * (first + int(place.index[2][i]))
            jac[own] = jac[own + count + 1] = 1.0
        place.lu.factorise(jac)
        rhs = np.negative(self._f)
        rhs[2 * (m - h) :] = 0.0
        step = place.lu.solve(rhs)
        follow = np.zeros((2 * h, 2 * m))
        for k in range(2 * h):
            follow[k, 2 * (m - h) + k] = 1.0
            follow[k] = place.lu.solve(follow[k])
        moved = np.concatenate([rows @ follow[:, columns].T for rows, columns in heads])
        alone = np.concatenate([rows @ step[columns] for rows, columns in heads])
        return step, follow, moved, alone

    def turned_over(self, place: _Place, z: Floats) -> bool:
        """Whether the determinant of the Jacobian is negative, that of the rest as it was. Raises ``SingularMatrix``."""
        k = self.linearised()[2]
        return place.lu.determinant_sign() * float(np.linalg.det(np.eye(2 * self._h) + z @ k)) < 0

    def settle(self, place: _Place, given: Floats, z: Floats) -> bool:
        """Newton's steps until they are next to nothing; ``given``: what heads would stand at if they sent what they did."""
        m, h, before = len(self.v), self._h, np.inf
        for _ in range(_STEPS):
            try:
                step, follow, k, alone = self.linearised()
            except SingularMatrix:
                return False
            # Heads stand where the rest lets them: x = given - Z (power - what it was).
            now = np.ravel(np.column_stack([self.theta[m - h :], np.log(self.v[m - h :])]))
            rhs = given - now - z @ (self.power() - place.base_power + alone)
            move = np.linalg.solve(np.eye(2 * h) + z @ k, rhs)
            step = step + move @ follow
            if not np.all(np.isfinite(step)):
                return False
            take_step(self.theta, self.v, step, 1.0)
            held = self.node_type == PV
            self.v[held] = self._voltage[held]
            self._evaluate()
            moved = float(np.max(np.abs(step), initial=0.0))
            if moved < _LIMITS_FROM and self._switch():
                self._evaluate()
                before = np.inf
            elif moved < _MOVED or (moved < _ROUGH and moved > before / 4):
                return True
            before = moved
        return False


def _interleaved(state: State, nodes: Ints) -> Floats:
    return np.ravel(np.column_stack([state.theta[nodes], np.log(state.v[nodes])]))


def _both(nodes: Ints) -> Ints:
    """Rows of the two unknowns of nodes."""
    return np.ravel(np.column_stack([2 * nodes, 2 * nodes + 1]))
