"""The optimal power flow as equations: exact, in polar form, on the compiled arrays of the load flow.

Unknown, per unit: angle and voltage of every node, active and reactive power of every machine. At every node

    sum of machines - demand(V) - Re, Im of V conj(Y V) = 0,

at both ends of branches |I|² or |S|² at most the square of its limit, everything else between bounds. Solved by an interior-point
method with exact first and second derivatives (IPOPT through CasADi: Wächter, Biegler, Math. Programming 106, 2006); the
expression is built once for a network, demand is a parameter.

The elastic problem has the same equations and lets every limit be exceeded at a price of one per unit of it. The least sum is
sought: what it exceeds is a smallest relaxation with which there is an answer.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...electrical.arrays import Floats, Ints

Progress = Callable[[float, str], None]
_MOST_ITERATIONS = 300
_FREE = 1e10


@dataclass(frozen=True)
class Grid:
    """A live network: nodes with the admittance matrix in coordinates (``row``, ``col``, ``y``), branches with two-ports
    (4, n_branch) between nodes ``frm`` and ``to``, machines at nodes ``at``; demand ``load`` (6, n): p0, q0, p1, q1, p2, q2 of
    p0 + p1 V + p2 V². Per unit."""

    n: int
    row: Ints
    col: Ints
    y: np.ndarray
    frm: Ints
    to: Ints
    ports: np.ndarray
    at: Ints
    load: Floats


@dataclass(frozen=True)
class Limits:
    """Bounds per unit: voltages of nodes, powers of machines, low and high; ``angle``: fixed angles, NaN where free, rad; of
    branch ends the most current, or power where ``power``, inf where none."""

    v_low: Floats
    v_high: Floats
    p_low: Floats
    p_high: Floats
    q_low: Floats
    q_high: Floats
    angle: Floats
    most_from: Floats
    most_to: Floats
    rated: Floats  # apparent power of machines, inf where unknown
    power: bool


@dataclass(frozen=True)
class Cost:
    """Of an hour: ``c2`` P² + ``c1`` P by machine, P per unit; or the losses, where ``losses``."""

    c1: Floats
    c2: Floats
    losses: float = 0.0


@dataclass(frozen=True)
class Optimum:
    """What was found. Multipliers: of the balance of active and reactive power at nodes (what one more per unit of demand costs),
    of voltages, powers and branch ends (positive: at the upper bound, negative: at the lower). ``ending``: the solver's word; of
    the elastic problem ``over``: name of a bound, place in it, and by how much it is exceeded, per unit."""

    ending: str
    iterations: int
    value: float
    theta: Floats
    v: Floats
    p: Floats
    q: Floats
    price_p: Floats
    price_q: Floats
    at_v: Floats
    at_p: Floats
    at_q: Floats
    at_from: Floats
    at_to: Floats
    over: tuple[tuple[str, int, float], ...] = ()

    @property
    def found(self) -> bool:
        return self.ending in ("Solve_Succeeded", "Solved_To_Acceptable_Level")


def solve(
    grid: Grid,
    limits: Limits,
    cost: Cost,
    start: tuple[Floats, Floats, Floats, Floats],
    progress: Progress,
    *,
    elastic: bool = False,
) -> Optimum:
    """Solve from a start of angles, voltages, active and reactive powers. Raises what ``progress`` raises."""
    import casadi as ca

    n, m, k = grid.n, len(grid.at), len(grid.frm)
    theta, v = ca.MX.sym("theta", n), ca.MX.sym("v", n)
    p, q = ca.MX.sym("p", m), ca.MX.sym("q", m)
    load = ca.MX.sym("load", 6 * n)
    e, h = v * ca.cos(theta), v * ca.sin(theta)
    g, b = (_sparse(ca, grid.row, grid.col, part, n, n) for part in (grid.y.real, grid.y.imag))
    i_e, i_h = g @ e - b @ h, g @ h + b @ e
    machines = _sparse(ca, grid.at, np.arange(m), np.ones(m), n, m)
    part = [load[j * n : (j + 1) * n] for j in range(6)]
    drawn_p, drawn_q = part[0] + part[2] * v + part[4] * v**2, part[1] + part[3] * v + part[5] * v**2
    balance = ca.vertcat(e * i_e + h * i_h + drawn_p - machines @ p, h * i_e - e * i_h + drawn_q - machines @ q)
    ends = [_at_end(ca, grid, e, h, v, side, limits.power) for side in (0, 1)]
    most = np.r_[limits.most_from, limits.most_to]
    bounded = np.flatnonzero(np.isfinite(most))
    flows = ca.vertcat(*ends)[bounded.tolist()] if len(bounded) else ca.MX(0, 1)
    round_ = np.flatnonzero(np.isfinite(limits.rated)).tolist()
    within = p[round_] ** 2 + q[round_] ** 2 if round_ else ca.MX(0, 1)
    rated2 = limits.rated[round_] ** 2
    low = np.r_[np.full(n, -np.inf), limits.v_low, limits.p_low, limits.q_low]
    high = np.r_[np.full(n, np.inf), limits.v_high, limits.p_high, limits.q_high]
    fixed = np.isfinite(limits.angle)
    low[:n][fixed] = high[:n][fixed] = limits.angle[fixed]
    x = ca.vertcat(theta, v, p, q)
    x0 = np.concatenate(start)
    spent = ca.dot(ca.DM(cost.c1), p) + ca.dot(ca.DM(cost.c2), p**2) + cost.losses * (ca.sum1(p) - ca.sum1(drawn_p))
    if not elastic:
        f, constraints = spent, ca.vertcat(balance, flows, within)
        lbg = np.r_[np.zeros(2 * n), np.full(len(bounded) + len(round_), -np.inf)]
        ubg = np.r_[np.zeros(2 * n), most[bounded] ** 2, rated2]
        unknown = x
    else:
        soft = np.flatnonzero((np.isfinite(low) | np.isfinite(high)) & (np.arange(len(low)) >= n))
        under, above, beyond = (
            ca.MX.sym("under", len(soft)),
            ca.MX.sym("above", len(soft)),
            ca.MX.sym("beyond", len(bounded)),
        )
        f = ca.sum1(under) + ca.sum1(above) + ca.sum1(beyond)
        own = x[soft.tolist()]
        wide = (ca.DM(most[bounded]) + beyond) ** 2
        constraints = ca.vertcat(balance, flows - wide, within, own + under, own - above)
        lbg = np.r_[
            np.zeros(2 * n), np.full(len(bounded) + len(round_), -np.inf), low[soft], np.full(len(soft), -np.inf)
        ]
        ubg = np.r_[np.zeros(2 * n), np.zeros(len(bounded)), rated2, np.full(len(soft), np.inf), high[soft]]
        unknown = ca.vertcat(x, under, above, beyond)
        slack = 2 * len(soft) + len(bounded)
        low[n:], high[n:] = -np.inf, np.inf
        low[n : 2 * n] = 0.05
        low, high = np.r_[low, np.zeros(slack)], np.r_[high, np.full(slack, np.inf)]
        x0 = np.r_[x0, np.full(slack, 1e-2)]
    watch = _watch(ca, unknown.numel(), constraints.numel(), 6 * n, progress)
    solver = ca.nlpsol("optimum", "ipopt", {"x": unknown, "p": load, "f": f, "g": constraints}, {
        "print_time": 0, "iteration_callback": watch, "ipopt": {
            "print_level": 0, "sb": "yes", "tol": 1e-10, "constr_viol_tol": 1e-10, "compl_inf_tol": 1e-9, "dual_inf_tol": 1e-7,
            "max_iter": _MOST_ITERATIONS, "bound_relax_factor": 0.0, "acceptable_tol": 1e-8, "mu_strategy": "adaptive",
        },
    })  # fmt: skip
    found = solver(x0=x0, p=grid.load.ravel(), lbx=low, ubx=high, lbg=lbg, ubg=ubg)
    if watch.stopped is not None:
        raise watch.stopped
    stats = solver.stats()
    values = np.asarray(found["x"]).ravel()
    lam_x, lam_g = np.asarray(found["lam_x"]).ravel(), np.asarray(found["lam_g"]).ravel()
    at_ends = np.zeros(2 * k)
    # Of the limit itself and not of its square.
    at_ends[bounded] = lam_g[2 * n : 2 * n + len(bounded)] * 2 * most[bounded]
    over: list[tuple[str, int, float]] = []
    if elastic:
        below, beside, ends_over = np.split(values[2 * n + 2 * m :], [len(soft), 2 * len(soft)])
        for place, down, up in zip((soft - n).tolist(), below.tolist(), beside.tolist(), strict=True):
            name, at = ("v", place) if place < n else ("p", place - n) if place < n + m else ("q", place - n - m)
            over += [(f"{name} {way}", at, by) for way, by in (("low", down), ("high", up)) if by > 1e-6]
        over += [("from" if c < k else "to", int(c % k), by)
                 for c, by in zip(bounded.tolist(), ends_over.tolist(), strict=True) if by > 1e-6]  # fmt: skip
    cut = np.cumsum([n, n, m])
    theta_, v_, p_, q_ = np.split(values[: 2 * n + 2 * m], cut)
    _, at_v, at_p, at_q = np.split(lam_x[: 2 * n + 2 * m], cut)
    return Optimum(
        str(stats["return_status"]), int(stats["iter_count"]), float(found["f"]), theta_, v_, p_, q_, lam_g[:n], lam_g[n : 2 * n],
        at_v, at_p, at_q, at_ends[:k], at_ends[k:], tuple(over),
    )  # fmt: skip


def _sparse(ca: Any, row: Ints, col: Ints, values: Floats, n: int, m: int) -> Any:
    """A constant sparse matrix; entries at one place add up."""
    from scipy.sparse import coo_array

    made = coo_array((values, (row, col)), shape=(n, m)).tocsc()
    made.sort_indices()
    pattern = ca.Sparsity(n, m, made.indptr.tolist(), made.indices.tolist())
    return ca.MX(ca.DM(pattern, made.data.tolist()))


def _at_end(ca: Any, grid: Grid, e: Any, h: Any, v: Any, side: int, power: bool) -> Any:
    """|I|² or |S|² into branches at an end."""
    near, far = (grid.frm, grid.to) if side == 0 else (grid.to, grid.frm)
    own, other = (grid.ports[0], grid.ports[1]) if side == 0 else (grid.ports[3], grid.ports[2])
    at, there = near.tolist(), far.tolist()
    re, im = (ca.DM(getattr(own, w)) for w in ("real", "imag"))
    re2, im2 = (ca.DM(getattr(other, w)) for w in ("real", "imag"))
    i_e = re * e[at] - im * h[at] + re2 * e[there] - im2 * h[there]
    i_h = re * h[at] + im * e[at] + re2 * h[there] + im2 * e[there]
    size = i_e**2 + i_h**2
    return size * v[at] ** 2 if power else size


def _watch(ca: Any, n_x: int, n_g: int, n_p: int, progress: Progress) -> Any:
    """Tells of every iteration, and stops the solver when progress raises."""
    sizes = {"f": 1, "x": n_x, "lam_x": n_x, "g": n_g, "lam_g": n_g, "lam_p": n_p}

    class Watch(ca.Callback):  # type: ignore[misc]
        def __init__(self) -> None:
            ca.Callback.__init__(self)
            self.seen = 0
            self.stopped: BaseException | None = None
            self.construct("watch")

        def get_n_in(self) -> int:
            return int(ca.nlpsol_n_out())

        def get_n_out(self) -> int:
            return 1

        def get_name_in(self, i: int) -> str:
            return str(ca.nlpsol_out(i))

        def get_sparsity_in(self, i: int) -> Any:
            return ca.Sparsity.dense(sizes[ca.nlpsol_out(i)], 1)

        def eval(self, arg: Any) -> list[int]:  # of what the solver puts out x comes first, then f
            self.seen += 1
            try:
                progress(
                    min(self.seen / (self.seen + 25.0), 0.95), f"iteration {self.seen}, objective {float(arg[1]):.6g}"
                )
            except BaseException as error:
                self.stopped = error
                return [1]
            return [0]

    return Watch()
