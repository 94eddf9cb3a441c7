"""The optimal power flow as equations: exact, in polar form, on the compiled arrays of the load flow.

Unknown in every state, per unit: angle and voltage of every node, active and reactive power of every machine, and as far as they
may move turns and shifts of branches, steps of banks and shares of demand shed. At every node

    sum of machines - demand(V) - Re, Im of V conj(Y V) = 0,

at both ends of branches |I|² or |S|² over the square of its limit at most one, linear rows and powers through interfaces within
bounds, everything else between bounds; linear rows couple several states. A branch whose turns move is taken between two nodes of
its own, behind ideal ratios. Over a short line hardly any voltage drops: its series current is an unknown of its own, with
V_from - V_to = z I, so that nothing large is left in the equations. Solved by an interior-point method with exact first and
second derivatives (IPOPT through CasADi: Wächter, Biegler, Math. Programming 106, 2006).

The expression is built once for what the equations are made of; demand, costs and limits of branches are parameters, all other
limits bounds, so that the next solution with other ones is without building anything.

The elastic problem has the same equations and lets every limit be exceeded at a price of one per unit of it. The least sum is
sought: what it exceeds is a smallest relaxation with which there is an answer.
"""

from __future__ import annotations

import hashlib
import itertools
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ...electrical.arrays import Floats, Ints
from ..rows import Rows
from ._grid import NAMES, Grid, Interfaces, Limits, Optimum, Soft, State

Progress = Callable[[float, str], None]
_MOST_ITERATIONS = 300
_KEPT = 4
_LEAST_V = 0.05
_IPOPT: dict[str, Any] = {
    "print_level": 0, "sb": "yes", "tol": 1e-10, "constr_viol_tol": 1e-10, "compl_inf_tol": 1e-9, "dual_inf_tol": 1e-7,
    "max_iter": _MOST_ITERATIONS, "bound_relax_factor": 0.0, "acceptable_tol": 1e-8, "mumps_pivot_order": 5,  # METIS
}  # fmt: skip
_WAYS: dict[str, dict[str, Any]] = {
    "cold": {"mu_strategy": "adaptive", "mu_oracle": "loqo"},  # of those tried the fewest steps at 118 to 3,000 buses
    "stubborn": {"mu_strategy": "adaptive"},
    "warm": {"mu_strategy": "monotone", "mu_init": 1e-5, "warm_start_init_point": "yes", "warm_start_bound_push": 1e-7,
             "warm_start_mult_bound_push": 1e-7, "warm_start_slack_bound_push": 1e-7},
}  # fmt: skip


def solve(
    states: Sequence[State],
    progress: Progress,
    coupling: Rows | None = None,
    soft: Soft | None = None,
    *,
    warm: bool = False,
) -> list[Optimum]:
    """Solve one state or several at once. ``coupling``: linear rows over the unknowns of all states, one after another.
    ``warm``: from the last answer to the same equations. Raises what ``progress`` raises."""
    soft = soft or Soft()
    program = _program(states, coupling or Rows(), soft)
    with program.lock:
        if warm and program.last is not None:
            found = program.run(states, coupling or Rows(), progress, "warm", soft)
            if found[0].found:
                return found
        # The elastic problem is solved by the other way in a fraction of the steps.
        first, second = ("stubborn", "cold") if soft.all else ("cold", "stubborn")
        found = program.run(states, coupling or Rows(), progress, first, soft)
        if not found[0].found:
            found = program.run(states, coupling or Rows(), progress, second, soft)
        return found


_programs: OrderedDict[bytes, Program] = OrderedDict()
_programs_lock = threading.Lock()


def _program(states: Sequence[State], coupling: Rows, soft: Soft) -> Program:
    """The equations of these states: those built before, where they are made of the same."""
    key = _key(states, coupling, soft)
    with _programs_lock:
        known = _programs.pop(key, None)
        if known is None:
            known = Program(states, coupling, soft)
        _programs[key] = known
        while len(_programs) > _KEPT:
            _programs.popitem(last=False)
        return known


