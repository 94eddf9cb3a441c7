"""The linear optimal power flow: angles and active powers, 1 p.u. everywhere, no losses.

Into a branch flows b (θ_from - θ_to - shift) with b = 1 / (x a c), a and c the ratios of its ends; what rises with the square of
a power makes it a quadratic programme. Solved by an interior-point method for convex quadratic programmes (PIQP through CasADi:
Schwan, Jiang, Kuhn, Jones, IEEE CDC 2023).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_array, csc_array, hstack, vstack

from ...electrical.arrays import Floats, Ints
from ._problem import Cost, Grid, Limits, Optimum

_FREE = 1e6  # per unit and rad: no bound to speak of


@dataclass(frozen=True)
class LinearBranches:
    """Of the live branches: per unit of power for a radian between its ends, and the shift of its transformer, rad."""

    b: Floats
    shift: Floats


def solve_linear(grid: Grid, branches: LinearBranches, limits: Limits, cost: Cost, drawn: Floats) -> Optimum:
    """Solve for angles and active powers; ``drawn``: demand of nodes, conductance to earth included, (n,). Multipliers as of the
    exact one; branches bind at their from end where power flows out of it, else at their to end."""
    import casadi as ca

    n, m, k = grid.n, len(grid.at), len(grid.frm)
    rows: Ints = np.arange(k)
    across = coo_array(
        (np.r_[branches.b, -branches.b], (np.r_[rows, rows], np.r_[grid.frm, grid.to])), shape=(k, n)
    ).tocsc()
    ends = coo_array(
        (np.r_[np.ones(k), -np.ones(k)], (np.r_[grid.frm, grid.to], np.r_[rows, rows])), shape=(n, k)
    ).tocsc()
    machines = coo_array((-np.ones(m), (grid.at, np.arange(m))), shape=(n, m)).tocsc()
    shifted = branches.b * branches.shift
    balance = hstack([ends @ across, machines])
    most = np.minimum(limits.most_from, limits.most_to)
    bounded = np.flatnonzero(np.isfinite(most))
    flows = (
        hstack([csc_array(across)[bounded], csc_array((len(bounded), m))]) if len(bounded) else csc_array((0, n + m))
    )
    a = csc_array(vstack([balance, flows]))
    a.sort_indices()
    fixed = np.isfinite(limits.angle)
    low, high = np.r_[np.full(n, -_FREE), limits.p_low], np.r_[np.full(n, _FREE), limits.p_high]
    low[:n][fixed] = high[:n][fixed] = limits.angle[fixed]
    right = ends @ shifted - drawn
    scale = max(float(np.abs(cost.c1).max(initial=0.0)), 1e-9)
    h = ca.DM(ca.Sparsity.diag(n + m), np.r_[np.zeros(n), 2 * cost.c2 / scale].tolist())
    lines = ca.DM(ca.Sparsity(a.shape[0], a.shape[1], a.indptr.tolist(), a.indices.tolist()), a.data.tolist())
    solver = ca.conic("linear", "piqp", {"h": h.sparsity(), "a": lines.sparsity()}, {
        "error_on_fail": False, "piqp": {"eps_abs": 1e-11, "eps_rel": 1e-12, "max_iter": 500, "verbose": False},
    })  # fmt: skip
    found = solver(
        h=h, g=np.r_[np.zeros(n), cost.c1 / scale], a=lines, lbx=low, ubx=high,
        lba=np.r_[right, shifted[bounded] - most[bounded]], uba=np.r_[right, shifted[bounded] + most[bounded]],
    )  # fmt: skip
    stats = solver.stats()
    x = np.asarray(found["x"]).ravel()
    lam, lam_x = scale * np.asarray(found["lam_a"]).ravel(), scale * np.asarray(found["lam_x"]).ravel()
    theta, p = x[:n], x[n:]
    # One more per unit of demand takes that from the right-hand side of its node, of which lam is the multiplier.
    at_end = np.zeros(k)
    at_end[bounded] = lam[n:]
    one = np.zeros(n)
    value = float(cost.c1 @ p + cost.c2 @ p**2)
    off = float(np.abs(a[:n] @ x - right).max(initial=0.0))
    good = bool(stats["success"]) and off < 1e-6
    ending = "Solve_Succeeded" if good else "Infeasible_Problem_Detected"
    none = np.zeros(m)
    return Optimum(
        ending, int(stats.get("iter_count", 0) or 0), value, theta, np.ones(n), p, none, lam[:n], one, one, lam_x[n:], none,
        np.maximum(at_end, 0), np.maximum(-at_end, 0),
    )  # fmt: skip
