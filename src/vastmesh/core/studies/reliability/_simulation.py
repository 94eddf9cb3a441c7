"""Simulated years, and what they say of the indices beyond their mean."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import Any

import numpy as np

from ...electrical.arrays import Floats
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...results import Account, Axis, Bound, Column, Figure, Result, Series, Table
from ..base import Answer, Inputs, Missing, Progress, Split
from ..failures.events import Ready, every
from ..failures.indices import indices
from ..failures.tally import MEASURES, Tally
from ._options import SimulationOptions
from ._years import Causes, causes_of, simulate

_BLOCK, _BARS, _POINTS = 500, 30, 120
_TOLD = (
    ("saidi", "SAIDI", "h/a"),
    ("saifi", "SAIFI", "1/a"),
    ("maifi", "MAIFI", "1/a"),
    ("ens", "ENS", "MWh/a"),
    ("cost", "Interruption cost", "k/a"),
)


def _plan(inputs: Inputs, options: SimulationOptions) -> Sequence[Any]:
    ready = Ready(inputs, options)
    if options.at is not None and options.at not in ready.people.loads:
        raise InvalidFields([FieldProblem("options", "at", options.at, "name a load in service, or leave it blank")])
    blocks = range(-(-options.years // _BLOCK))
    # What every failure comes to when it is played once is a part of its own: it takes as long as many years.
    return [
        {"block": -1, "years": 0},
        *({"block": k, "years": min(_BLOCK, options.years - k * _BLOCK)} for k in blocks),
    ]


class _Prepared:
    """What is made once in every process, as far as its parts need it."""

    def __init__(self, inputs: Inputs, options: SimulationOptions) -> None:
        self.ready, self.options = Ready(inputs, options), options

    @cached_property
    def causes(self) -> Causes:
        return causes_of(self.ready, self.options)


def _answer(prepared: _Prepared, part: dict[str, int], progress: Progress) -> Answer:
    if part["block"] < 0:
        progress(0.0, "Playing failures")
        return {"once": _once(prepared.ready, prepared.options)}
    progress(0.0, "Simulating years")
    seed = (prepared.options.seed, part["block"])
    years = simulate(prepared.causes, prepared.options, part["years"], seed)
    return {"years": years, "sums": _sums(_judged(_figures_of(prepared.ready, prepared.options, years)))}


def _join(
    inputs: Inputs, options: SimulationOptions, plan: Sequence[Any], answers: Sequence[Answer | Missing]
) -> Result:
    there, missing, reached = _blocks(options, answers)
    once = next((dict(a["once"]) for a in answers if not isinstance(a, Missing) and "once" in a), {})
    years = np.concatenate(there) if there else np.zeros((0, len(MEASURES)))
    return _published(Ready(inputs, options), options, years, once, missing, reached)


def _blocks(options: SimulationOptions, answers: Sequence[Answer | Missing]) -> tuple[list[Floats], int, bool]:
    """Years of the blocks that count, how many parts before are missing, and whether the precision is reached by them.

    With a rule for the end the blocks count in order up to that at which the precision is reached: which years those are does
    not hang on what was ready first."""
    there: list[Floats] = []
    sums = np.zeros(3)
    missing = int(bool(answers) and isinstance(answers[0], Missing))
    for a in answers[1:]:
        if isinstance(a, Missing):
            missing += 1
            continue
        there.append(np.asarray(a["years"]))
        sums += np.asarray(a["sums"])
        if options.stops and len(there) > 1 and not missing and _needed(sums, options.within_pct) <= sums[0]:
            return there, 0, True
    return there, missing, False


def _judged(found: Mapping[str, Floats]) -> Floats:
    """The index by which the precision is judged: SAIDI, energy where nobody says how many customers there are."""
    return found["saidi"] if np.isfinite(found["saidi"]).all() else found["ens"]


def _sums(x: Floats) -> Floats:
    """How many, their sum, and the sum of their squares."""
    return np.array([len(x), x.sum(), (x**2).sum()])


def _enough(options: SimulationOptions, answers: Sequence[Answer | Missing]) -> bool:
    return options.stops and _blocks(options, answers)[2]


SPLIT = Split(plan=_plan, prepare=_Prepared, answer=_answer, join=_join, enough=_enough)


def _figures_of(ready: Ready, options: SimulationOptions, years: Floats) -> dict[str, Floats]:
    """Indices of every year."""
    people = ready.people
    chosen = np.array([options.at in (None, i) for i in people.loads])
    n = float(people.customers[chosen].sum()) or float("nan")
    return {
        "saidi": years[:, 1] / n,
        "saifi": years[:, 0] / n,
        "maifi": years[:, 2] / n,
        "ens": years[:, 3],
        "cost": years[:, 4] / 1000,
    }


def _once(ready: Ready, options: SimulationOptions) -> dict[str, float]:
    """The same by playing every failure once."""
    people = ready.people
    tally = Tally(people, options.sustained_min).take(every(ready))
    return indices(people, tally, np.array([options.at in (None, i) for i in people.loads]))


def _published(
    ready: Ready, options: SimulationOptions, years: Floats, once: Mapping[str, float], missing: int, reached: bool
) -> Result:
    if not len(years):
        text = "No year has been simulated yet."
        return Result(Account(Ending.CONVERGED, "Simulated years", 0, explanation=text), {}, {}, [], text)
    found = _figures_of(ready, options, years)
    known = {key: float(once.get(key, float("nan"))) for key, _, _ in _TOLD}
    n = len(years)
    rows = []
    for key, label, unit in _TOLD:
        x = found[key]
        error = float(x.std(ddof=1) / np.sqrt(n)) if n > 1 else float("nan")
        low, middle, high = (float(v) for v in np.percentile(x, (5, 50, 95)))
        rows.append((label, unit, float(x.mean()), 1.96 * error, low, middle, high, float(x.max()), known[key]))
    first = next(iter(ready.network.items))
    columns = list(zip(*rows, strict=True))
    numbers = [np.array(c, float) for c in columns[2:]]
    names = (
        ("mean", "Mean", ""), ("interval", "± 95 %", "Half the interval in which the mean lies with 95 %"),
        ("low", "5 %", "One year in twenty is better"), ("middle", "Median", ""), ("high", "95 %", "One year in twenty is worse"),
        ("most", "Worst year", ""), ("analytical", "Analytical", "Every failure played once, with repairs of mean length"),
    )  # fmt: skip
    table = Table(
        "years",
        "Indices over the years",
        [
            Column("id", "Id", [first] * len(rows), fixed=True),
            Column("name", "Index", list(columns[0]), fixed=True),
            Column("unit", "Unit", list(columns[1]), fixed=True),
            *(Column(k, label, v, None, 4, meaning) for (k, label, meaning), v in zip(names, numbers, strict=True)),
        ],
    )
    saidi = _judged(found)
    label, unit = ("SAIDI", "h/a") if saidi is found["saidi"] else ("Energy not supplied", "MWh/a")
    mean, half = float(saidi.mean()), 1.96 * float(saidi.std(ddof=1)) / np.sqrt(n) if n > 1 else float("nan")
    needed = _needed(_sums(saidi), options.within_pct)
    statement = (
        f"{n} years: {label} is {mean:.3g} ± {half:.2g} {unit} on average, "
        f"{np.percentile(saidi, 95):.3g} in one year of twenty."
    )
    statement += (
        f" It ended there, as {options.within_pct:g} % of precision were reached."
        if reached and n < options.years
        else f" {options.within_pct:g} % of precision were reached after {needed} years."
        if needed <= n
        else f" For {options.within_pct:g} % of precision simulate some {needed} years."
    )
    notes = [f"{missing} parts of the work are missing."] if missing else []
    assumed = [
        "Failures come at random at their rates; what happens after each is as when it is played by itself.",
        "A crew repairs one thing at a time, first come, first served; without a limit every repair begins at once.",
        "Storms do not change how often something fails over the year, only when"
        + (
            f"; what fails in one takes {options.storm_repairs:g} times as long to repair."
            if options.storm_repairs > 1
            else "."
        ),
        "Years are not leap years; every year has the profile of the model.",
    ]
    if options.crews:
        notes.append("The analytical figures know no limit of crews: every repair begins at once there.")
    summary: dict[str, float | None] = {"years": float(n), "needed": float(needed)}
    for row, (key, _, _) in zip(rows, _TOLD, strict=True):
        summary[key] = row[2] if np.isfinite(row[2]) else None
        summary[f"{key}_95"] = row[6] if np.isfinite(row[6]) else None
    account = Account(Ending.CONVERGED, "Simulated years", n, notes=notes, assumed=assumed)
    return Result(account, {"years": table}, summary, [], statement, [], _figures(saidi, label, unit, known, options))


def _needed(sums: Floats, within_pct: float) -> int:
    """Years until half the 95 % interval of the mean is within a share of it; of how many, their sum and that of squares."""
    n, total, squares = (float(x) for x in sums)
    mean = total / n
    if mean <= 0 or n < 2:
        return int(n)
    variance = max(squares - n * mean**2, 0.0) / (n - 1)
    return max(2, int(np.ceil(1.96**2 * variance / (within_pct / 100 * mean) ** 2)))


def _figures(x: Floats, label: str, unit: str, known: dict[str, float], options: SimulationOptions) -> list[Figure]:
    n = len(x)
    count, edge = np.histogram(x, bins=min(_BARS, max(5, n // 20)))
    middle = (edge[:-1] + edge[1:]) / 2
    at = np.unique(np.linspace(min(10, n), n, _POINTS).astype(int))
    running, squares = np.cumsum(x)[at - 1] / at, np.cumsum(x**2)[at - 1] / at
    half = 1.96 * np.sqrt(np.maximum(squares - running**2, 0) / np.maximum(at - 1, 1))
    value = known["saidi"] if label == "SAIDI" else known["ens"]
    bound = [Bound("analytical", value)] if not options.crews and np.isfinite(value) else []
    share = 100 * (np.arange(n) + 0.5) / n
    down = np.sort(x)[::-1]
    thin = np.unique(np.linspace(0, n - 1, min(n, 400)).astype(int))
    return [
        Figure("spread", "How years differ", Axis(label, unit, 2), Axis("Years", None, 0),
               [Series("years", "years", [f"{m:.2f}" for m in middle], count.astype(float).tolist(), "bars")]),
        Figure("mean", "Convergence", Axis("Years simulated", None, 0), Axis(label, unit, 3), [
            Series("mean", "mean", at.astype(float).tolist(), running.tolist()),
            Series("high", "+ 95 %", at.astype(float).tolist(), (running + half).tolist()),
            Series("low", "− 95 %", at.astype(float).tolist(), (running - half).tolist()),
        ], bound),
        Figure("exceeded", "Years as bad", Axis("Share of years", "%", 1), Axis(label, unit, 2),
               [Series("exceeded", "at least", share[thin].tolist(), down[thin].tolist())]),
    ]  # fmt: skip