def _key(states: Sequence[State], coupling: Rows, soft: Soft) -> bytes:
    digest = hashlib.blake2b(digest_size=16)
    digest.update(repr((len(states), soft)).encode())
    made_of: list[Any] = [coupling.row, coupling.col, coupling.value]
    for s in states:
        g, mv, lim, rows, sets = s.grid, s.grid.moving, s.limits, s.limits.rows, s.limits.interfaces
        digest.update(repr((lim.power, s.layout)).encode())
        made_of += [g.row, g.col, g.y, g.frm, g.to, g.ports, g.at]
        made_of += list(stiff_of(g, lim))
        made_of += [mv.turn_branch, mv.turn_side, mv.bank_at, mv.bank_y, mv.shed_at]
        made_of += [rows.row, rows.col, rows.value, rows.low == rows.high, sets.which, sets.branch, sets.sign]
        bounds = (
            lim.most_from,
            lim.most_to,
            lim.rated,
            lim.v_low,
            lim.v_high,
            lim.p_low,
            lim.p_high,
            lim.q_low,
            lim.q_high,
        )
        made_of += [np.isfinite(x) for x in bounds]
    for a in made_of:
        digest.update(f"{a.shape}".encode() + np.ascontiguousarray(a).tobytes())
    return digest.digest()


_DROP = 1e-3  # p.u. at the limit of a branch, or at 1 p.u. where it has none, below which it is short
_WEIGHT = 1e3  # most by which the drop of a short line is weighed: rounding stays below the tolerance


def stiff_of(grid: Grid, limits: Limits) -> tuple[Ints, Floats]:
    """Branches over which hardly any voltage drops, and the size of their currents, p.u.; none that shifts or moves."""
    ft, tf = grid.ports[1], grid.ports[2]
    most = np.minimum(limits.most_from, limits.most_to)
    size = np.where(np.isfinite(most) & (most > 0), most, 1.0)
    # In a network of low voltage a limit in amperes is as little of the base as the admittance is much.
    short = (np.abs(ft) * _DROP > size) & (np.abs(ft - tf) <= 1e-12 * np.abs(ft))
    short[grid.moving.turn_branch] = False
    chosen = np.flatnonzero(short)
    return chosen, size[chosen]


