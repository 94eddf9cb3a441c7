"""The search for open points: by exchange, over all there are, or by linear equations held against the load flow."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from itertools import islice
from typing import Any

import numpy as np

from ...electrical.arrays import Bools
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import SchemeChange, Update
from ...results import Account, Axis, Column, Figure, Result, Series, Table
from ..base import Inputs, Progress, cases
from ..variants import Measured, Variants
from ._graph import Choice
from ._linear import best_of_linear
from ._options import OpenPointsOptions

_MOST = 20_000
_ANSWERS = 10  # of the linear equations that are held against the load flow
_EVEN = 1e-9


@dataclass(frozen=True)
class _Score:
    """Of a way to switch, over all conditions: what is sought, and the means behind it."""

    value: float
    losses_mw: float
    worst_pct: float
    excess: float


class _Search:
    def __init__(self, inputs: Inputs, options: OpenPointsOptions, progress: Progress) -> None:
        self.options, self.progress = options, progress
        self.states = [Variants(c.inputs.network, c.inputs.under) for c in cases(inputs, options.over)]
        self.choices = [Choice(v, options.up_to_kv, lines=options.lines) for v in self.states]
        self.choice = self.choices[0]
        self.known: dict[bytes, _Score | None] = {}
        self.most_excess = np.inf

    def score(self, closed: Bools) -> _Score | None:
        """None where the load flow has no solution, a bus loses its supply, or limits are broken further than they are now."""
        key = closed.tobytes()
        if key not in self.known:
            self.progress(min(len(self.known) / 2000, 0.95), f"{len(self.known)} ways tried")
            self.known[key] = self._measured(closed)
        return self.known[key]

    def _measured(self, closed: Bools) -> _Score | None:
        found: list[Measured] = []
        for variants, choice in zip(self.states, self.choices, strict=True):
            m = variants.measure(*choice.state(closed))
            if m is None or m.dead:
                return None
            found.append(m)
        excess = float(np.mean([m.excess for m in found]))
        if excess > self.most_excess + 1e-6:
            return None
        losses, worst = float(np.mean([m.losses_mw for m in found])), max(m.worst_pct for m in found)
        value = losses if self.options.best == "losses" else worst + 1e-6 * losses
        return _Score(value, losses, worst, excess)

    def exchange(self, closed: Bools, score: _Score) -> tuple[Bools, _Score]:
        """Close what is open, one after another, and open the best of its loop, until nothing is better."""
        most = self.options.most_changes or len(closed)
        first = closed
        improved = True
        while improved:
            improved = False
            for edge in np.flatnonzero(~closed).tolist():
                best = None
                for other in self.choice.loop(closed, edge):
                    tried = closed.copy()
                    tried[edge], tried[other] = True, False
                    if int((first & ~tried).sum()) > most:
                        continue
                    found = self.score(tried)
                    if found is not None and (best is None or found.value < best[1].value):
                        best = tried, found
                if best is not None and best[1].value < score.value - _EVEN * max(abs(score.value), 1e-9):
                    closed, score = best
                    improved = True
        return closed, score

    def opened(self, closed: Bools) -> Bools:
        """Loops opened one after another, each at the place where that costs least."""
        closed = closed.copy()
        least = self.choice.parts(np.ones(len(closed), np.bool_))
        while int(closed.sum()) > self.choice.n - least:
            ways = []
            for k in np.flatnonzero(closed).tolist():
                tried = closed.copy()
                tried[k] = False
                if self.choice.parts(tried) == least and (found := self._measured(tried)) is not None:
                    ways.append((found.value, k))
            if not ways:
                break
            closed[min(ways)[1]] = False
        return closed


def run_open_points(inputs: Inputs, options: OpenPointsOptions, progress: Progress) -> Result:
    """Raises :class:`InvalidFields` where nothing may be switched, or where a method does not go with the rest."""
    search = _Search(inputs, options, progress)
    choice = search.choice
    first = choice.closed
    if not choice.edges or (bool(first.all()) and options.loops == "kept") or not first.any():
        text = (
            f"up to {options.up_to_kv:g} kV nothing that is live may be closed instead of something else; raise the voltage, "
            "add ties (open switches), or let loops be opened"
        )
        raise InvalidFields([FieldProblem("options", "up_to_kv", options.up_to_kv, text)])
    if (
        any(c.closed.tobytes() != first.tobytes() for c in search.choices)
        or len({len(c.edges) for c in search.choices}) > 1
    ):
        text = "conditions switch these elements themselves; choose the present one"
        raise InvalidFields([FieldProblem("options", "over", options.over, text)])
    if options.method == "mixed_integer" and options.over == "conditions":
        text = "the mixed-integer programme looks at one condition; choose the present one, or another method"
        raise InvalidFields([FieldProblem("options", "method", options.method, text)])
    now = search.score(first)
    if now is None:
        text = "The load flow has no solution as things stand. See its findings first."
        return Result(Account(Ending.ITERATION_LIMIT, "Open points", 0, explanation=text), {}, {})
    search.most_excess = now.excess
    begin = search.opened(first) if options.loops == "none" else first
    begun = search.score(begin)
    if begun is None:
        begin, begun = first, now
    closed, score, told = _METHODS[options.method](search, begin, begun)
    return _published(search, first, now, closed, score, told)


def _by_exchange(search: _Search, begin: Bools, begun: _Score) -> tuple[Bools, _Score, str]:
    closed, score = search.exchange(begin, begun)
    return closed, score, "No exchange of one open point for another is better."


def _over_all(search: _Search, begin: Bools, begun: _Score) -> tuple[Bools, _Score, str]:
    ways = search.choice.spread(int(begin.sum()), _MOST)
    if ways is None:
        text = f"there are more than {_MOST} ways; choose exchange, lower the voltage, or leave lines out"
        raise InvalidFields([FieldProblem("options", "method", "exact", text)])
    closed, score, count = _best(search, ways, begin, begun)
    return closed, score, f"The best of all {count} ways that supply everything."


def _by_linear(search: _Search, begin: Bools, begun: _Score) -> tuple[Bools, _Score, str]:
    def stop() -> None:
        search.progress(0.5, "mixed-integer programme")

    ways = islice(best_of_linear(search.choice, int(begin.sum()), stop), _ANSWERS)
    closed, score, count = _best(search, ways, begin, begun)
    return closed, score, f"The best by the load flow of the best {count} ways of linear equations."


_METHODS: dict[str, Callable[[_Search, Bools, _Score], tuple[Bools, _Score, str]]] = {
    "exchange": _by_exchange, "exact": _over_all, "mixed_integer": _by_linear,
}  # fmt: skip


def _best(search: _Search, ways: Iterable[Bools], begin: Bools, begun: _Score) -> tuple[Bools, _Score, int]:
    best, count = (begin, begun), 0
    most = search.options.most_changes or len(begin)
    for closed in ways:
        if int((begin & ~closed).sum()) > most:
            continue
        count += 1
        found = search.score(closed)
        if found is not None and found.value < best[1].value - _EVEN * max(abs(best[1].value), 1e-9):
            best = closed, found
    return *best, count


def _steps(search: _Search, first: Bools, now: _Score, last: Bools) -> list[tuple[list[int], _Score | None]]:
    """From what is now to the answer, by one open point after another: places switched, and what stands then."""
    steps: list[tuple[list[int], _Score | None]] = []
    at = first.copy()
    close, open_ = np.flatnonzero(~first & last).tolist(), np.flatnonzero(first & ~last).tolist()
    search.most_excess = np.inf  # on the way limits may be broken for a while
    search.known.clear()
    for edge in close:
        loop = set(search.choice.loop(at, edge))
        ways = []
        for other in [k for k in open_ if k in loop] or open_[:1]:
            tried = at.copy()
            tried[edge], tried[other] = True, False
            found = search.score(tried)
            ways.append((found.value if found else np.inf, other, found, tried))
        if not ways:
            at[edge] = True
            steps.append(([edge], search.score(at)))
            continue
        _, other, found, at = min(ways, key=lambda w: (w[0], w[1]))
        open_.remove(other)
        steps.append(([edge, other], found))
    for other in open_:
        at[other] = False
        steps.append(([other], search.score(at)))
    return steps


def _published(search: _Search, first: Bools, now: _Score, closed: Bools, score: _Score, told: str) -> Result:
    choice, network = search.choice, search.states[0].network
    steps = _steps(search, first, now, closed)
    rows: list[tuple[str, str, str, float, float, float]] = []
    scheme: list[dict[str, Any]] = []
    before = now
    for places, found in steps:
        gain = before.losses_mw - found.losses_mw if found else 0.0
        for n, k in enumerate(places):
            e, does = choice.edges[k], "close" if closed[k] else "open"
            values: dict[str, Any] = {"closed": bool(closed[k])} if e.switch >= 0 else {"in_service": bool(closed[k])}
            label = f"{does.capitalize()} {network[e.ident].name}"[:200]
            saved = f"{1e3 * gain:.3g} kW less lost" if n == len(places) - 1 else "with the next"
            scheme.append(
                SchemeChange(change=Update(id=e.ident, values=values), label=label, gain=saved).model_dump(mode="json")
            )
            kind = "line" if e.branch >= 0 else "switch"
            if n < len(places) - 1 or found is None:
                rows.append((e.ident, does, kind, np.nan, np.nan, np.nan))
            else:
                rows.append((e.ident, does, kind, 1e3 * gain, found.losses_mw, found.worst_pct))
        before = found or before
    changes = Table("changes", "Changes", [
        Column("id", "Id", [r[0] for r in rows], fixed=True), Column("name", "Name", [network[r[0]].name for r in rows],
            fixed=True),
        Column("do", "Do", [r[1] for r in rows]), Column("kind", "Kind", [r[2] for r in rows], fixed=True),
        Column("gain_kw", "Less lost", np.array([r[3] for r in rows]), "kW", 2, "By this and the one before"),
        Column("losses_mw", "Losses then", np.array([r[4] for r in rows]), "MW", 4),
        Column("worst_pct", "Highest loading then", np.array([r[5] for r in rows]), "%", 1),
    ])  # fmt: skip
    points = [k for k in range(len(closed)) if not closed[k]]
    opened = Table("open", "Open points", [
        Column("id", "Id", [choice.edges[k].ident for k in points], fixed=True),
        Column("name", "Name", [network[choice.edges[k].ident].name for k in points], fixed=True),
        Column("was", "Was", ["closed" if first[k] else "open" for k in points]),
    ])  # fmt: skip
    state = ("open", "closed")
    every = Table("switched", "May be switched", [
        Column("id", "Id", [e.ident for e in choice.edges], fixed=True),
        Column("name", "Name", [network[e.ident].name for e in choice.edges], fixed=True),
        Column("kind", "Kind", ["line" if e.branch >= 0 else "switch" for e in choice.edges], fixed=True),
        Column("before", "Now", [state[int(x)] for x in first.tolist()]),
        Column("after", "Best", [state[int(x)] for x in closed.tolist()]),
    ])  # fmt: skip
    summary: dict[str, float | None] = {
        "losses_mw_before": now.losses_mw, "losses_mw": score.losses_mw, "worst_pct_before": now.worst_pct,
            "worst_pct": score.worst_pct,
        "changes": float(len(rows)), "tried": float(sum(v.count for v in search.states)),
    }  # fmt: skip
    part = 100 * (now.losses_mw - score.losses_mw) / now.losses_mw if now.losses_mw else 0.0
    what = (f"losses fall by {1e3 * (now.losses_mw - score.losses_mw):.3g} kW ({part:.2g} %), highest loading "
            f"{now.worst_pct:.1f} → {score.worst_pct:.1f} %")  # fmt: skip
    if not rows:
        statement = f"The points that are open are the best. {told}"
    else:
        does = ", ".join(f"{r[1]} {network[r[0]].name}" for r in rows[:6]) + (" ..." if len(rows) > 6 else "")
        statement = f"{does[0].upper()}{does[1:]}: {what}. {told}"
    figures = []
    if steps:
        xs = ["now", *(str(n + 1) for n in range(len(steps)))]
        losses = [now.losses_mw, *(f.losses_mw if f else np.nan for _, f in steps)]
        figures = [Figure("steps", "Losses", Axis("Points moved"), Axis("Losses", "MW", 3), [
            Series("losses", "after each", xs, losses, "points")])]  # fmt: skip
    assumed = ["Automatic taps, capacitors and curves stay where the load flow as it stands leaves them.",
               "A line that is opened is taken out of service; nothing of it stays under voltage."]  # fmt: skip
    account = Account(
        Ending.CONVERGED, "Open points", sum(v.count for v in search.states), notes=[told], assumed=assumed
    )
    return Result(account, {t.name: t for t in (changes, opened, every)}, summary, [], statement, scheme, figures)
