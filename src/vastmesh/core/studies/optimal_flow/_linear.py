"""The linear optimal power flow: angles and active powers, 1 p.u. everywhere.

Into a branch flows f = b (θ_from - θ_to - shift) with b = 1 / (x a c), a and c the ratios of its ends. Losses, where they
count, are r f² of each branch, half at either end, taken along their tangent at the flows of the last answer until those stay.
What rises with the square of a power makes it a quadratic programme. Both kinds are solved by an interior-point method for
convex ones (PIQP through CasADi: Schwan, Jiang, Kuhn, Jones, IEEE CDC 2023), a linear one that it does not finish by HiGHS
(Huangfu, Hall, Math. Programming Comp. 10, 2018). Whole numbers (plants on or off, branches closed or open,
steps of phase shifters) are found by HiGHS first, with squares along tangents, then held, and all else is solved again for its
prices.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy.sparse import block_diag, coo_array, csc_array, csr_array, vstack

from ...electrical.arrays import Bools, Floats, Ints
from ..rows import Rows, RowsOf
from ._grid import Layout, Optimum, State

_FREE = 9e3  # per unit: from here on no bound at all, as one that is never met spoils the scale of the rest
_WIDE = 1.2  # rad: most angle across an open branch
_TANGENTS = 12


@dataclass(frozen=True)
class LinearBranches:
    """Of the live branches: per unit of power for a radian between its ends, the shift of its transformer, rad, and
    resistance."""

    b: Floats
    shift: Floats
    r: Floats


@dataclass(frozen=True)
class Whole:
    """What is decided in whole numbers. ``plants``: that may stop, with cost of an hour on and of a start, and whether they are
    on at first; ``openable``: branches that may be opened, at most ``openings`` of them; ``shifters``: turns whose shift is
    ``zero`` and a whole number, at most ``most`` either way, of ``step``, rad; ``gap``: within which the best is sought."""

    plants: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    running: Floats = field(default_factory=lambda: np.zeros(0))
    start: Floats = field(default_factory=lambda: np.zeros(0))
    on_first: Bools = field(default_factory=lambda: np.zeros(0, np.bool_))
    openable: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    openings: int = 0
    shifters: Ints = field(default_factory=lambda: np.zeros(0, np.int64))  # among the turns that may move
    zero: Floats = field(default_factory=lambda: np.zeros(0))
    step: Floats = field(default_factory=lambda: np.zeros(0))
    most: Floats = field(default_factory=lambda: np.zeros(0))
    gap: float = 1e-6
    seconds: float = 120.0

    def __bool__(self) -> bool:
        return bool(len(self.plants) or self.openings or len(self.shifters))


@dataclass(frozen=True)
class Decided:
    """Plants on in every state (n_state, n_plant), branches opened, shifts in every state (n_state, n_shifter), rad, and the gap
    to the bound that was left."""

    on: Bools
    opened: Ints
    shifts: Floats
    gap: float


def solve_linear(
    states: Sequence[State], branches: LinearBranches, drawn: Sequence[Floats], coupling: Rows | None = None,
    whole: Whole | None = None, *, losses: bool = False,
) -> tuple[list[Optimum], Decided | None]:  # fmt: skip
    """Solve for angles, active powers, shifts and demand shed; ``drawn``: demand of nodes that stays, (n,), of every state.
    Multipliers as of the exact one; branches bind at their from end where power flows out of it, else at their to end."""
    flows = [np.zeros(len(s.grid.frm)) for s in states]
    decided: Decided | None = None
    found: list[Optimum] = []
    for repeat in range(12 if losses else 1):
        r = branches.r if losses else np.zeros_like(branches.r)
        parts = [_Part(s, branches, r, d, f) for s, d, f in zip(states, drawn, flows, strict=True)]
        if whole and repeat in (0, 3):  # once more, when losses are known
            made = _decide(states, parts, coupling or Rows(), whole, branches)
            if isinstance(made, str):
                return [_none(s, made) for s in states], None
            decided = made
        found = _continuous(states, parts, coupling or Rows(), whole, decided)
        if not found[0].found:
            break
        now = [p.flow(o) for p, o in zip(parts, found, strict=True)]
        moved = max(float(np.abs(a - b).max(initial=0.0)) for a, b in zip(now, flows, strict=True))
        flows = now
        if moved < 1e-8 and repeat > 3 * bool(whole):
            break
    return found, decided


class _Part:
    """Rows of one state over all its unknowns: balance of nodes, flows of bounded branches, further rows, interfaces."""

    def __init__(self, state: State, branches: LinearBranches, r: Floats, drawn: Floats, f0: Floats) -> None:
        g, lim, mv, lay = state.grid, state.limits, state.grid.moving, state.layout
        n, m, k, size = g.n, len(g.at), len(g.frm), lay.size
        rows, theta = np.arange(k), lay.place("theta").start
        turn, shift = mv.turn_branch, lay.place("shift").start
        across = coo_array((np.r_[branches.b, -branches.b, -branches.b[turn]],
                            (np.r_[rows, rows, turn], np.r_[theta + g.frm, theta + g.to, shift + np.arange(len(turn))])),
                           shape=(k, size)).tocsr()  # fmt: skip
        self.across, self.offset = across, -branches.b * branches.shift
        loss = 2 * r * f0  # of the flow; less r f0²
        ends = coo_array(
            (np.r_[1 + loss / 2, -1 + loss / 2], (np.r_[g.frm, g.to], np.r_[rows, rows])), shape=(n, k)
        ).tocsr()
        machines = coo_array((-np.ones(m), (g.at, lay.place("p").start + np.arange(m))), shape=(n, size))
        shed = mv.shed_load[0::2].sum(axis=0)
        served = coo_array((-shed, (mv.shed_at, lay.place("shed").start + np.arange(len(shed)))), shape=(n, size))
        balance = ends @ across + machines + served
        half = np.bincount(g.frm, r * f0**2 / 2, n) + np.bincount(g.to, r * f0**2 / 2, n)
        right = -(ends @ self.offset) - drawn - np.bincount(mv.shed_at, shed, n) + half
        most = np.minimum(lim.most_from, lim.most_to)
        self.bounded = np.flatnonzero(np.isfinite(most))
        self.dropped = _dropped(lim.rows, lay)
        kept = self.kept_rows = np.setdiff1d(np.arange(len(lim.rows)), self.dropped[1])
        further = lim.rows.matrix(size).tocsr()[kept]
        sets = lim.interfaces
        member = coo_array((sets.sign, (sets.which, sets.branch)), shape=(len(sets.low), k)).tocsr()
        through = member @ self.offset
        self.a = csr_array(vstack([balance, across[self.bounded], further, member @ across]))
        off = self.offset[self.bounded]
        self.low = np.concatenate([right, -most[self.bounded] - off, lim.rows.low[kept], sets.low - through])
        self.high = np.concatenate([right, most[self.bounded] - off, lim.rows.high[kept], sets.high - through])
        self.cuts = np.cumsum([0, n, len(self.bounded), len(kept), len(sets.low)])
        fixed = np.isfinite(lim.angle)
        low, high = np.zeros(size), np.zeros(size)
        low[:n], high[:n] = -np.inf, np.inf
        low[:n][fixed] = high[:n][fixed] = lim.angle[fixed]
        for name, bounds in (
            ("p", (lim.p_low, lim.p_high)),
            ("shift", lim.shift),
            ("shed", lim.shed),
            ("further", lim.further),
        ):
            low[lay.place(name)], high[lay.place(name)] = bounds[0], bounds[1]
        low[self.dropped[0]] = high[self.dropped[0]] = 0.0
        low[lay.place("v")] = high[lay.place("v")] = 1.0
        low[lay.place("turn")] = high[lay.place("turn")] = 1.0
        self.x_low, self.x_high = np.where(low < -_FREE, -np.inf, low), np.where(high > _FREE, np.inf, high)
        self.linear = state.cost.weight * np.where(self._counts(lay), state.cost.linear, 0.0)
        self.square = state.cost.weight * np.where(self._counts(lay), state.cost.square, 0.0)
        self.fixed = state.cost.weight * state.cost.fixed

    def _counts(self, lay: Layout) -> Bools:
        """Unknowns that the linear equations have."""
        counts = np.zeros(lay.size, np.bool_)
        for name in ("p", "shift", "shed", "further"):
            counts[lay.place(name)] = True
        counts[self.dropped[0]] = False
        return counts

    def flow(self, found: Optimum) -> Floats:
        """Into branches at their from ends, per unit."""
        return np.asarray(self.across @ found.unknowns + self.offset)


def _dropped(rows: Rows, lay: Layout) -> tuple[Ints, Ints]:
    """Further unknowns and rows that hang on reactive powers or voltages, which these equations don't have."""
    gone = np.zeros(lay.size, np.bool_)
    for name in ("v", "q", "turn", "bank"):
        gone[lay.place(name)] = True
    hang = np.unique(rows.row[gone[rows.col]])
    mine = np.isin(rows.row, hang) & (rows.col >= lay.place("further").start)
    return np.unique(rows.col[mine]), hang


