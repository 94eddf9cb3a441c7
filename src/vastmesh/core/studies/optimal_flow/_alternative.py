"""What is nearly as cheap and changes plants less."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...results import Column, Table
from ._build import Case
from ._grid import Optimum, Soft
from ._problem import Progress, solve
from ._published import hour_of

_MORE = 0.005


def alternative_of(case: Case, found: Optimum, progress: Progress, soft: Soft | None) -> Table:
    """Of all answers within half a per cent of the least cost C one that moves little: the least of C + w D, with D the sum of
    squares of changes and w = 0.005 C / D at the optimum. Its cost is at most C + w D(optimum), whatever else it is."""
    base, lay, cost = case.base, case.state.layout, case.state.cost
    moved = float(((found.p - case.plants.p) ** 2).sum()) * base**2
    p = lay.place("p")
    other = found
    if moved > 1e-9 and abs(found.value) > 1e-9:
        w = _MORE * abs(found.value) / moved
        linear, square = cost.linear.copy(), cost.square.copy()
        linear[p] -= 2 * w * case.plants.p * base**2
        square[p] += w * base**2
        state = replace(case.state, cost=replace(cost, linear=linear, square=square))
        tried = solve([state], progress, soft=soft, warm=True)[0]
        other = tried if tried.found else found
    names = [case.network[i].name for i in case.plants.ident]
    return Table("alternative", "Nearly as cheap", [
        Column("id", "Id", case.plants.ident, fixed=True), Column("name", "Name", names, fixed=True),
        Column("before_mw", "Now", case.plants.p * base, "MW", 3), Column("after_mw", "Cheapest", found.p * base, "MW", 3),
        Column("other_mw", "With less change", other.p * base, "MW", 3),
        Column("change_mw", "Change then", (other.p - case.plants.p) * base, "MW", 3),
        Column("more", "An hour of it, more", np.array([_spent(case, other, k) - _spent(case, found, k)
                                                        for k in range(len(names))]), "1/h", 2),
    ])  # fmt: skip


def _spent(case: Case, found: Optimum, k: int) -> float:
    return hour_of(case.network[case.plants.ident[k]], float(found.p[k]) * case.base, float(found.q[k]) * case.base)