class _Block:
    """Expressions of one state, and where its constraints and slacks lie."""

    def __init__(self, ca: Any, state: State, soft: Soft) -> None:
        g, lim, mv = state.grid, state.limits, state.grid.moving
        lay = state.layout
        n, m, turns = g.n, len(g.at), len(mv.turn_branch)
        self.x = ca.MX.sym("x", lay.size)
        theta, v, p, q, turn, shift, bank, shed, _ = (self.x[lay.place(name)] for name in NAMES)
        self.load, self.shed_load = ca.MX.sym("load", 6 * n), ca.MX.sym("shed", 6 * lay.sheds)
        self.linear, self.square = ca.MX.sym("linear", lay.size), ca.MX.sym("square", lay.size)
        self.scalars = ca.MX.sym("scalars", 3)  # price of losses, fixed cost, weight
        e, h = v * ca.cos(theta), v * ca.sin(theta)
        self.stiff, self.stiff_size = stiff_of(g, lim)
        short, f, t = self.stiff, g.frm[self.stiff], g.to[self.stiff]
        series = -g.ports[1, short]
        row, col = np.r_[g.row, f, t, f, t], np.r_[g.col, f, t, t, f]
        y = np.r_[g.y, -series, -series, series, series]
        conductance, susceptance = (_sparse(ca, row, col, part, n, n) for part in (y.real, y.imag))
        i_e, i_h = conductance @ e - susceptance @ h, conductance @ h + susceptance @ e
        self.along = ca.MX.sym("along", 2 * len(short))  # series currents of short lines, over their size
        j_e, j_h = self.along[: len(short)] * self.stiff_size, self.along[len(short) :] * self.stiff_size
        drops = ca.MX(0, 1)
        if len(short):
            where = np.arange(len(short))
            ends = _sparse(
                ca, np.r_[f, t], np.r_[where, where], np.r_[np.ones(len(f)), -np.ones(len(t))], n, len(short)
            )
            i_e, i_h = i_e + ends @ j_e, i_h + ends @ j_h
            z, weight_ = 1 / series, ca.DM(np.minimum(np.abs(series) / self.stiff_size, _WEIGHT))
            r, x = ca.DM(z.real), ca.DM(z.imag)
            d_e, d_h = ends.T @ e - (r * j_e - x * j_h), ends.T @ h - (r * j_h + x * j_e)
            drops = ca.vertcat(weight_ * d_e, weight_ * d_h)
        self._series = {k: number for number, k in enumerate(short.tolist())}
        self._j = j_e, j_h
        machines = _sparse(ca, g.at, np.arange(m), np.ones(m), n, m)
        part = [self.load[j * n : (j + 1) * n] for j in range(6)]
        drawn_p, drawn_q = part[0] + part[2] * v + part[4] * v**2, part[1] + part[3] * v + part[5] * v**2
        if lay.sheds:
            at = v[mv.shed_at.tolist()]
            own = [self.shed_load[j * lay.sheds : (j + 1) * lay.sheds] for j in range(6)]
            there = _sparse(ca, mv.shed_at, np.arange(lay.sheds), np.ones(lay.sheds), n, lay.sheds)
            drawn_p += there @ ((own[0] + own[2] * at + own[4] * at**2) * (1 - shed))
            drawn_q += there @ ((own[1] + own[3] * at + own[5] * at**2) * (1 - shed))
        taken_p, taken_q = e * i_e + h * i_h + drawn_p, h * i_e - e * i_h + drawn_q
        if lay.banks:
            at2 = v[mv.bank_at.tolist()] ** 2 * bank
            there = _sparse(ca, mv.bank_at, np.arange(lay.banks), np.ones(lay.banks), n, lay.banks)
            taken_p += there @ (at2 * ca.DM(mv.bank_y.real))
            taken_q -= there @ (at2 * ca.DM(mv.bank_y.imag))
        # Terminals of branches: the nodes, and behind the turns of those that move two more each.
        self.v_of, scale = v, ca.MX.ones(n)
        self.near, self.far = g.frm.copy(), g.to.copy()
        if turns:
            k = mv.turn_branch
            side = [ca.DM((mv.turn_side == s).astype(float)) for s in (0, 1)]
            ratio = [1 + s * (turn - 1) for s in side]
            u_f, u_t = v[g.frm[k].tolist()] / ratio[0], v[g.to[k].tolist()] / ratio[1]
            a_f, a_t = theta[g.frm[k].tolist()] - shift, theta[g.to[k].tolist()]
            e = ca.vertcat(e, u_f * ca.cos(a_f), u_t * ca.cos(a_t))
            h = ca.vertcat(h, u_f * ca.sin(a_f), u_t * ca.sin(a_t))
            self.v_of, scale = ca.vertcat(v, u_f, u_t), ca.vertcat(scale, *ratio)
            self.near[k], self.far[k] = n + np.arange(turns), n + turns + np.arange(turns)
        self.e, self.h, self.grid, self.ca = e, h, g, ca
        if turns:
            for side_, ends in ((0, g.frm[k]), (1, g.to[k])):
                p_in, q_in = self.power(k, side_)
                there = _sparse(ca, ends, np.arange(turns), np.ones(turns), n, turns)
                taken_p += there @ p_in
                taken_q += there @ q_in
        balance = ca.vertcat(taken_p - machines @ p, taken_q - machines @ q)
        most = np.r_[lim.most_from, lim.most_to]
        self.bounded = np.flatnonzero(np.isfinite(most))
        self.most = ca.MX.sym("most", len(self.bounded))
        flows = ca.MX(0, 1)
        if len(self.bounded):
            flows = ca.vertcat(*(self.size(s, scale, lim.power) for s in (0, 1)))[self.bounded.tolist()]
        self.round = np.flatnonzero(np.isfinite(lim.rated)).tolist()
        within = p[self.round] ** 2 + q[self.round] ** 2 if self.round else ca.MX(0, 1)
        rows = _rows(ca, lim.rows, lay.size) @ self.x if len(lim.rows) else ca.MX(0, 1)
        through = self._through(lim.interfaces) if len(lim.interfaces.low) else ca.MX(0, 1)
        price, fixed, weight = self.scalars[0], self.scalars[1], self.scalars[2]
        spent = (
            ca.dot(self.linear, self.x)
            + ca.dot(self.square, self.x**2)
            + price * (ca.sum1(p) - ca.sum1(drawn_p))
            + fixed
        )
        # What may be exceeded.
        places = np.arange(lay.size)
        bounded_x = {"v": np.isfinite(lim.v_low) | np.isfinite(lim.v_high), "p": np.isfinite(lim.p_low) | np.isfinite(lim.p_high),
                     "q": np.isfinite(lim.q_low) | np.isfinite(lim.q_high)}  # fmt: skip
        names = ("v", "p", "q") if soft.all else ("v",) if np.isfinite(soft.v) else ()
        chosen = [places[lay.place(name)][bounded_x[name]] for name in names]
        self.soft_x = np.concatenate(chosen) if chosen else np.zeros(0, np.int64)
        self.soft_ends = soft.all or bool(np.isfinite(soft.ends))
        self.soft_rows = np.flatnonzero(lim.rows.low < lim.rows.high) if soft.all else np.zeros(0, np.int64)
        self.soft_through = len(lim.interfaces.low) if soft.all else 0
        # Both ends of a branch share what it is exceeded by.
        self.soft_branches, self.beyond_at = np.unique(self.bounded % max(len(g.frm), 1), return_inverse=True)
        s, r, w = len(self.soft_x), len(self.soft_rows), self.soft_through
        k_ = len(self.soft_branches) if self.soft_ends else 0
        self.slacks = ca.MX.sym("slack", 2 * s + k_ + 2 * r + 2 * w)
        cut = np.cumsum([0, s, s, k_, r, r, w, w])
        under, above, beyond, r_under, r_above, w_under, w_above = (
            self.slacks[a:b] for a, b in itertools.pairwise(cut)
        )
        self.slack_cuts = cut
        ends = np.arange(len(self.beyond_at))
        of_branch = (
            _sparse(ca, ends, self.beyond_at, np.ones(len(ends)), len(ends), max(k_, 1)) if k_ else ca.MX(len(ends), 0)
        )
        # As shares of the limit where that must hold: at low voltage its square is as little as the tolerance. What may be
        # exceeded is measured as it is: a share of little would draw towards where everything is exceeded.
        flows = flows - (self.most + of_branch @ beyond) ** 2 if self.soft_ends else flows / self.most**2
        if r:
            there = _sparse(ca, self.soft_rows, np.arange(r), np.ones(r), len(lim.rows), r)
            rows += there @ (r_under - r_above)
        if w:
            through += w_under - w_above
        self.price = ca.MX.sym("price", int(cut[-1]) if soft.all else 0)
        if soft.all:
            self.f = ca.dot(self.price, self.slacks)
        else:
            self.f = weight * spent
            if s:
                self.f += weight * soft.v * ca.sum1(self.slacks[: 2 * s])
            if self.soft_ends:
                self.f += weight * soft.ends * ca.sum1(beyond)
        parts = [balance, flows, within, rows, through, drops]
        if s:
            parts += [self.x[self.soft_x.tolist()] + under, self.x[self.soft_x.tolist()] - above]
        self.g = ca.vertcat(*parts)
        self.g_cuts = np.cumsum(
            [0, 2 * n, len(self.bounded), len(self.round), len(lim.rows), len(lim.interfaces.low), 2 * len(short), s, s]
        )

    def currents(self, k: Ints, side: int) -> tuple[Any, Any, list[int]]:
        """Behind the turns, into branches at an end, and the terminals."""
        ca, ports = self.ca, self.grid.ports
        near, far = (self.near[k], self.far[k]) if side == 0 else (self.far[k], self.near[k])
        own, other = (ports[0, k], ports[1, k]) if side == 0 else (ports[3, k], ports[2, k])
        at, there = near.tolist(), far.tolist()
        re, im, re2, im2 = (ca.DM(x) for x in (own.real, own.imag, other.real, other.imag))
        e, h = self.e, self.h
        i_e = re * e[at] - im * h[at] + re2 * e[there] - im2 * h[there]
        i_h = re * h[at] + im * e[at] + re2 * h[there] + im2 * e[there]
        mine = [n for n, b in enumerate(k.tolist()) if b in self._series]
        if mine:
            # What the ends draw beside the series current, and that from its own unknown.
            short = k[mine]
            beside, number = own[mine] + other[mine], [self._series[b] for b in short.tolist()]
            sign = 1.0 if side == 0 else -1.0
            a_e, a_h, ends = ca.DM(beside.real), ca.DM(beside.imag), near[mine].tolist()
            i_e[mine] = a_e * e[ends] - a_h * h[ends] + sign * self._j[0][number]
            i_h[mine] = a_e * h[ends] + a_h * e[ends] + sign * self._j[1][number]
        return i_e, i_h, at

    def power(self, k: Ints, side: int) -> tuple[Any, Any]:
        i_e, i_h, at = self.currents(k, side)
        e, h = self.e[at], self.h[at]
        return e * i_e + h * i_h, h * i_e - e * i_h

    def size(self, side: int, scale: Any, power: bool) -> Any:
        """|I|² or |S|² into all branches at an end."""
        i_e, i_h, at = self.currents(np.arange(len(self.grid.frm)), side)
        size = i_e**2 + i_h**2
        return size * self.v_of[at] ** 2 if power else size / scale[at] ** 2

    def _through(self, sets: Interfaces) -> Any:
        p_in, _ = self.power(sets.branch, 0)
        there = _sparse(self.ca, sets.which, np.arange(len(sets.branch)), sets.sign, len(sets.low), len(sets.branch))
        return there @ p_in

    def bounds(self, state: State, soft: Soft) -> tuple[Floats, Floats, Floats, Floats]:
        """Low and high of the unknowns with their slacks, and of the constraints."""
        lim, n = state.limits, state.grid.n
        low = np.concatenate([np.full(n, -np.inf), lim.v_low, lim.p_low, lim.q_low, lim.turn[0], lim.shift[0], lim.bank[0],
                              lim.shed[0], lim.further[0]])  # fmt: skip
        high = np.concatenate([np.full(n, np.inf), lim.v_high, lim.p_high, lim.q_high, lim.turn[1], lim.shift[1], lim.bank[1],
                               lim.shed[1], lim.further[1]])  # fmt: skip
        fixed = np.isfinite(lim.angle)
        low[:n][fixed] = high[:n][fixed] = lim.angle[fixed]
        chosen = self.soft_x
        soft_low, soft_high = low[chosen].copy(), high[chosen].copy()
        low[chosen], high[chosen] = -np.inf, np.inf
        voltages = chosen[(chosen >= n) & (chosen < 2 * n)]
        low[voltages] = _LEAST_V
        slacks = int(self.slack_cuts[-1])
        none, along = np.zeros(2 * len(self.stiff)), np.full(2 * len(self.stiff), np.inf)
        count = len(self.bounded)
        lbg = np.concatenate([np.zeros(2 * n), np.full(count + len(self.round), -np.inf), lim.rows.low,
                              lim.interfaces.low, none, soft_low, np.full(len(chosen), -np.inf)])  # fmt: skip
        ubg = np.concatenate([np.zeros(2 * n), np.full(count, 0.0 if self.soft_ends else 1.0), lim.rated[self.round] ** 2,
                              lim.rows.high, lim.interfaces.high, none, np.full(len(chosen), np.inf), soft_high])  # fmt: skip
        beyond = np.full(slacks, np.inf) if soft.most is None else soft.most
        return np.r_[low, np.zeros(slacks), -along], np.r_[high, beyond, along], lbg, ubg

    def priced(self, soft: Soft) -> Floats:
        """Prices of the slacks; none where they are no parameters."""
        count = self.price.numel()
        return np.ones(count) if soft.price is None else soft.price

    def parameters(self, state: State, soft: Soft) -> Floats:
        most = np.r_[state.limits.most_from, state.limits.most_to][self.bounded]
        c = state.cost
        return np.concatenate([state.grid.load.ravel(), state.grid.moving.shed_load.ravel(), c.linear, c.square,
                               [c.losses, c.fixed, c.weight], most, self.priced(soft)])  # fmt: skip

    def start(self, state: State) -> Floats:
        g, lay = state.grid, state.layout
        v = state.start[lay.place("v")] * np.exp(1j * state.start[lay.place("theta")])
        # Where it begins voltages may have been moved into their bounds: no more than what may flow.
        along = -g.ports[1, self.stiff] * (v[g.frm[self.stiff]] - v[g.to[self.stiff]]) / self.stiff_size
        along = along / np.maximum(np.abs(along), 1.0)
        return np.concatenate([state.start, np.full(int(self.slack_cuts[-1]), 1e-2), along.real, along.imag])

    def named(self) -> list[tuple[str, int]]:
        """Of every slack the name of a bound and the place in it."""
        n, m, k = self.grid.n, len(self.grid.at), len(self.grid.frm)

        def unknown(place: int) -> tuple[str, int]:
            return ("v", place) if place < n else ("p", place - n) if place < n + m else ("q", place - n - m)

        found: list[tuple[str, int]] = []
        for way in ("low", "high"):
            found += [(f"{name} {way}", at) for name, at in map(unknown, (self.soft_x - n).tolist())]
        if self.soft_ends:
            ends = {int(j): "from" for j in self.bounded if j < k}
            found += [(ends.get(j, "to"), j) for j in self.soft_branches.tolist()]
        for name, places in (("row", self.soft_rows.tolist()), ("interface", range(self.soft_through))):
            found += [(f"{name} {way}", place) for way in ("low", "high") for place in places]
        return found

    def over(self, slack: Floats) -> tuple[tuple[str, int, float], ...]:
        """What is exceeded: name of a bound, place in it, and by how much."""
        every = zip(self.named(), slack.tolist(), strict=True)
        return tuple((name, at, by) for (name, at), by in every if by > _TOLD)


