"""Which schemes to build in which year: exactly, over every set, or one after another looking ahead."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from itertools import combinations
from typing import Any

import numpy as np

from ...errors import FieldProblem, InvalidFields, VastMeshError
from ...flow import Ending
from ...network import Add, Scheme, SchemeChange
from ...results import Account, Axis, Column, Figure, Result, Series, Table
from ..base import Answer, Inputs, Missing, Progress, Split
from ._mixed_integer import PROVEN, Proven, mixed_integer
from ._money import PARTS, built_when, of_schemes, present
from ._options import Money, ProposalOptions, SearchOptions
from ._proposals import best_of
from ._standing import Standing, conditions_of, laid, solved_as, standing
from ._state_cost import At, Found, Set, period_cost

_EXACT, _MOST, _TRIED = 6, 12, 40


def closed(chosen: Set, schemes: Mapping[str, Scheme]) -> bool:
    """Whether each has what it needs."""
    return all(not (n := schemes[s].needs) or n in chosen for s in chosen)


def sets(schemes: Mapping[str, Scheme]) -> list[Set]:
    """All sets that can be carried out, the smaller first."""
    ids = sorted(schemes)
    every = (frozenset(c) for n in range(len(ids) + 1) for c in combinations(ids, n))
    return [s for s in every if closed(s, schemes)]


def exact(schemes: Mapping[str, Scheme], money: Money, at: At) -> Found:
    """The cheapest of all orders: the cost of a set up to a year is that of the cheapest set it can have come from. Once built, a
    scheme stays."""
    every, years = sets(schemes), money.solved_years()
    own = {(s, y): sum(of_schemes([(s, y)], schemes, money)) for s in schemes for y in years}
    best: dict[Set, tuple[float, tuple[tuple[str, int], ...]]] = {frozenset(): (0.0, ())}
    count = 0
    for year in years:
        now: dict[Set, tuple[float, tuple[tuple[str, int], ...]]] = {}
        for chosen in every:
            ways = []
            for before, (cost, steps) in best.items():
                if before <= chosen:
                    new = sorted(chosen - before)
                    ways.append((cost + sum(own[s, year] for s in new), steps + tuple((s, year) for s in new)))
            if not ways:
                continue
            cost, steps = min(ways)
            count += 1
            now[chosen] = (cost + period_cost(at(chosen, year), year, money), steps)
        best = now
    cost, steps = min(best.values())
    return Found(steps, cost, count)


def greedy(schemes: Mapping[str, Scheme], money: Money, at: At) -> Found:
    """One scheme more at a time in its best year; where none helps by itself, two; then each moved to its best year again."""
    years = money.solved_years()
    known: dict[tuple[Set, int], Standing] = {}

    def seen(chosen: Set, year: int) -> Standing:
        if (chosen, year) not in known:
            known[chosen, year] = at(chosen, year)
        return known[chosen, year]

    def cost(plan: Mapping[str, int]) -> float:
        total = sum(of_schemes(list(plan.items()), schemes, money))
        return total + sum(
            period_cost(seen(frozenset(s for s, v in plan.items() if v <= y), y), y, money) for y in years
        )

    def fits(plan: Mapping[str, int]) -> bool:
        return all(not (n := schemes[s].needs) or (n in plan and plan[n] <= y) for s, y in plan.items())

    plan: dict[str, int] = {}
    value = cost(plan)
    while True:
        trials = [{**plan, s: y} for s in schemes if s not in plan for y in years]
        trials = [t for t in trials if fits(t)]
        best = min(((cost(t), k) for k, t in enumerate(trials)), default=None)
        if best is None or best[0] >= value - 1e-9:
            rest = [s for s in schemes if s not in plan]
            trials = [{**plan, a: y, b: y} for a, b in combinations(rest, 2) for y in years]
            trials = [t for t in trials if fits(t)]
            best = min(((cost(t), k) for k, t in enumerate(trials)), default=None)
            if best is None or best[0] >= value - 1e-9:
                break
        value, plan = best[0], trials[best[1]]
        moved = True
        while moved:
            moved = False
            for s in list(plan):
                for y in (*years, None):
                    other = {k: v for k, v in plan.items() if k != s} | ({s: y} if y is not None else {})
                    if fits(other) and cost(other) < value - 1e-9:
                        value, plan, moved = cost(other), other, True
                        break
    return Found(tuple(sorted(plan.items(), key=lambda p: (p[1], p[0]))), value, len(known))


def _schemes(inputs: Inputs, options: SearchOptions) -> dict[str, Scheme]:
    states = {"all": ("idea", "proposed", "approved"), "proposed": ("proposed", "approved"), "approved": ("approved",)}[
        options.state
    ]
    found = {s.id: s for s in inputs.network.of(Scheme) if s.state in states and s.changes}
    for s in found.values():
        if s.needs and s.needs not in found:
            told = f"{s.name} needs {s.needs}, which is not among the schemes; add it, or blank what it needs"
            raise InvalidFields([FieldProblem(s.id, "needs", s.needs, told)])
    if not found:
        text = "there is no scheme to choose from; record one, or let proposals make one"
        raise InvalidFields([FieldProblem("options", "state", options.state, text)])
    if len(found) > _MOST:
        text = f"{len(found)} schemes are too many; choose from proposed or approved ones, {_MOST} at most"
        raise InvalidFields([FieldProblem("options", "state", options.state, text)])
    return found


def _exactly(schemes: Mapping[str, Scheme], options: SearchOptions) -> bool:
    return options.method == "exact" or (options.method == "automatic" and len(schemes) <= _EXACT)


def _made(inputs: Inputs, options: SearchOptions) -> list[dict[str, Any]]:
    """Schemes of the best proposals, as items: of each place one, and only what can stand beside all others."""
    if not options.proposals:
        return []
    last = options.solved_years()[-1]
    wanted = best_of(
        inputs.laid(()), ProposalOptions(year=last, most=_TRIED, load_flow=options.load_flow), 4 * options.proposals
    )
    present = [s.id for s in inputs.network.of(Scheme) if s.changes]
    found: list[dict[str, Any]] = []
    places: set[str] = set()
    for p in wanted:
        ident = f"proposal-{len(found) + 1}"
        while ident in inputs.network.items:
            ident += "-"
        entries = [{"change": c, "label": p["name"][:200]} for c in p["changes"]]
        item = {"kind": "scheme", "id": ident, "name": p["name"][:80], "cost_k": p["cost_k"], "changes": entries}
        try:
            _with(inputs, [*found, item]).laid([*present, *(f["id"] for f in found), ident])
        except VastMeshError:
            continue
        if p["at"] not in places:
            places.add(p["at"])
            found.append(item)
        if len(found) == options.proposals:
            break
    return found


def _with(inputs: Inputs, made: Sequence[Mapping[str, Any]]) -> Inputs:
    """The same with further schemes in the network."""
    if not made:
        return inputs
    network = inputs.network.copy()
    network.apply([Add(item=dict(m)) for m in made])
    return replace(inputs, network=network)


def _plan(inputs: Inputs, options: SearchOptions) -> Sequence[Any]:
    made = _made(inputs, options)
    schemes = _schemes(_with(inputs, made), options)
    if not _exactly(schemes, options):
        return [{"schemes": [], "year": 0, "made": made}]
    return [{"schemes": sorted(s), "year": y, "made": made} for s in sets(schemes) for y in options.solved_years()]


def _prepare(inputs: Inputs, options: SearchOptions) -> tuple[Inputs, SearchOptions]:
    return solved_as(inputs, options.load_flow), options


def _answer(ready: tuple[Inputs, SearchOptions], part: Mapping[str, Any], progress: Progress) -> Answer:
    inputs, options = _with(ready[0], part["made"]), ready[1]
    conditions, priced = conditions_of(inputs, options.conditions), options.interruptions != "none"

    def solve(chosen: Sequence[str], year: int) -> Standing:
        return standing(laid(inputs, chosen, year), conditions, outages=False, reliability=priced)

    if part["year"]:
        progress(0.0, f"{part['year']}, {len(part['schemes'])} schemes")
        return solve(part["schemes"], part["year"]).plain()
    schemes = _schemes(inputs, options)
    solved: list[dict[str, Any]] = []

    def at(chosen: Set, year: int) -> Standing:
        progress(min(len(solved) / 60, 0.95), f"{len(solved)} states solved")
        found = solve(_in_order(inputs, chosen), year)
        solved.append({"schemes": sorted(chosen), "year": year, "standing": found.plain()})
        return found

    if options.method == "mixed_integer":
        proven = mixed_integer(schemes, options, at, options.most_states)
        found, told = proven.found, {"least_k": proven.least_k, "monotone": proven.monotone}
    else:
        found, told = greedy(schemes, options, at), {}
    return {"steps": [list(s) for s in found.steps], "cost_k": found.cost_k, "solved": solved, **told}


def _in_order(inputs: Inputs, chosen: Set) -> list[str]:
    return [s.id for s in sorted(inputs.network.of(Scheme), key=lambda s: s.rank) if s.id in chosen]


def _join(inputs: Inputs, options: SearchOptions, plan: Sequence[Any], answers: Sequence[Answer | Missing]) -> Result:
    made = plan[0]["made"] if plan else []
    inputs = _with(inputs, made)
    schemes = _schemes(inputs, options)
    known: dict[tuple[Set, int], Standing] = {}
    proven: Proven | None = None
    if any(isinstance(a, Missing) for a in answers):
        done = sum(not isinstance(a, Missing) for a in answers)
        text = f"{done} of {len(answers)} states are solved; the plan follows once all are."
        return Result(Account(Ending.CONVERGED, "Best plan", done, explanation=text), {}, {}, [], text)
    if _exactly(schemes, options):
        for p, a in zip(plan, answers, strict=True):
            known[frozenset(p["schemes"]), p["year"]] = Standing.of(dict(a))  # type: ignore[arg-type]
        found = exact(schemes, options, lambda s, y: known[s, y])
    else:
        answer = answers[0]
        assert not isinstance(answer, Missing)
        for row in answer["solved"]:
            known[frozenset(row["schemes"]), row["year"]] = Standing.of(row["standing"])
        found = Found(tuple((s, int(y)) for s, y in answer["steps"]), float(answer["cost_k"]), len(known))
        if "least_k" in answer:
            proven = Proven(found, float(answer["least_k"]), bool(answer["monotone"]))
    result = _published(inputs, options, schemes, known, found, proven)
    used = [m for m in made if any(s == m["id"] for s, _ in found.steps)]
    notes = [f"Proposals that stood beside the schemes: {', '.join(m['name'] for m in made)}."] if made else []
    # What is chosen of the proposals, so that a plan can be made with them: each its own group, by the name in the plan.
    entries = [{"on": True, **e, "gain": "", "group": m["name"]} for m in used for e in m["changes"]]
    scheme = [SchemeChange.model_validate(e).model_dump(mode="json") for e in entries]
    return replace(result, scheme=scheme, account=replace(result.account, notes=[*result.account.notes, *notes]))


SPLIT = Split(plan=_plan, prepare=_prepare, answer=_answer, join=_join)


def _published(
    inputs: Inputs,
    options: SearchOptions,
    schemes: Mapping[str, Scheme],
    known: Mapping[tuple[Set, int], Standing],
    found: Found,
    proven: Proven | None,
) -> Result:
    def by(year: int) -> Set:
        return frozenset(s for s, y in found.steps if y <= year)

    cost = present(found.steps, schemes, lambda y: known[by(y), y], options)
    nothing = present((), schemes, lambda y: known[frozenset(), y], options)
    first = next(iter(inputs.network.items))
    steps = Table(
        "plan",
        "Plan",
        [
            Column("id", "Id", [s for s, _ in found.steps], fixed=True),
            Column("name", "Scheme", [schemes[s].name for s, _ in found.steps], fixed=True),
            Column("year", "In service", np.array([float(y) for _, y in found.steps]), None, 0),
            Column(
                "cost_k",
                "Cost",
                np.array(
                    [schemes[s].cost_k if schemes[s].cost_k is not None else np.nan for s, _ in found.steps], float
                ),
                "k",
                0,
            ),
        ],
    )
    money = Table("cost", "Net present cost", [
        Column("id", "Id", [first] * (len(PARTS) + 1), fixed=True),
        Column("name", "Part", [*(PARTS[p] for p in PARTS), "Together"], fixed=True),
        Column("plan_k", "The plan", np.array([*(getattr(cost, p) for p in PARTS), cost.weighed]), "k", 1),
        Column("nothing_k", "As it is", np.array([*(getattr(nothing, p) for p in PARTS), nothing.weighed]), "k", 1),
    ])  # fmt: skip
    years = options.solved_years()
    course = Table("course", "Year by year", [
        Column("id", "Id", [first] * len(years), fixed=True), Column("year", "Year", [str(y) for y in years], fixed=True),
        Column("breaches", "Limits broken", np.array([float(known[by(y), y].breaches) for y in years]), None, 0),
        Column("breaches_none", "As it is", np.array([float(known[frozenset(), y].breaches) for y in years]), None, 0),
        Column("losses_mw", "Losses", np.array([known[by(y), y].under[0].losses_mw for y in years]), "MW", 3),
        Column("saidi_h", "SAIDI", np.array([known[by(y), y].saidi for y in years]), "h/a", 3),
        Column("saidi_none_h", "SAIDI as it is", np.array([known[frozenset(), y].saidi for y in years]), "h/a", 3),
    ])  # fmt: skip
    names = [schemes[s].name for s, _ in found.steps]
    how = "every set in every year" if _exactly(schemes, options) else "one more at a time"
    if proven is not None:
        gap = found.cost_k - proven.least_k
        how = (
            "proven: no plan is cheaper"
            if gap <= PROVEN * max(1.0, abs(found.cost_k))
            else (f"no plan is cheaper by more than {gap:,.0f} k")
        )
    statement = (
        f"{', '.join(f'{n} in {y}' for n, (_, y) in zip(names, found.steps, strict=True)) or 'Nothing is worth building'}: "
        f"{cost.total:,.0f} k against {nothing.total:,.0f} k, and {cost.breaches:,.0f} k against {nothing.breaches:,.0f} k of "
        f"weight for broken limits; of {found.looked_at} states, {how}."
    )
    figures = [
        *built_when([(schemes[s].name, y) for s, y in found.steps], options),
        Figure("cost", "Net present cost", Axis("Part"), Axis("Cost", "k", 0), [
            Series("plan", "the plan", list(PARTS.values()), [getattr(cost, p) for p in PARTS], "bars"),
            Series("none", "as it is", list(PARTS.values()), [getattr(nothing, p) for p in PARTS], "bars"),
        ]),
    ]  # fmt: skip
    assumed = [
        "Once built, a scheme stays; it can come into service in each year that is solved.",
        "The cheapest is sought with the weight of broken limits: raise it where limits must be kept at any cost.",
    ]
    if proven is not None:
        rests = "on the assumption that a further scheme makes no year dearer, its own cost aside; what was solved bears that out"
        assumed.append(
            f"Mixed-integer: proven {rests if proven.monotone else 'without assuming anything of sets that were not solved'}."
        )
    summary: dict[str, float | None] = {
        "cost_k": cost.total, "weighed_k": cost.weighed, "nothing_k": nothing.weighed, "schemes": float(len(found.steps)),
        "states": float(found.looked_at),
    }  # fmt: skip
    account = Account(Ending.CONVERGED, "Best plan", found.looked_at, assumed=assumed)
    return Result(account, {t.name: t for t in (steps, money, course)}, summary, [], statement, [], figures)