INFEASIBLE, UNBOUNDED, UNSOLVED = "Infeasible_Problem_Detected", "Unbounded", "Not_Solved"


def _none(state: State, ending: str) -> Optimum:
    lay, n, m, k = state.layout, state.grid.n, len(state.grid.at), len(state.grid.frm)
    z = np.zeros
    return Optimum(ending, 0, 0.0, z(n), np.ones(n), z(m), z(m), z(n), z(n), z(n), z(m), z(m), z(k), z(k),
                   turn=np.ones(lay.turns), shift=z(lay.turns), bank=z(lay.banks), shed=z(lay.sheds), further=z(lay.further),
                   at_rows=z(len(state.limits.rows)), at_interfaces=z(len(state.limits.interfaces.low)))  # fmt: skip


def _coupled(states: Sequence[State], parts: Sequence[_Part], coupling: Rows) -> tuple[csc_array, Floats, Floats]:
    a = csr_array(block_diag([p.a for p in parts])) if len(parts) > 1 else parts[0].a
    low, high = np.concatenate([p.low for p in parts]), np.concatenate([p.high for p in parts])
    if len(coupling):
        a, low, high = vstack([a, coupling.matrix(a.shape[1])]), np.r_[low, coupling.low], np.r_[high, coupling.high]
    return csc_array(a), low, high