_TOLD = 1e-6


class Program:
    """The equations of one state or several, ready to be solved with other figures."""

    def __init__(self, states: Sequence[State], coupling: Rows, soft: Soft) -> None:
        import casadi as ca

        self.ca, self.lock = ca, threading.Lock()
        self.blocks = [_Block(ca, s, soft) for s in states]
        unknown = ca.vertcat(*(part for b in self.blocks for part in (b.x, b.slacks, b.along)))
        parameters = ca.vertcat(*(part for b in self.blocks for part in (
            b.load, b.shed_load, b.linear, b.square, b.scalars, b.most, b.price)))  # fmt: skip
        objective = self.blocks[0].f
        for b in self.blocks[1:]:
            objective = objective + b.f
        constraints = [b.g for b in self.blocks]
        if len(coupling):
            every = ca.vertcat(*(b.x for b in self.blocks))
            constraints.append(_rows(ca, coupling, every.numel()) @ every)
        self.nlp = {"x": unknown, "p": parameters, "f": objective, "g": ca.vertcat(*constraints)}
        self.solvers: dict[str, tuple[Any, Any]] = {}
        self.last: tuple[Any, Any, Any] | None = None  # unknowns and multipliers of the last answer

    def run(self, states: Sequence[State], coupling: Rows, progress: Progress, way: str, soft: Soft) -> list[Optimum]:
        if way not in self.solvers:
            watch = _watch(self.ca, *(self.nlp[k].numel() for k in ("x", "g", "p")))
            made = self.ca.nlpsol("optimum", "ipopt", self.nlp, {"print_time": 0, "iteration_callback": watch,
                                                                  "ipopt": {**_IPOPT, **_WAYS[way]}})  # fmt: skip
            self.solvers[way] = made, watch
        solver, watch = self.solvers[way]
        bounds = [b.bounds(s, soft) for b, s in zip(self.blocks, states, strict=True)]
        low, high = (np.concatenate([b[k] for b in bounds]) for k in (0, 1))
        lbg, ubg = (np.concatenate([*(b[k] for b in bounds), c]) for k, c in ((2, coupling.low), (3, coupling.high)))
        begin = {"x0": np.concatenate([b.start(s) for b, s in zip(self.blocks, states, strict=True)])}
        if way == "warm" and self.last is not None:
            begin = dict(zip(("x0", "lam_x0", "lam_g0"), self.last, strict=True))
        watch.begin(progress, lbg, ubg)
        p = np.concatenate([b.parameters(s, soft) for b, s in zip(self.blocks, states, strict=True)])
        found = solver(**begin, p=p, lbx=low, ubx=high, lbg=lbg, ubg=ubg)
        if watch.stopped is not None:
            raise watch.stopped
        stats = solver.stats()
        x, lam_x, lam_g = (np.asarray(found[name]).ravel() for name in ("x", "lam_x", "lam_g"))
        if str(stats["return_status"]) == "Solve_Succeeded":
            self.last = found["x"], found["lam_x"], found["lam_g"]
        value, trace = float(found["f"]), tuple(watch.trace)
        ending, iterations = str(stats["return_status"]), int(stats["iter_count"])
        at_coupling = lam_g[len(lam_g) - len(coupling) :] if len(coupling) else np.zeros(0)
        answers, x_at, g_at = [], 0, 0
        for b, s in zip(self.blocks, states, strict=True):
            size, slacks, rows = s.layout.size, int(b.slack_cuts[-1]), int(b.g_cuts[-1])
            own, slack = x[x_at : x_at + size], x[x_at + size : x_at + size + slacks]
            saved = b.priced(soft) + lam_x[x_at + size : x_at + size + slacks] if soft.all else np.zeros(0)
            answers.append(_answer(b, s, own, slack, lam_x[x_at : x_at + size], lam_g[g_at : g_at + rows], ending, iterations,
                                   value, trace, at_coupling, saved))  # fmt: skip
            x_at, g_at = x_at + size + slacks + 2 * len(b.stiff), g_at + rows
        return answers


