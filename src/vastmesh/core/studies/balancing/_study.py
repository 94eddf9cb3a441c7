"""Phase balancing: which loads and laterals to move, found by one of several methods and checked by the full load flow."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...flow.phases import UnbalancedOptions
from ...network import Condition, Element, Network, SchemeChange, Trace, Unit, Update, turned_values, units
from ...results import Account, Column, Result, Table, Total
from ..base import Answer, Inputs, Missing, Progress, Split, StopRequested
from ._methods import METHODS, SMALL, Search, count_allowed
from ._model import Assignment, Feeder
from ._objective import NAMES, WORDS, score, values, weights
from ._options import BalancingOptions

_KINDS = {"single": "move_single", "pair": "move_pairs", "three": "move_three", "lateral": "move_laterals"}
_MOST_CELLS = 40_000_000  # line ends by choices: about 3 GB for the linear model
_MOST_EXACT = 1_000_000
_LABELS = {"exact": "exact search", "thorough": "exchange, then a population, then exchange", "exchange": "exchange",
           "genetic": "genetic search",
           "mixed_integer": "mixed-integer programme"}  # fmt: skip


@dataclass(frozen=True)
class _Ready:
    """A feeder made ready for searching."""

    movable: list[Unit]
    feeders: list[Feeder]
    conditions: list[Condition]
    before: list[dict[str, float]]
    method: str
    options: BalancingOptions

    def search(self, seed: int, report: Progress, deadline: float) -> Search:
        start = np.zeros(len(self.movable), np.int64)
        found = Search(
            self.feeders, self.before, weights(self.options), _most(self.movable, self.options),
            self.options.change_cost_pct, deadline, seed, report, best=start,
        )  # fmt: skip
        found.exactly(start)
        return found


def plan(inputs: Inputs, options: BalancingOptions) -> list[dict[str, int]]:
    """A search for each seed; one where all assignments are tried. Raises :class:`InvalidFields` for a feeder, condition or
    bus that is not there or has nothing to move."""
    _, buses, _ = _asked(inputs.network, options)
    method = _method(_movable(inputs.network, options, buses), options)
    alike = method in ("exact", "mixed_integer")
    return [{"seed": options.seed + k} for k in range(1 if alike else options.searches)]


def prepare(inputs: Inputs, options: BalancingOptions) -> tuple[Inputs, BalancingOptions]:
    # Not the feeders: what they solved last is where they solve from, and a search may not depend on another one.
    return inputs, options


def _made_ready(inputs: Inputs, options: BalancingOptions) -> _Ready:
    """Raises :class:`InvalidFields` as :func:`plan`, and where a condition has no load flow."""
    network = inputs.network
    head, buses, conditions = _asked(network, options)
    movable = _movable(network, options, buses)
    method = _method(movable, options)
    quick = UnbalancedOptions(tolerance_pu=1e-10, automatic=False, low_voltage_pu=network.settings.low_voltage_pu)
    feeders = [Feeder(network, c, movable, buses, head, options=quick) for c in conditions]
    if len(feeders[0].layout.branch) * sum(len(u.choices) for u in movable) > _MOST_CELLS:
        text = f"{len(movable)} things that may move on so many lines are too many at once; select a part of it"
        raise InvalidFields([FieldProblem("options", "feeder", options.feeder, text)])
    before = []
    for feeder, condition in zip(feeders, conditions, strict=True):
        if (found := _objectives(feeder, np.zeros(len(movable), np.int64))) is None:
            text = "the load flow per phase has no answer there: see its account"
            raise InvalidFields([FieldProblem("options", "conditions", condition.name, text)])
        before.append(found)
    return _Ready(movable, feeders, conditions, before, method, options)


def answer(asked: tuple[Inputs, BalancingOptions], part: Mapping[str, int], progress: Progress) -> Answer:
    """One search. ``progress`` may raise to stop it; the best assignment so far is the answer then."""
    started, done, stopped = time.monotonic(), 0.0, False
    ready = _made_ready(*asked)

    def told(share: float, words: str) -> None:
        nonlocal done
        done = max(done, share)  # what is left may shrink by surprise, but never grows
        progress(done, words)

    search = ready.search(part["seed"], told, started + ready.options.time_limit_s)
    try:
        told(0.0, f"{len(ready.movable)} things may move")
        METHODS[ready.method](search)
    except StopRequested:
        stopped = True  # the best so far counts
    _without_idle(search)
    return {
        "best": search.best, "lowest": search.lowest, "exact": search.exact, "linear": search.linear, "bound": search.bound,
        "stopped": stopped or search.stopped, "took_s": time.monotonic() - started,
    }  # fmt: skip


def join(
    inputs: Inputs, options: BalancingOptions, parts: Sequence[Mapping[str, int]], answers: Sequence[Answer | Missing]
) -> Result:
    """The best of all searches."""
    ready = _made_ready(inputs, options)
    found = [a for a in answers if not isinstance(a, Missing)]
    search = ready.search(options.seed, lambda share, words: None, np.inf)
    for one in found:
        search.exactly(np.array(one["best"], np.int64))
    search.exact, search.linear = (sum(a[name] for a in found) for name in ("exact", "linear"))
    search.bound = max((a["bound"] for a in found if a["bound"] is not None), default=None)
    after = [o for f in ready.feeders if (o := _objectives(f, search.best)) is not None]
    return _result(
        inputs.network, options, search, ready.movable, ready.before, after, ready.method,
        max((a["took_s"] for a in found), default=0.0),
        stopped=len(found) < len(parts) or any(a["stopped"] for a in found), conditions=ready.conditions, searches=len(parts),
    )  # fmt: skip


SPLIT = Split(plan, prepare, answer, join)


def run_balancing(network: Network, options: BalancingOptions, progress: Progress) -> Result:
    """Balance a feeder here and now. Raises :class:`InvalidFields` for a feeder, condition or bus that is not there or has
    nothing to move. ``progress`` may raise to stop it; the best assignment so far is the answer then."""
    return SPLIT.run(Inputs(network), options, progress)


def _most(movable: list[Unit], options: BalancingOptions) -> int:
    return min(options.most_changes or len(movable), len(movable))


def _method(movable: list[Unit], options: BalancingOptions) -> str:
    """The method that the options come to. Raises :class:`InvalidFields` where there is nothing to search, or too much."""
    if not movable:
        text = "nothing there may take another phase: it needs single-phase loads or laterals at buses with more phases"
        raise InvalidFields([FieldProblem("options", "feeder", options.feeder, text)])
    size = count_allowed(np.array([len(u.choices) for u in movable], np.int64), _most(movable, options))
    method = options.method if options.method != "automatic" else "exact" if size <= SMALL else "thorough"
    if method == "exact" and size > _MOST_EXACT:
        text = f"{float(size):.3g} assignments are too many to try; choose another method, or allow fewer changes"
        raise InvalidFields([FieldProblem("options", "method", method, text)])
    return method


def _asked(network: Network, options: BalancingOptions) -> tuple[str, set[str], list[Condition]]:
    """The head, the buses behind it, and the conditions that count."""
    item = network.items.get(options.feeder)
    if not isinstance(item, Element) or len(item.buses()) != 2:
        allowed = "name the line or transformer at the head of the feeder"
        raise InvalidFields([FieldProblem("options", "feeder", options.feeder, allowed)])
    buses = set(Trace(network.under(network.condition)).fed(item.id).buses)
    if not buses:
        raise InvalidFields(
            [FieldProblem("options", "feeder", options.feeder, "it feeds nothing as the network is switched")]
        )
    if unknown := [b for b in options.buses if b not in network]:
        raise InvalidFields([FieldProblem("options", "buses", unknown[0], "name buses of this network")])
    found = []
    for name in options.conditions:
        condition = network.items.get(name)
        if not isinstance(condition, Condition):
            raise InvalidFields([FieldProblem("options", "conditions", name, "name conditions of this network")])
        found.append(condition)
    return item.id, buses, found or [network.condition]


def _movable(network: Network, options: BalancingOptions, buses: set[str]) -> list[Unit]:
    """What may move, as the options say."""
    kinds = {k for k, name in _KINDS.items() if getattr(options, name)}
    tag = options.exclude_tag.strip().lower()
    found = []
    for unit in units(network, buses & set(options.buses) if options.buses else buses, kinds=kinds):
        tags = {t.lower() for i in unit.elements for t in getattr(network[i], "tags", None) or ()}
        whole = all(getattr(network[i], "in_service", True) for i in unit.elements[:1])
        if (tag and tag in tags) or not whole:
            continue
        if unit.kind == "three" and options.keep_rotation:
            turns = tuple(c for k, c in enumerate(unit.choices) if unit.after(k) in ("ABC", "BCA", "CAB"))
            unit = Unit(unit.ident, unit.kind, unit.elements, unit.phases, turns)
        if len(unit.choices) > 1:
            found.append(unit)
    return found


def _without_idle(search: Search) -> None:
    """Take back moves that gain nothing: the planner shall not send anybody for them."""
    for u in np.flatnonzero(search.best).tolist():
        trial = search.best.copy()
        trial[u] = 0
        search.exactly(trial)  # keeps it where it is no worse


def _objectives(feeder: Feeder, chosen: Assignment) -> dict[str, float] | None:
    """Every objective of an assignment by the full load flow; None when there is no answer."""
    reading = feeder.solve(chosen)
    if reading is None:
        return None
    return {n: float(v[0]) for n, v in values(feeder.measures(reading), feeder.layout).items()}


def _result(
    network: Network, options: BalancingOptions, search: Search, movable: list[Unit], before: list[dict[str, float]],
    after: list[dict[str, float]], method: str, took_s: float, *, stopped: bool, conditions: list[Condition], searches: int,
) -> Result:  # fmt: skip
    moved = np.flatnonzero(search.best).tolist()
    weight = weights(options)
    final = search.exactly(search.best)
    gains = []
    for u in moved:
        without = search.best.copy()
        without[u] = 0
        gains.append(search.exactly(without) - final + search.change_cost)  # what it costs stands beside
    order = sorted(range(len(moved)), key=lambda k: -gains[k])
    rows, changes = [], []
    for k in order:
        unit = movable[moved[k]]
        choice = int(search.best[moved[k]])
        turn = unit.turn(choice)
        source, target = unit.phases, unit.after(choice)
        name = network[unit.ident].name
        what = {"lateral": "lateral", "three": "three-phase load", "pair": "between two phases"}.get(
            unit.kind, "single phase"
        )
        rows.append((unit.ident, name, what, source, target, gains[k], len(unit.elements)))
        for n, ident in enumerate(unit.elements):
            item = network[ident]
            assert isinstance(item, Element)
            if set_to := turned_values(item, turn):
                label = f"{name}: {source} → {target}" if n == 0 else f"{item.name}, with {name}: {source} → {target}"
                entry = SchemeChange(change=Update(id=ident, values=set_to), label=label,
                                     gain=f"{gains[k]:.2f} points" if n == 0 else "",
                                     group=unit.ident if len(unit.elements) > 1 else "")  # fmt: skip
                changes.append(entry.model_dump(mode="json"))
    columns = [list(c) for c in zip(*rows, strict=True)] if rows else [[] for _ in range(7)]
    moves = Table("moves", "Moves", [
        Column("id", "Id", columns[0]), Column("name", "Name", columns[1]), Column("what", "What", columns[2]),
        Column("from_phases", "From", columns[3]), Column("to_phases", "To", columns[4]),
        Column("gain_points", "Own gain", np.array(columns[5], np.float64), "points", 2,
               "What the score would lose without this one move; 100 points are the present objective"),
        Column("elements", "Elements", np.array(columns[6], np.float64), None, 0, "Moved with it"),
    ])  # fmt: skip
    objectives = Table("objectives", "Objectives", [
        Column("id", "Id", [f"{c.id}:{n}" for c in conditions for n in NAMES]),
        Column("condition", "Condition", [c.name for c in conditions for _ in NAMES]),
        Column("name", "Objective", [WORDS[n][0] for _ in conditions for n in NAMES]),
        Column("unit", "Unit", [WORDS[n][1] for _ in conditions for n in NAMES]),
        Column("before", "Before", np.array([b[n] for b in before for n in NAMES]), None, 3),
        Column("after", "After", np.array([a[n] for a in after for n in NAMES]), None, 3),
        Column("counts", "Counts", ["yes" if n in weight else "" for _ in conditions for n in NAMES]),
    ])  # fmt: skip
    found = [{n: np.array([v]) for n, v in a.items()} for a in after]
    now = float(score(found, before, weight)[0])
    # A bound of the whole space is known only where the method gives one.
    gap = None if search.bound is None else max(0.0, 100 * (final - search.bound) / max(abs(final), 1e-9))
    account = Account(
        Ending.CONVERGED, _LABELS[method], search.exact, explanation="",
        notes=_notes(method, search, movable, stopped=stopped, searches=searches),
    )  # fmt: skip
    words = "; ".join(
        f"{WORDS[n][0].lower()} {before[0][n]:.4g} → {after[0][n]:.4g} {WORDS[n][1]}" for n in NAMES if n in weight
    )
    statement = (
        f"{len(moved)} of {len(movable)} move; {words}{' under ' + conditions[0].name if len(conditions) > 1 else ''}."
        if moved else "No move gains enough: the feeder stays as it is."
    )  # fmt: skip
    summary = {"moves": float(len(moved)), "movable": float(len(movable)), "score": now, "bound": search.bound, "gap_pct": gap,
               "exact_evaluations": float(search.exact), "linear_evaluations": float(search.linear), "took_s": took_s,
               "stopped": float(stopped)}  # fmt: skip
    return Result(
        account, {"moves": moves, "objectives": objectives}, summary, [], statement, changes, totals=list(_TOTALS)
    )


_TOTALS = (
    Total("moves", "Elements moved", None, 0), Total("movable", "That could move", None, 0),
    Total("score", "Score of 100", None, 2),
    Total("bound", "No answer scores below", None, 2), Total("gap_pct", "Gap", "%", 2),
)  # fmt: skip


def _counted(n: int) -> str:
    return f"{n / 1e6:.1f} million" if n >= 1e6 else f"{n / 1e3:.0f} thousand" if n >= 1e4 else str(n)


def _notes(method: str, search: Search, movable: list[Unit], *, stopped: bool, searches: int) -> list[str]:
    found = [
        f"{search.exact} assignments by the full load flow, {_counted(search.linear)} by the linear model; "
        f"{len(movable)} could move."
    ]
    if method == "exact" and not stopped:
        found.append("Every assignment allowed was solved: this is the optimum.")
    else:
        found.append("This method proves no bound.")
    if searches > 1:
        found.append(f"The best of {searches} searches side by side, with the seeds from {search.seed} on.")
    if stopped:
        found.append("It was stopped or ran out of time: the best so far.")
    found.append(f"Seed {search.seed}: the same network, options and seed give the same answer within the time limit.")
    return found