def _continuous(
    states: Sequence[State], parts: Sequence[_Part], coupling: Rows, whole: Whole | None, decided: Decided | None
) -> list[Optimum]:
    """All that is no whole number, with those held."""
    a, low, high = _coupled(states, parts, coupling)
    x_low, x_high = (np.concatenate([getattr(p, name) for p in parts]) for name in ("x_low", "x_high"))
    c, square = (np.concatenate([getattr(p, name) for p in parts]) for name in ("linear", "square"))
    starts = np.cumsum([0, *(s.layout.size for s in states)])
    spent = 0.0
    if whole and decided is not None:
        for t, s in enumerate(states):
            p0 = starts[t] + s.layout.place("p").start
            off = p0 + whole.plants[~decided.on[t]]
            x_low[off] = x_high[off] = 0.0
            before = decided.on[t - 1] if t else whole.on_first
            turned = starts[t] + s.layout.place("shift").start + whole.shifters
            x_low[turned] = x_high[turned] = decided.shifts[t]
            weight = s.cost.weight
            spent += weight * float(whole.running @ decided.on[t]) + float(whole.start @ (decided.on[t] & ~before))
        if len(decided.opened):
            a, low, high = _opened(a, low, high, states[0], parts[0], decided.opened)
    if (x_low > x_high + 1e-12).any():
        return [_none(s, INFEASIBLE) for s in states]
    held = np.isfinite(low) | np.isfinite(high)  # of branches that are open nothing holds
    rows, lam = csc_array(csr_array(a)[np.flatnonzero(held)]), np.zeros(len(low))
    x, lam[held], lam_x, steps, good = _piqp(rows, low[held], high[held], x_low, x_high, c, square)
    if not good and not square.any():
        x, lam[held], lam_x, steps, good = _highs(rows, low[held], high[held], x_low, x_high, c)
    if not good:
        ending = _ending(rows, low[held], high[held], x_low, x_high, c, square)
        return [_none(s, ending) for s in states]
    value = float(c @ x + square @ x**2) + sum(p.fixed for p in parts) + spent
    at, answers = 0, []
    for s, p, start in zip(states, parts, starts, strict=False):
        rows = lam[at : at + p.cuts[-1]]
        at += int(p.cuts[-1])
        answers.append(
            _answer(s, p, x[start : start + s.layout.size], rows, lam_x[start : start + s.layout.size], value, steps)
        )
    return answers