def _answer(
    b: _Block, s: State, x: Floats, slack: Floats, lam_x: Floats, lam_g: Floats, ending: str, iterations: int, value: float,
    trace: tuple[tuple[float, float], ...], at_coupling: Floats, saved: Floats,
) -> Optimum:  # fmt: skip
    lay, n, k = s.layout, s.grid.n, len(s.grid.frm)
    balance, ends, _, rows, through, _, low, high = (lam_g[a:c] for a, c in zip(b.g_cuts, b.g_cuts[1:], strict=False))
    lam_x = lam_x.copy()
    if len(b.soft_x):
        lam_x[b.soft_x] += low + high
    most = np.r_[s.limits.most_from, s.limits.most_to][b.bounded]
    beyond = slack[b.slack_cuts[2] : b.slack_cuts[3]][b.beyond_at] if b.soft_ends else 0.0
    at_ends = np.zeros(2 * k)
    # Of the limit itself and not of a square.
    at_ends[b.bounded] = ends * 2 * ((most + beyond) if b.soft_ends else 1 / most)
    of = {name: (x[lay.place(name)], lam_x[lay.place(name)]) for name in NAMES}
    return Optimum(
        ending, iterations, value, of["theta"][0], of["v"][0], of["p"][0], of["q"][0], balance[:n], balance[n:], of["v"][1],
        of["p"][1], of["q"][1], at_ends[:k], at_ends[k:], b.over(slack), of["turn"][0], of["shift"][0],
        of["bank"][0], of["shed"][0], of["further"][0],
        np.concatenate([of[name][1] for name in ("turn", "shift", "bank", "shed")]), rows, through, at_coupling,
        slack, saved, trace,
    )  # fmt: skip


