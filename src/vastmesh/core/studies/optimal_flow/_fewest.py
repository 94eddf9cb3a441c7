"""The fewest limits that have to give where nothing keeps them all.

Whatever is let go must hold one limit at least of every set that can't be kept together. Such a set is what the elastic problem
leaves with a multiplier: with all others let go as well it would still exceed them. So sets are collected one after another: the
fewest limits that hit every set known so far are let go; if that is enough, no fewer are (Chinneck, Feasibility and infeasibility
in optimization, 2008, ch. 7; hitting sets as Reiter, Artificial Intelligence 32, 1987). For the exact equations, which are not
convex, each verdict is that of the interior-point method from where it begins.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ...electrical.arrays import Bools, Floats
from ._grid import Optimum, Soft, State
from ._problem import Progress, solve

_ROUNDS = 25
_MATTERS = 1e-3  # multiplier, of a price of 1
_ENOUGH = 1e-6  # per unit, in sum
_NEXT_TO_NOTHING = 1e-4  # price of what is let go


def fewest(state: State, least: Optimum, progress: Progress) -> tuple[Optimum, bool]:
    """``least``: the answer with the least sum of what is exceeded. Returns the answer that exceeds the fewest limits, among
    these by the least sum, and whether fewer are proven not to do; ``least`` and False where that is not found."""
    count = len(least.slack)
    if len(least.over) == 1:
        return least, True
    sets = [_matter(least, np.zeros(count, np.bool_))]
    for round_ in range(_ROUNDS):
        if not sets[-1]:
            return least, False
        progress(min(0.3 + 0.6 * round_ / _ROUNDS, 0.9), f"fewest limits, try {round_ + 1}")
        free = np.zeros(count, np.bool_)
        free[hitting(sets, least.slack)] = True
        start = replace(state, start=least.unknowns)
        price = np.where(free, _NEXT_TO_NOTHING, 1.0)
        tried = solve([start], progress, soft=Soft(all=True, price=price))[0]
        if not tried.found:
            return least, False
        if tried.slack[~free].sum() < _ENOUGH:
            held = Soft(all=True, most=np.where(free, np.inf, 0.0))
            answer = solve([replace(state, start=tried.unknowns)], progress, soft=held)[0]
            return (answer, True) if answer.found else (least, False)
        sets.append(_matter(tried, free))
    return least, False


def _matter(found: Optimum, free: Bools) -> frozenset[int]:
    """Limits that can't be kept together."""
    return frozenset(np.flatnonzero((found.at_slack > _MATTERS) & ~free).tolist())


def hitting(sets: Sequence[frozenset[int]], likely: Floats) -> list[int]:
    """The fewest numbers of which every set has one; among these rather those that are ``likely``."""
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import lil_array

    every = sorted(set().union(*sets))
    place = {number: j for j, number in enumerate(every)}
    rows = lil_array((len(sets), len(every)))
    for i, members in enumerate(sets):
        for number in members:
            rows[i, place[number]] = 1
    top = max(float(likely[every].max(initial=0.0)), 1e-12)
    cost = 1 - 0.5 / (len(every) + 1) * likely[every] / top
    found = milp(
        cost,
        integrality=np.ones(len(every)),
        bounds=Bounds(0, 1),
        constraints=LinearConstraint(rows.tocsc(), 1, np.inf),
    )
    return [every[j] for j in np.flatnonzero(found.x > 0.5).tolist()]