def _opened(
    a: csc_array, low: Floats, high: Floats, state: State, part: _Part, opened: Ints
) -> tuple[csc_array, Floats, Floats]:
    """Rows without what these branches carry by their angles, and without their limits; of one state."""
    g, count = state.grid, len(opened)
    low, high = low.copy(), high.copy()
    ends = coo_array(
        (np.r_[np.ones(count), -np.ones(count)], (np.r_[g.frm[opened], g.to[opened]], np.r_[opened, opened])),
        shape=(g.n, len(g.frm)),
    ).tocsr()
    rows = csr_array(a)
    pad = csr_array((rows.shape[0] - g.n, rows.shape[1]))
    rows = csr_array(rows - vstack([ends @ part.across, pad]))
    low[: g.n] += ends @ part.offset
    high[: g.n] += ends @ part.offset
    free = g.n + np.flatnonzero(np.isin(part.bounded, opened))
    low[free], high[free] = -np.inf, np.inf
    return csc_array(rows), low, high


def _answer(s: State, p: _Part, x: Floats, lam: Floats, lam_x: Floats, value: float, steps: int) -> Optimum:
    lay, n, m, k = s.layout, s.grid.n, len(s.grid.at), len(s.grid.frm)
    balance, ends, further, through = (lam[a:b] for a, b in zip(p.cuts, p.cuts[1:], strict=False))
    at_end, at_rows = np.zeros(k), np.zeros(len(s.limits.rows))
    at_end[p.bounded], at_rows[p.kept_rows] = ends, further
    of = {name: x[lay.place(name)] for name in ("theta", "p", "turn", "shift", "bank", "shed", "further")}
    none = np.zeros(m)
    return Optimum(
        "Solve_Succeeded", steps, value, of["theta"], np.ones(n), of["p"], none, balance, np.zeros(n), np.zeros(n),
        lam_x[lay.place("p")], none, np.maximum(at_end, 0), np.maximum(-at_end, 0), (), of["turn"], of["shift"], of["bank"],
            of["shed"],
        of["further"], np.concatenate([lam_x[lay.place(name)] for name in ("turn", "shift", "bank", "shed")]), at_rows, through,
    )  # fmt: skip


def _ending(a: csc_array, low: Floats, high: Floats, x_low: Floats, x_high: Floats, c: Floats, square: Floats) -> str:
    """Why a convex programme has no answer, each proven by a linear one: nothing keeps its rows; or along some way all of them
    are kept for ever while the cost falls. Neither: it was not solved."""
    from scipy.optimize import linprog

    rows, equal = csr_array(a), low == high
    upper, lower = ~equal & np.isfinite(high), ~equal & np.isfinite(low)
    bound = vstack([rows[upper], -rows[lower]])
    anywhere = linprog(
        np.zeros(len(c)),
        bound,
        np.r_[high[upper], -low[lower]],
        rows[equal],
        low[equal],
        np.column_stack([x_low, x_high]),
    )
    if anywhere.status == 2:
        return INFEASIBLE
    ways = np.column_stack([np.where(np.isfinite(x_low) | (square > 0), 0.0, -1.0),
                            np.where(np.isfinite(x_high) | (square > 0), 0.0, 1.0)])  # fmt: skip
    falling = linprog(c, bound, np.zeros(bound.shape[0]), rows[equal], np.zeros(int(equal.sum())), ways)
    endless = falling.status == 0 and falling.fun < -1e-9 * float(np.abs(c).max(initial=1e-30))
    return UNBOUNDED if anywhere.status == 0 and endless else UNSOLVED


Solved = tuple[Floats, Floats, Floats, int, bool]


def _highs(a: csc_array, low: Floats, high: Floats, x_low: Floats, x_high: Floats, c: Floats) -> Solved:
    """A linear programme. Multipliers positive at upper bounds; of equal bounds what one more on the right costs, turned
    round."""
    from scipy.optimize import linprog

    equal = low == high
    upper, lower = ~equal & np.isfinite(high), ~equal & np.isfinite(low)
    rows = csr_array(a)
    found = linprog(c, vstack([rows[upper], -rows[lower]]), np.r_[high[upper], -low[lower]], rows[equal], low[equal],
                    np.column_stack([x_low, x_high]), method="highs")  # fmt: skip
    if found.status != 0:
        return np.zeros(len(c)), np.zeros(len(low)), np.zeros(len(c)), 0, False
    lam = np.zeros(len(low))
    lam[equal] = -found.eqlin.marginals
    split = int(upper.sum())
    lam[upper] -= found.ineqlin.marginals[:split]
    lam[lower] += found.ineqlin.marginals[split:]
    lam_x = -(found.lower.marginals + found.upper.marginals)
    return found.x, lam, lam_x, int(found.nit), True


