"""Schemes and plans side by side over the years and conditions, and what each costs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...flow import Ending
from ...network import Network, Scheme
from ...results import Account, Axis, Bound, Column, Figure, Result, Series, Table
from ..base import Answer, Inputs, Missing, Progress, Split
from ._money import PARTS, Present, built_when, present
from ._options import BoardOptions
from ._standing import Standing, Way, conditions_of, laid, solved_as, standing, ways

_GROWTHS = {"entered": (1.0,), "scenarios": (0.5, 1.0, 1.5)}
_SAID = {0.5: "half the growth", 1.0: "growth as entered", 1.5: "half as much again"}


def _plan(inputs: Inputs, options: BoardOptions) -> Sequence[Any]:
    """What has to be solved: each set of schemes in each year once, whoever of the ways needs it."""
    parts: list[dict[str, Any]] = []
    seen = set()
    every = ways(inputs, options.of, options.from_year)
    for growth in _GROWTHS[options.growth]:
        for way in every:
            for year in options.solved_years():
                key = (way.by(year), year, growth)
                if key not in seen:
                    seen.add(key)
                    parts.append({"schemes": list(way.by(year)), "year": year, "growth": growth})
    return parts


def _prepare(inputs: Inputs, options: BoardOptions) -> tuple[Inputs, BoardOptions]:
    return solved_as(inputs, options.load_flow), options


def _answer(ready: tuple[Inputs, BoardOptions], part: Mapping[str, Any], progress: Progress) -> Answer:
    inputs, options = ready
    progress(0.0, f"{part['year']}, {len(part['schemes'])} schemes")
    own = laid(inputs, part["schemes"], part["year"], part["growth"])
    plain = part["growth"] == 1.0
    chosen = conditions_of(inputs, options.conditions)
    return standing(own, chosen, outages=options.outages and plain, reliability=options.interruptions != "none").plain()


def _join(inputs: Inputs, options: BoardOptions, plan: Sequence[Any], answers: Sequence[Answer | Missing]) -> Result:
    known = {
        (tuple(p["schemes"]), p["year"], p["growth"]): Standing.of(dict(a))
        for p, a in zip(plan, answers, strict=True)
        if not isinstance(a, Missing)
    }
    schemes = {s.id: s for s in inputs.network.of(Scheme)}
    every, years = ways(inputs, options.of, options.from_year), options.solved_years()
    growths = _GROWTHS[options.growth]
    whole = [w for w in every if all((w.by(y), y, g) in known for y in years for g in growths)]
    if not whole:
        text = "Nothing has been solved to its end yet."
        return Result(Account(Ending.CONVERGED, "Board", 0, explanation=text), {}, {}, [], text)
    return _published(inputs, options, whole, known, schemes, len(every) - len(whole))


SPLIT = Split(plan=_plan, prepare=_prepare, answer=_answer, join=_join)

Known = Mapping[tuple[tuple[str, ...], int, float], Standing]


def _cost(way: Way, known: Known, schemes: Mapping[str, Scheme], options: BoardOptions, growth: float = 1.0) -> Present:
    return present(way.steps, schemes, lambda y: known[way.by(y), y, growth], options)


def _published(
    inputs: Inputs, options: BoardOptions, every: list[Way], known: Known, schemes: dict[str, Scheme], missing: int
) -> Result:
    years = options.solved_years()
    cost = {w.ident: _cost(w, known, schemes, options) for w in every}
    best = min(every, key=lambda w: cost[w.ident].weighed)
    first = next(iter(inputs.network.items))
    tables = [
        _cases(every, cost, known, options, first),
        _rows(inputs, every, known, years, first),
        _passed(inputs, every, known, years),
        _steps(every, schemes, first),
    ]
    growths = _GROWTHS[options.growth]
    if len(growths) > 1:
        tables += [
            _regret(every, known, schemes, options, growths, first),
            _sensitivity(best, known, schemes, options, first),
        ]
    trouble = _trouble(every[0], known, years)
    now = f"As it is, limits are broken from {trouble} on. " if trouble else "As it is, limits are kept in all years. "
    statement = (
        f"{now}Cheapest with limits weighed is {best.name}: {cost[best.ident].total:,.0f} k over {options.years} years, "
        f"{_breaches(best, known, years)} limits broken at the most."
    )
    notes = [f"{missing} of the ways are not solved to their end."] if missing else []
    notes += _years_told(inputs.network, years)
    blank = [s.name for s in schemes.values() if s.cost_k is None and any(s.id in dict(w.steps) for w in every)]
    if blank:
        notes.append(f"No cost is entered for {', '.join(blank[:4])}: it counts as nothing.")
    assumed = [
        "Costs are in thousands and present values in the first year; years between two that are solved count as the first.",
        "Losses are those of the condition in use times the hours of loss; what generation costs is left out.",
        "Residual value is cost times the share of life that is left at the end.",
    ]
    summary: dict[str, float | None] = {
        "ways": float(len(every)),
        "best_k": cost[best.ident].total,
        "solved": float(len(known)),
    }
    account = Account(Ending.CONVERGED, "Board", len(known), notes=notes, assumed=assumed)
    return Result(
        account,
        {t.name: t for t in tables},
        summary,
        [],
        statement,
        [],
        _figures(every, cost, known, schemes, options),
    )


def _years_told(network: Network, years: Sequence[int]) -> list[str]:
    """What comes and goes by itself in these years."""
    found = []
    for field, text in (("from_year", "In service from"), ("until_year", "End of life in")):
        by: dict[int, list[str]] = {}
        for e in network.elements():
            year = getattr(e, field)
            if year is not None and years[0] <= year <= years[-1]:
                by.setdefault(year, []).append(e.name)
        for year in sorted(by)[:12]:
            more = f" and {len(by[year]) - 4} more" if len(by[year]) > 4 else ""
            found.append(f"{text} {year}: {', '.join(by[year][:4])}{more}.")
    return found


def _breaches(way: Way, known: Known, years: Sequence[int]) -> int:
    return max(known[way.by(y), y, 1.0].breaches for y in years)


def _trouble(way: Way, known: Known, years: Sequence[int]) -> int | None:
    """First year in which a limit is broken."""
    return next((y for y in years if known[way.by(y), y, 1.0].breaches), None)


def _cases(every: Sequence[Way], cost: Mapping[str, Present], known: Known, options: BoardOptions, first: str) -> Table:
    years = options.solved_years()
    last = [known[w.by(years[-1]), years[-1], 1.0] for w in every]
    base = cost[every[0].ident].total if every[0].ident == "" else float("nan")
    columns = [
        Column("id", "Id", [w.ident or first for w in every], fixed=True),
        Column("name", "Way", [w.name for w in every], fixed=True),
        Column("total_k", "Net present cost", np.array([cost[w.ident].total for w in every]), "k", 0),
        Column("more_k", "More than as it is", np.array([cost[w.ident].total - base for w in every]), "k", 0),
    ]
    columns += [Column(f"{p}_k", PARTS[p], np.array([getattr(cost[w.ident], p) for w in every]), "k", 0) for p in PARTS]
    trouble = [_trouble(w, known, years) for w in every]
    columns += [
        Column(
            "trouble",
            "First trouble",
            [str(t) if t else "none" for t in trouble],
            meaning="First solved year in which a limit is broken",
        ),
        Column(
            "breaches",
            "Broken at the end",
            np.array([float(s.breaches) for s in last]),
            None,
            0,
            "Limits, in the last solved year",
        ),
        Column(
            "lost",
            "Outages not survived",
            np.array([float(s.lost) if s.lost >= 0 else np.nan for s in last]),
            None,
            0,
            "In the last solved year",
        ),
        Column("saidi_h", "SAIDI at the end", np.array([s.saidi for s in last]), "h/a", 3),
        Column("ens_mwh", "Not supplied at the end", np.array([s.ens_mwh for s in last]), "MWh/a", 2),
    ]
    return Table("ways", "Ways to go on", columns)


def _rows(inputs: Inputs, every: Sequence[Way], known: Known, years: Sequence[int], first: str) -> Table:
    found: list[tuple[Any, ...]] = []
    items = inputs.network.items

    def name(ident: str) -> str:
        return items[ident].name if ident in items else ident

    for w in every:
        for y in years:
            at = known[w.by(y), y, 1.0]
            for u in at.under:
                found.append((
                    u.worst_at if u.worst_at in items else first, w.name, str(y), u.condition, u.losses_mw, u.worst_pct,
                    name(u.worst_at), u.low_pu, name(u.low_at), float(u.breaches) if u.solved else np.nan,
                    float(at.lost) if at.lost >= 0 and u is at.under[0] else np.nan, at.saidi, at.ens_mwh, w.ident, at.cost_k,
                    u.unbalance_pct,
                ))  # fmt: skip
    c = list(zip(*found, strict=True))
    numbers = {k: np.array(c[k], float) for k in (4, 5, 7, 9, 10, 11, 12, 14, 15)}
    return Table("board", "Board", [
        Column("id", "Id", list(c[0]), fixed=True), Column("name", "Way", list(c[1]), fixed=True),
        Column("year", "Year", list(c[2]), fixed=True), Column("condition", "Condition", list(c[3]), fixed=True),
        Column("losses_mw", "Losses", numbers[4], "MW", 3), Column("worst_pct", "Highest loading", numbers[5], "%", 1),
        Column("worst_at", "There", list(c[6])), Column("low_pu", "Lowest voltage", numbers[7], "p.u.", 4),
        Column("low_at", "At", list(c[8])), Column("breaches", "Limits broken", numbers[9], None, 0),
        Column("lost", "Outages not survived", numbers[10], None, 0), Column("saidi_h", "SAIDI", numbers[11], "h/a", 3),
        Column("ens_mwh", "Not supplied", numbers[12], "MWh/a", 2),
        Column("interruptions_k", "Cost of interruptions", numbers[14], "k/a", 1), Column("way", "Way's id", list(c[13])),
        *([Column("unbalance_pct", "Highest voltage unbalance", numbers[15], "%", 2)] if np.isfinite(numbers[15]).any() else []),
    ])  # fmt: skip


def _passed(inputs: Inputs, every: Sequence[Way], known: Known, years: Sequence[int]) -> Table:
    """When which element passes which limit, and until when: under any condition, of every way."""
    items = inputs.network.items
    rows: list[tuple[str, str, str, str, str, str]] = []
    for w in every:
        since: dict[str, tuple[int, str, str]] = {}
        until: dict[str, int] = {}
        for y in years:
            now = {
                b: (text, u.condition)
                for u in known[w.by(y), y, 1.0].under
                for b, text in zip(u.broken, u.limits, strict=True)
            }
            for ident, told in now.items():
                since.setdefault(ident, (y, *told))
                until[ident] = y
        for ident, (y, text, condition) in since.items():
            after = next((x for x in years if x > until[ident]), None)
            rows.append((ident, w.name, str(y), text, condition, str(after) if after else ""))
    rows.sort(key=lambda r: (r[2], [w.name for w in every].index(r[1])))
    rows = [r for r in rows if r[0] in items] + [r for r in rows if r[0] not in items]
    first = next(iter(items))
    return Table("passed", "Limits passed", [
        Column("id", "Id", [r[0] if r[0] in items else first for r in rows], fixed=True),
        Column("name", "Element", [items[r[0]].name if r[0] in items else r[0] for r in rows], fixed=True),
        Column("way", "Way", [r[1] for r in rows], fixed=True),
        Column("year", "First in", [r[2] for r in rows], meaning="First solved year in which it is beyond the limit"),
        Column("limit", "Limit", [r[3] for r in rows]), Column("condition", "Condition", [r[4] for r in rows]),
        Column("kept", "Kept from", [r[5] for r in rows],
               meaning="Solved year from which it is within again, for good; blank where it never is"),
    ])  # fmt: skip


def _steps(every: Sequence[Way], schemes: Mapping[str, Scheme], first: str) -> Table:
    rows = [(s, w.name, schemes[s].name, y, schemes[s].cost_k) for w in every for s, y in w.steps]
    return Table("steps", "Schemes by year", [
        Column("id", "Id", [r[0] for r in rows], fixed=True), Column("name", "Way", [r[1] for r in rows], fixed=True),
        Column("scheme", "Scheme", [r[2] for r in rows], fixed=True),
        Column("year", "In service", np.array([float(r[3]) for r in rows]), None, 0),
        Column("cost_k", "Cost", np.array([np.nan if r[4] is None else r[4] for r in rows], float), "k", 0),
    ])  # fmt: skip


def _regret(
    every: Sequence[Way],
    known: Known,
    schemes: Mapping[str, Scheme],
    options: BoardOptions,
    growths: Sequence[float],
    first: str,
) -> Table:
    """How much more each way costs than the best would, whichever growth comes."""
    cost = np.array([[_cost(w, known, schemes, options, g).weighed for g in growths] for w in every])
    regret = cost - cost.min(axis=0)
    return Table(
        "regret",
        "Regret",
        [
            Column("id", "Id", [w.ident or first for w in every], fixed=True),
            Column("name", "Way", [w.name for w in every], fixed=True),
            *(
                Column(
                    f"growth_{int(100 * g)}",
                    _SAID[g].capitalize(),
                    regret[:, k],
                    "k",
                    0,
                    "More than the best way would cost then",
                )
                for k, g in enumerate(growths)
            ),
            Column("most", "Most", regret.max(axis=1), "k", 0, "Whatever comes"),
        ],
    )


def _spans(
    way: Way, known: Known, schemes: Mapping[str, Scheme], options: BoardOptions, growths: Sequence[float]
) -> list[tuple[str, float, float]]:
    """What each thing does to the cost of a way when it is less or more: name, thousands at the low and at the high end."""

    def total(money: BoardOptions, growth: float = 1.0, invest: float = 1.0) -> float:
        p = _cost(way, known, schemes, money, growth)
        return p.total + (invest - 1) * (p.investment + p.residual)

    def changed(**more: float) -> BoardOptions:
        return options.model_copy(update=more)

    rows = [
        (
            "Price of losses ± 50 %",
            total(changed(loss_price=0.5 * options.loss_price)),
            total(changed(loss_price=1.5 * options.loss_price)),
        ),
        (
            "Discount rate ± 2",
            total(changed(discount_pct=options.discount_pct + 2)),
            total(changed(discount_pct=max(options.discount_pct - 2, 0))),
        ),
        ("Investment ± 20 %", total(options, invest=0.8), total(options, invest=1.2)),
    ]
    base = _cost(way, known, schemes, options)
    rows.append(
        ("Cost of interruptions ± 50 %", base.total - base.interruptions / 2, base.total + base.interruptions / 2)
    )
    if {0.5, 1.5} <= set(growths):
        rows.append(("Growth ± 50 %", total(options, 0.5), total(options, 1.5)))
    return sorted(rows, key=lambda r: -abs(r[2] - r[1]))


def _sensitivity(way: Way, known: Known, schemes: Mapping[str, Scheme], options: BoardOptions, first: str) -> Table:
    rows = _spans(way, known, schemes, options, _GROWTHS[options.growth])
    base = _cost(way, known, schemes, options).total
    return Table(
        "sensitivity",
        "What the cost hangs on",
        [
            Column("id", "Id", [way.ident or first] * len(rows), fixed=True),
            Column("name", "What", [r[0] for r in rows], fixed=True),
            Column("low_k", "At its low end", np.array([r[1] for r in rows]), "k", 0),
            Column("base_k", "As assumed", np.array([base] * len(rows)), "k", 0),
            Column("high_k", "At its high end", np.array([r[2] for r in rows]), "k", 0),
            Column("span_k", "Span", np.array([abs(r[2] - r[1]) for r in rows]), "k", 0),
        ],
    )


def _figures(
    every: Sequence[Way],
    cost: Mapping[str, Present],
    known: Known,
    schemes: Mapping[str, Scheme],
    options: BoardOptions,
) -> list[Figure]:
    years, names = options.solved_years(), [w.name for w in every]
    stack = [
        Series(p, PARTS[p].lower(), names, [getattr(cost[w.ident], p) for w in every], "bars")
        for p in PARTS
        if p != "breaches" and any(abs(getattr(cost[w.ident], p)) > 1e-9 for w in every)
    ]
    at = {(w.ident, y): known[w.by(y), y, 1.0] for w in every for y in years}
    labels = [str(y) for y in years]

    def cells(value: Any) -> Series:
        return Series("z", "", [str(y) for w in every for y in years], [w.name for w in every for y in years], "cells",
                      z=[value(at[w.ident, y]) for w in every for y in years])  # fmt: skip

    worst = Figure(
        "loading",
        "Highest loading",
        Axis("Year"),
        Axis("Way"),
        [cells(lambda s: max((u.worst_pct for u in s.under if u.solved), default=float("nan")))],
        [Bound("allowed", 100.0, "z")],
        Axis("Highest loading", "%", 0),
    )
    broken = Figure("breaches", "Limits broken", Axis("Year"), Axis("Way"), [cells(lambda s: float(s.breaches))],
                    [Bound("none", 0.0, "z")], Axis("Limits broken", None, 0))  # fmt: skip
    found = [Figure("cost", "Net present cost", Axis("Way"), Axis("Cost", "k", 0), stack), broken, worst]
    if options.interruptions != "none":
        lines = [Series(w.ident or "none", w.name, labels, [at[w.ident, y].saidi for y in years]) for w in every]
        found.append(Figure("saidi", "SAIDI over the years", Axis("Year"), Axis("SAIDI", "h/a", 2), lines))
    named = [
        (w.name if w.name == schemes[i].name else f"{w.name}: {schemes[i].name}", y) for w in every for i, y in w.steps
    ]
    return [*found, *built_when(named, options)]