def _sparse(ca: Any, row: Ints, col: Ints, values: Floats, n: int, m: int) -> Any:
    """A constant sparse matrix; entries at one place add up."""
    from scipy.sparse import coo_array

    made = coo_array((values, (row, col)), shape=(n, m)).tocsc()
    made.sort_indices()
    pattern = ca.Sparsity(n, m, made.indptr.tolist(), made.indices.tolist())
    return ca.MX(ca.DM(pattern, made.data.tolist()))


def _rows(ca: Any, rows: Rows, size: int) -> Any:
    return _sparse(ca, rows.row, rows.col, rows.value, len(rows), size)


def _watch(ca: Any, n_x: int, n_g: int, n_p: int) -> Any:
    """Tells of every iteration, keeps objective and violation, and stops the solver when progress raises."""
    sizes = {"f": 1, "x": n_x, "lam_x": n_x, "g": n_g, "lam_g": n_g, "lam_p": n_p}

    class Watch(ca.Callback):  # type: ignore[misc]
        def __init__(self) -> None:
            ca.Callback.__init__(self)
            self.begin(lambda share, words: None, np.zeros(n_g), np.zeros(n_g))
            self.construct("watch")

        def begin(self, progress: Progress, low: Floats, high: Floats) -> None:
            self.progress, self.low, self.high = progress, low, high
            self.stopped: BaseException | None = None
            self.trace: list[tuple[float, float]] = []

        def get_n_in(self) -> int:
            return int(ca.nlpsol_n_out())

        def get_n_out(self) -> int:
            return 1

        def get_name_in(self, i: int) -> str:
            return str(ca.nlpsol_out(i))

        def get_sparsity_in(self, i: int) -> Any:
            return ca.Sparsity.dense(sizes[ca.nlpsol_out(i)], 1)

        def eval(self, arg: Any) -> list[int]:  # of what the solver puts out x comes first, then f, then g
            g = np.asarray(arg[2]).ravel()
            off = float(np.maximum(np.maximum(self.low - g, g - self.high), 0.0).max(initial=0.0))
            self.trace.append((float(arg[1]), off))
            seen = len(self.trace)
            try:
                self.progress(
                    min(seen / (seen + 25.0), 0.95),
                    f"iteration {seen}, objective {float(arg[1]):.6g}, off by {off:.1e} p.u.",
                )
            except BaseException as error:
                self.stopped = error
                return [1]
            return [0]

    return Watch()
