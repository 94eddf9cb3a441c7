"""Proof that demand can't be supplied within the limits, whatever voltages and angles are: by flows alone.

In its series impedance a branch loses active and reactive power and never gains any, beside it lines and capacitors give at most
what they give at the highest voltage, and no end delivers more than its limit of current there. So where not even flows without
losses, within these bounds, supply the least demand that may have to be served, nothing does. Circles of apparent power are
taken by polygons around them. What a negative reactance (an arm of a star) may give counts as given.
"""

from __future__ import annotations

import numpy as np
from scipy.optimize import linprog
from scipy.sparse import block_array, coo_array, csr_array, diags_array, eye_array

from ...electrical.arrays import Floats
from ._build import ANY_P, Case
from ._published import end_of

_SHORT = 1e-6  # p.u. that is more than rounding
_NAMED = 4
_SIDES = 16  # of the polygons
_NO_LIMIT = 1e5  # p.u.


def cant_be_supplied(case: Case) -> str:
    """That demand can't be supplied, and which limits stand against it, in words; blank where flows alone prove nothing."""
    g, lim = case.grid, case.limits
    most, given = _bounds(case)
    demand = _demand(case)
    n, k, m = g.n, len(g.frm), len(g.at)
    # Unknown, for active and reactive power alike: flows, powers of machines, what is not supplied. At every node what comes in
    # and is given is at least its demand.
    rows, columns = np.r_[g.frm, g.to], np.r_[np.arange(k), np.arange(k)]
    out = coo_array((np.r_[np.ones(k), -np.ones(k)], (rows, columns)), shape=(n, k))
    machines = coo_array((np.ones(m), (g.at, np.arange(m))), shape=(n, m))
    balance = csr_array(block_array([[out, -machines, -eye_array(n)]]))
    none = csr_array(balance.shape)
    around = [(np.cos(a), np.sin(a)) for a in 2 * np.pi * np.arange(_SIDES) / _SIDES]
    pad = csr_array((k, m + n))
    polygon = [[_wide(diags_array(np.full(k, c)), pad), _wide(diags_array(np.full(k, s)), pad)] for c, s in around]
    a = csr_array(block_array([[balance, none], [none, balance], *polygon]))
    right = np.r_[given - demand, np.tile(most, _SIDES)]
    flows, served = np.column_stack([-most, most]), np.column_stack([np.zeros(2 * n), np.maximum(demand, 0.0)])
    q_high = np.where(lim.q_high >= ANY_P, _NO_LIMIT, lim.q_high)
    free = np.full(m, -np.inf)
    bounds = np.vstack([flows, np.column_stack([free, lim.p_high]), served[:n],
                        flows, np.column_stack([free, q_high]), served[n:]])  # fmt: skip
    missing = np.r_[np.zeros(k + m), np.ones(n)]
    found = linprog(np.r_[missing, missing], a, right, bounds=bounds, method="highs")
    if found.status != 0 or found.fun < _SHORT:
        return ""
    held = -found.ineqlin.marginals[2 * n :].reshape(_SIDES, k).sum(axis=0)
    against = [case.network[end_of(case, j, "from")[0]].name for j in np.argsort(-held) if held[j] > 1e-6]
    top = np.maximum(*(-found.upper.marginals[at : at + m] for at in (k, 2 * k + m + n)))
    full = [case.network[case.plants.ident[j]].name for j in np.flatnonzero(top > 1e-6)]
    limits = [*(f"the limit of {i}" for i in against[:_NAMED]), *(f"the most power of {i}" for i in full[:_NAMED])]
    return (f"demand can't be supplied whatever is set, {found.fun * case.base:.4g} MW and Mvar in sum are too much for "
            f"{', '.join(limits) or 'what there is'}")  # fmt: skip


def _wide(own: csr_array, pad: csr_array) -> csr_array:
    return csr_array(block_array([[own, pad]]))


def _demand(case: Case) -> Floats:
    """Least active and then reactive demand of nodes at voltages within their bands, (2n,)."""
    g, lim, mv = case.grid, case.limits, case.grid.moving
    low, high = np.maximum(lim.v_low, 0.0), lim.v_high
    parts = []
    for row in (0, 1):
        at_least = g.load[row].copy()
        for j, power in ((row + 2, 1), (row + 4, 2)):
            at_least += np.minimum(g.load[j] * low**power, g.load[j] * high**power)
        shed = (
            mv.shed_load[row] + mv.shed_load[row + 2] * low[mv.shed_at] + mv.shed_load[row + 4] * low[mv.shed_at] ** 2
        )
        np.add.at(at_least, mv.shed_at, np.where(shed > 0, (1 - lim.shed[1]) * shed, shed))
        parts.append(at_least)
    return np.concatenate(parts)


def _bounds(case: Case) -> tuple[Floats, Floats]:
    """Apparent power that every branch delivers at most, (n_branch,), and active and then reactive power that nodes are given by
    charging and capacitors at most, (2n,); per unit."""
    g, lim, mv = case.grid, case.limits, case.grid.moving
    b = {name: c[case.branch] for name, c in case.arrays.tables["branch"].items()}
    given = np.zeros(2 * g.n)
    tight = np.full(len(g.frm), _NO_LIMIT)
    for end, at, most in (("from", g.frm, lim.most_from), ("to", g.to, lim.most_to)):
        volts = lim.v_high[at]
        beside = b[f"shunt_{end}"] / b[f"ratio_{end}"] ** 2 * volts**2
        np.add.at(given, g.n + at, np.maximum(beside.imag, 0.0))
        tight = np.minimum(tight, np.minimum(most * (1.0 if lim.power else volts), _NO_LIMIT) + np.abs(beside))
    arm = (b["x"] < 0) | (b["r"] < 0)
    size = np.minimum(np.minimum(lim.most_from, lim.most_to) ** 2, _NO_LIMIT)
    for part, place in ((-b["r"], 0), (-b["x"], g.n)):
        np.add.at(given, place + g.frm, np.where(arm, np.maximum(part, 0.0) * size, 0.0))
    shunt, row = case.arrays.tables["shunt"], case.pattern.row
    at = row[shunt["bus"]]
    live = at >= 0
    np.add.at(given, g.n + at[live], np.maximum(shunt["y"].imag[live], 0.0) * lim.v_high[at[live]] ** 2)
    if len(mv.bank_at):
        np.add.at(given, g.n + mv.bank_at, np.maximum(mv.bank_y.imag * lim.bank[1], 0.0) * lim.v_high[mv.bank_at] ** 2)
    return tight, given