def _piqp(a: csc_array, low: Floats, high: Floats, x_low: Floats, x_high: Floats, c: Floats, square: Floats) -> Solved:
    import casadi as ca

    # Unknowns that are held are taken out: the method wants an inside.
    held = x_low == x_high
    free = np.flatnonzero(~held)
    known = a[:, np.flatnonzero(held)] @ x_low[held]
    inner = csc_array(a[:, free])
    inner.sort_indices()
    scale = max(float(np.abs(c).max(initial=0.0)), float(np.abs(square).max(initial=0.0)), 1e-9)
    size, count = len(free), a.shape[0]
    h = ca.DM(ca.Sparsity.diag(size), (2 * square[free] / scale).tolist())
    lines = ca.DM(ca.Sparsity(count, size, inner.indptr.tolist(), inner.indices.tolist()), inner.data.tolist())
    solver = ca.conic("linear", "piqp", {"h": h.sparsity(), "a": lines.sparsity()}, {
        "error_on_fail": False, "piqp": {"eps_abs": 1e-10, "eps_rel": 1e-11, "max_iter": 300, "verbose": False},
    })  # fmt: skip
    found = solver(
        h=h, g=c[free] / scale, a=lines, lbx=x_low[free], ubx=x_high[free], lba=low - known, uba=high - known
    )
    x = x_low.copy()
    x[free] = np.asarray(found["x"]).ravel()
    lam_x = np.zeros(len(x))
    lam_x[free] = scale * np.asarray(found["lam_x"]).ravel()
    lam = scale * np.asarray(found["lam_a"]).ravel()
    stats = solver.stats()
    taken = a @ x
    off = float(np.maximum(np.maximum(low - taken, taken - high), 0.0).max(initial=0.0))
    gradient = c + 2 * square * x + a.T @ lam
    lam_x[held] = -gradient[held]
    return x, lam, lam_x, int(stats.get("iter_count", 0) or 0), bool(stats["success"]) and off < 1e-6


