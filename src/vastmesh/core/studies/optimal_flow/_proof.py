"""Proof that demand can't be supplied within the limits, whatever voltages and angles are: by flows alone.

Branches lose and never gain active power, and none delivers more than its limit of current at the highest voltage. So where not
even a flow without losses, within these bounds, supplies the least demand that may have to be served, nothing does.
"""

from __future__ import annotations

import numpy as np
from scipy.optimize import linprog
from scipy.sparse import coo_array

from ._build import Case
from ._published import end_of

_SHORT = 1e-6  # p.u. that is more than rounding
_NAMED = 4
_NO_LIMIT = 1e5  # p.u.


def cant_be_supplied(case: Case) -> str:
    """How much can't be supplied and which limits stand against it, in words; blank where flows alone prove nothing."""
    g, lim, mv = case.grid, case.limits, case.grid.moving
    low = np.maximum(lim.v_low, 0.0)
    drawn = g.load[0] + g.load[2] * low + g.load[4] * low**2
    there, served = mv.shed_load, low[mv.shed_at]
    np.add.at(drawn, mv.shed_at, (1 - lim.shed[1]) * (there[0] + there[2] * served + there[4] * served**2))
    demand = np.maximum(drawn, 0.0)
    most = np.minimum(
        lim.most_from * _power(lim.power, lim.v_high[g.frm]), lim.most_to * _power(lim.power, lim.v_high[g.to])
    )
    most = np.minimum(most, _NO_LIMIT)
    n, k, m = g.n, len(g.frm), len(g.at)
    # Unknown: flows, powers of machines, what is not supplied. At every node what comes in and is given is at least its demand.
    columns = np.arange(k)
    a = coo_array(
        (np.r_[np.ones(k), -np.ones(k), -np.ones(m), -np.ones(n)],
         (np.r_[g.frm, g.to, g.at, np.arange(n)], np.r_[columns, columns, k + np.arange(m), k + m + np.arange(n)])),
        shape=(n, k + m + n),
    ).tocsr()  # fmt: skip
    cost = np.r_[np.zeros(k + m), np.ones(n)]
    bounds = np.column_stack([np.r_[-most, np.full(m, -np.inf), np.zeros(n)], np.r_[most, lim.p_high, demand]])
    found = linprog(cost, a, -demand, bounds=bounds, method="highs")
    if found.status != 0 or found.fun < _SHORT:
        return ""
    dual = np.abs(found.lower.marginals[:k]) + np.abs(found.upper.marginals[:k])
    against = [case.network[end_of(case, j, "from")[0]].name for j in np.flatnonzero(dual > 1e-6)[:_NAMED].tolist()]
    full = [case.network[case.plants.ident[j]].name
            for j in np.flatnonzero(np.abs(found.upper.marginals[k : k + m]) > 1e-6)[:_NAMED].tolist()]  # fmt: skip
    limits = [*(f"the limit of {i}" for i in against), *(f"the most power of {i}" for i in full)]
    return f"{found.fun * case.base:.4g} MW can't be supplied, whatever is set: {', '.join(limits) or 'nothing gives more'}"


def _power(power: bool, volts: np.ndarray) -> np.ndarray:
    """What a limit of current is as power, at most."""
    return np.ones(len(volts)) if power else volts
