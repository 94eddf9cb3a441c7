"""What is exceeded in an answer, or would have to give: each limit in words, what it is and what it would have to be."""

from __future__ import annotations

import numpy as np

from ...results import Finding
from ...severity import Severity
from ._build import Case
from ._grid import Optimum
from ._published import bus_of, end_of

Relaxed = tuple[str, str, float, float, str, float]


def findings_of(rows: list[Relaxed]) -> list[Finding]:
    return [
        Finding(r[0], "relaxation", r[1], r[3], r[4], r[2], r[1], Severity.BREACH, "above" if r[3] > r[2] else "below",
                r[5], f"{r[1]} {r[2]:.4g} {r[4]}: {r[3]:.4g} {r[4]} would do")
        for r in rows
    ]  # fmt: skip


def exceeded(case: Case, found: Optimum) -> list[Relaxed]:
    """What is exceeded, most first."""
    return sorted((relaxed(case, name, at, by) for name, at, by in found.over), key=lambda r: -r[5])


def relaxed(case: Case, name: str, at: int, by: float) -> Relaxed:
    """Element, limit in words, what it is, what it would have to be, unit, and how much that is per unit."""
    base, limits = case.base, case.limits
    kind, _, way = name.partition(" ")
    sign = -1.0 if way == "low" else 1.0
    if kind == "v":
        limit = float((limits.v_low if way == "low" else limits.v_high)[at])
        return (
            bus_of(case, at),
            f"{'Lowest' if way == 'low' else 'Highest'} voltage",
            limit,
            limit + sign * by,
            "p.u.",
            by,
        )
    if kind in ("p", "q"):
        limit = float(getattr(limits, f"{kind}_{way}")[at])
        word, unit = ("active", "MW") if kind == "p" else ("reactive", "Mvar")
        label = f"{'Least' if way == 'low' else 'Most'} {word} power"
        return case.plants.ident[at], label, limit * base, (limit + sign * by) * base, unit, by
    if kind == "row":
        ident, what = case.rows[at]
        per, unit = (180 / np.pi, "°") if what.startswith("Angle") else (base, "Mvar")
        limit = float((limits.rows.low if way == "low" else limits.rows.high)[at])
        return ident, what, limit * per, (limit + sign * by) * per, unit, by
    if kind == "interface":
        limit = float((limits.interfaces.low if way == "low" else limits.interfaces.high)[at])
        word = "Least" if way == "low" else "Most"
        return case.interfaces[at], f"{word} power through it", limit * base, (limit + sign * by) * base, "MW", by
    limit = float((limits.most_from if kind == "from" else limits.most_to)[at])
    ident, scale, unit = end_of(case, at, kind)
    return ident, f"Rating, {kind} end", limit * scale, (limit + by) * scale, unit, by