def _decide(
    states: Sequence[State], parts: Sequence[_Part], coupling: Rows, whole: Whole, branches: LinearBranches
) -> Decided | str:
    """The whole numbers: a mixed-integer programme, squares along tangents; or why there is no answer."""
    from scipy.optimize import Bounds, LinearConstraint, milp

    a, low, high = _coupled(states, parts, coupling)
    x_low, x_high, c, square = (
        np.concatenate([getattr(p, name) for p in parts]) for name in ("x_low", "x_high", "linear", "square")
    )
    starts = np.cumsum([0, *(s.layout.size for s in states)])
    n, t, u = a.shape[1], len(states), len(whole.plants)
    curved = np.flatnonzero(square > 0)
    opens = whole.openable if whole.openings else np.zeros(0, np.int64)
    # Behind the unknowns: on, started of every plant and state; closed and flow of every branch that may open; heights of
    # squares; steps of every shifter and state.
    at_on, at_start = n, n + t * u
    at_closed, at_flow = n + 2 * t * u, n + 2 * t * u + len(opens)
    at_height = at_flow + len(opens)
    at_steps = at_height + len(curved)
    w = len(whole.shifters)
    total = at_steps + t * w
    more = RowsOf()
    add = more.add
    xl, xh = np.r_[x_low, np.zeros(total - n)], np.r_[x_high, np.ones(total - n)]
    cost = np.r_[c, np.zeros(total - n)]
    whole_ = np.zeros(total)
    for h, s in enumerate(states):
        p0 = starts[h] + s.layout.place("p").start
        for k, plant in enumerate(whole.plants.tolist()):
            x, on, begun = int(p0 + plant), at_on + h * u + k, at_start + h * u + k
            least, most = float(x_low[x]), float(x_high[x])
            add([(x, 1.0), (on, -most)], -np.inf, 0.0)
            add([(x, 1.0), (on, -least)], 0.0, np.inf)
            xl[x], xh[x] = min(least, 0.0), max(most, 0.0)
            before = float(whole.on_first[k]) if h == 0 else 0.0
            add([(begun, 1.0), (on, -1.0), *([(on - u, 1.0)] if h else [])], -before, np.inf)
            cost[on], cost[begun] = s.cost.weight * whole.running[k], whole.start[k]
            whole_[on] = 1
        for k, turn in enumerate(whole.shifters.tolist()):
            x, steps = int(starts[h] + s.layout.place("shift").start + turn), at_steps + h * w + k
            add([(x, 1.0), (steps, -float(whole.step[k]))], float(whole.zero[k]), float(whole.zero[k]))
            xl[steps], xh[steps] = -whole.most[k], whole.most[k]
            whole_[steps] = 1
    if len(opens):
        p, g = parts[0], states[0].grid
        rows = csr_array(p.across)
        limit = np.minimum(states[0].limits.most_from, states[0].limits.most_to)
        a, low, high = _opened(a, low, high, states[0], p, opens)
        balance = coo_array((np.r_[np.ones(len(opens)), -np.ones(len(opens))],
                             (np.r_[g.frm[opens], g.to[opens]], at_flow + np.r_[np.arange(len(opens)), np.arange(len(opens))])),
                            shape=(a.shape[0], total))  # fmt: skip
        wide = branches.b[opens] * _WIDE
        for j, k in enumerate(opens.tolist()):
            mine = rows[[k]].tocoo()
            angle = [(int(x), -float(v)) for x, v in zip(mine.col, mine.data, strict=True)]
            off, big = float(p.offset[k]), float(abs(wide[j]))
            most = float(limit[k]) if np.isfinite(limit[k]) else big
            add([(at_flow + j, 1.0), *angle, (at_closed + j, big)], -np.inf, off + big)
            add([(at_flow + j, 1.0), *angle, (at_closed + j, -big)], off - big, np.inf)
            add([(at_flow + j, 1.0), (at_closed + j, -most)], -np.inf, 0.0)
            add([(at_flow + j, 1.0), (at_closed + j, most)], 0.0, np.inf)
            xl[at_flow + j], xh[at_flow + j] = -most, most
            whole_[at_closed + j] = 1
            cost[at_closed + j] = -1e-6 * float(np.abs(c).max(initial=1.0))  # nothing is opened that gains nothing
        add([(at_closed + j, 1.0) for j in range(len(opens))], len(opens) - whole.openings, np.inf)
    for j, x in enumerate(curved.tolist()):
        least, most = max(float(xl[x]), -1e3), min(float(xh[x]), 1e3)
        xl[at_height + j], xh[at_height + j] = 0.0, np.inf
        cost[at_height + j] = 1.0
        for point in np.linspace(least, most, _TANGENTS):
            add(
                [(at_height + j, 1.0), (x, -2 * float(square[x]) * float(point))],
                -float(square[x]) * float(point) ** 2,
                np.inf,
            )
    wide_a = coo_array(a)
    every = coo_array((wide_a.data, (wide_a.row, wide_a.col)), shape=(a.shape[0], total)).tocsr()
    if len(opens):
        every = every + balance.tocsr()
    further = more.done()
    held = LinearConstraint(
        csc_array(vstack([every, further.matrix(total)])), np.r_[low, further.low], np.r_[high, further.high]
    )

    def best(of: Floats) -> Any:
        return milp(of, integrality=whole_, bounds=Bounds(xl, xh), constraints=held,
                    options={"mip_rel_gap": whole.gap, "time_limit": whole.seconds})  # fmt: skip

    found = best(cost)
    if found.x is None:
        if found.status == 1:
            return UNSOLVED
        # Without a cost it can't fall for ever: whether anything keeps every limit.
        anything = best(np.zeros(total))
        return UNBOUNDED if anything.x is not None else INFEASIBLE if anything.status == 2 else UNSOLVED
    on = found.x[at_on : at_on + t * u].reshape(t, u) > 0.5
    opened = opens[found.x[at_closed:at_flow] < 0.5] if len(opens) else opens
    steps = np.round(found.x[at_steps:]).reshape(t, w)
    return Decided(on, opened, whole.zero + whole.step * steps, float(found.mip_gap or 0.0))
