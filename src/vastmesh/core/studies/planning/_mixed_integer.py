"""The best plan by mixed-integer programming with exact checks: a linear master problem proposes, load flows answer.

What a set of schemes comes to in a year is not linear and known only once it has been solved. The master problem holds a bound
for every year, which each solved state raises (logic-based Benders cuts: Hooker and Ottosson, Mathematical Programming 96,
2003); its answer is solved, until nothing new is proposed. That proves the plan: nothing that has not been solved could be
cheaper.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_array

from ...network import Scheme
from ._money import of_schemes
from ._options import Money
from ._standing import Standing
from ._state_cost import At, Found, Set, period_cost

PROVEN = 1e-5  # share of the cost within which a bound proves it
_WORSE = 1e-9  # thousands, by which more schemes may cost more in a year before it counts as such


@dataclass(frozen=True)
class Proven:
    """A plan and what is proven of it: no plan costs less than ``least_k``. ``monotone``: that rests on no scheme making a year
    dearer (its own cost aside), which held wherever it could be seen."""

    found: Found
    least_k: float
    monotone: bool


def mixed_integer(schemes: Mapping[str, Scheme], money: Money, at: At, most: int = 1000) -> Proven:
    """Solve up to ``most`` states and stop with what is proven by then."""
    ids, years = sorted(schemes), money.solved_years()
    known: dict[tuple[Set, int], float] = {}
    seen: dict[tuple[Set, int], Standing] = {}

    def value(chosen: Set, year: int) -> float:
        if (chosen, year) not in known:
            seen[chosen, year] = at(chosen, year)
            known[chosen, year] = period_cost(seen[chosen, year], year, money)
        return known[chosen, year]

    own = {(s, y): sum(of_schemes([(s, y)], schemes, money)) for s in ids for y in years}
    for y in years:
        value(frozenset(), y)
        value(frozenset(ids), y)
    # Each by itself and all but each, in the last year: what the bounds assume is looked at at both ends.
    for s in ids if len(known) + 2 * len(ids) <= most else ():
        for chosen in (_needed(s, schemes), frozenset(ids) - _needing(s, schemes)):
            value(chosen, years[-1])
    best: tuple[float, tuple[tuple[str, int], ...]] = (sum(value(frozenset(), y) for y in years), ())
    least = 0.0
    while True:
        monotone = _monotone(known)
        proposed = _master(ids, years, own, known, schemes, monotone=monotone)
        if proposed is None:
            # Nothing is proven but that no year costs less than nothing.
            least = sum(min(0.0, *(own[s, y] for y in years)) for s in ids)
            break
        steps, least = proposed
        states = [(frozenset(s for s, v in steps if v <= y), y) for y in years]
        new = sum(s not in known for s in states)
        if new + len(known) > most:
            break
        cost = sum(own[s, y] for s, y in steps) + sum(value(*s) for s in states)
        if cost < best[0]:
            best = (cost, steps)
        # What is proposed is known already: it is what the bound is of, to the solver's tolerance.
        # A bound counts only where what has just been solved bears out what it supposes.
        met = least >= best[0] - PROVEN * max(1.0, abs(best[0])) and _monotone(known) == monotone
        if new == 0 or met:
            break
    return Proven(Found(best[1], best[0], len(known)), min(least, best[0]), monotone)


def _needed(ident: str, schemes: Mapping[str, Scheme]) -> Set:
    """A scheme with all that it needs."""
    found = {ident}
    while (ident := schemes[ident].needs or "") and ident not in found:
        found.add(ident)
    return frozenset(found)


def _needing(ident: str, schemes: Mapping[str, Scheme]) -> Set:
    """A scheme with all that need it."""
    return frozenset(s for s in schemes if ident in _needed(s, schemes))


def _monotone(known: Mapping[tuple[Set, int], float]) -> bool:
    """Whether nothing that has been solved is dearer with more schemes."""
    by: dict[int, list[tuple[Set, float]]] = {}
    for (chosen, year), v in known.items():
        by.setdefault(year, []).append((chosen, v))
    return all(b <= a + _WORSE for rows in by.values() for s, a in rows for t, b in rows if s < t)


def _master(
    ids: list[str], years: list[int], own: Mapping[tuple[str, int], float], known: Mapping[tuple[Set, int], float],
    schemes: Mapping[str, Scheme], *, monotone: bool,
) -> tuple[tuple[tuple[str, int], ...], float] | None:  # fmt: skip
    """The plan that could be the cheapest by all that is known, and what it costs at least; None where the solver gives up.

    Unknowns: whether a scheme comes into service in a year, and what each year comes to. Every solved set bounds its year: by
    its own figure, less what the schemes beyond it could gain at most, which is down to the figure of all schemes together where
    more never costs more; else any other set is bounded by nothing at all.
    """
    from scipy.optimize import Bounds, LinearConstraint, milp

    n, many = len(ids), len(years)
    place = {(s, y): k * many + m for k, s in enumerate(ids) for m, y in enumerate(years)}
    cost = np.r_[[own[s, y] for s in ids for y in years], np.ones(many)]
    rows: list[dict[int, float]] = []
    low: list[float] = []

    def there(s: str, y: int) -> list[int]:
        return [place[s, v] for v in years if v <= y]

    for s in ids:
        rows.append({place[s, y]: -1.0 for y in years})  # once at most
        low.append(-1.0)
        if needs := schemes[s].needs:
            for y in years:
                rows.append({**dict.fromkeys(there(needs, y), 1.0), **dict.fromkeys(there(s, y), -1.0)})
                low.append(0.0)
    everything = frozenset(ids)
    for (chosen, year), v in known.items():
        floor = known[everything, year] if monotone else 0.0
        row = {n * many + years.index(year): 1.0}
        for s in ids:
            if s not in chosen:
                row |= dict.fromkeys(there(s, year), v - floor)
            elif not monotone:
                row |= dict.fromkeys(there(s, year), floor - v)
        rows.append(row)
        low.append(v if monotone else v - (v - floor) * len(chosen))
    # In shares of the largest figure, as the solver's tolerances are absolute.
    size = max(1.0, *map(abs, known.values()), *map(abs, own.values()))
    scale = np.r_[np.ones(n * many), np.full(many, 1 / size)]
    divide = np.array([size if any(c >= n * many for c in row) else 1.0 for row in rows])
    at = [(k, c, x / (scale[c] * divide[k])) for k, row in enumerate(rows) for c, x in row.items()]
    r, c, x = zip(*at, strict=True)
    matrix = csr_array((x, (r, c)), shape=(len(rows), n * many + many))
    whole = np.r_[np.ones(n * many), np.zeros(many)]
    floors = [(known[everything, y] if monotone else 0.0) / size for y in years]
    bounds = Bounds(np.r_[np.zeros(n * many), floors], np.r_[np.ones(n * many), np.full(many, np.inf)])
    for presolve in (True, False):  # where the one fails the other does not
        found = milp(cost / scale / size, integrality=whole, bounds=bounds,
                     constraints=LinearConstraint(matrix, lb=np.array(low) / divide),
                     options={"mip_rel_gap": 0.0, "presolve": presolve})  # fmt: skip
        if found.x is not None:
            break
    else:
        return None
    steps = [(s, y) for (s, y), k in place.items() if found.x[k] > 0.5]
    return tuple(sorted(steps, key=lambda p: (p[1], p[0]))), float(found.fun) * size
