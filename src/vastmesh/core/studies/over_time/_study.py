"""Load flows one after another, with control that goes on from where it stood, and what they come to."""

from __future__ import annotations

import numpy as np

from ...electrical.arrays import Floats
from ...flow import Ending
from ...results import (
    Account,
    Axis,
    Bound,
    Column,
    Figure,
    Finding,
    Quantity,
    Result,
    Scale,
    Series,
    Table,
    quantity_of,
)
from ...results.state import STATE_TOTALS
from ...severity import Severity
from ..base import Inputs, Progress, StopRequested
from ._options import OverTimeOptions
from ._phases import PhaseRun
from ._run import BalancedRun, Run
from ._stores import Stores

_EVERY, _FOUND = 20, 100


def run_over_time(inputs: Inputs, options: OverTimeOptions, progress: Progress) -> Result:
    """Drive and publish; asked to stop it answers with the steps so far. Raises :class:`InvalidFields` as the clock does."""
    run: Run = (PhaseRun if options.load_flow == "per_phase" else BalancedRun)(inputs, options)
    stopped = False
    try:
        n, told = 0, -_EVERY
        while n < run.clock.count:
            if n - told >= _EVERY:
                progress(n / run.clock.count, f"{run.clock.at(n):%Y-%m-%d %H:%M}")
                told = n
            n = run.advance(n)
    except StopRequested:
        if not run.totals.done:
            raise
        stopped = True
    return _published(run, stopped=stopped)


def _name(run: Run, ident: str) -> str:
    item = run.network.items.get(ident)
    return item.name if item is not None else ""


def _moment(run: Run, n: float) -> str:
    return f"{run.clock.at(int(n)):%Y-%m-%d %H:%M}" if n >= 0 else ""


def _published(run: Run, *, stopped: bool) -> Result:
    t = run.totals
    if t.unsolved == t.done:
        text = "No step has a solution: see why behind the solution badge, and mend that first."
        return Result(Account(Ending.ITERATION_LIMIT, "Over time", 0, explanation=text), {}, {}, [], text)
    tables = [_steps(run), _branches(run), _buses(run)]
    if t.moves:
        tables.append(_taps(run))
    if run.stores:
        tables.append(_storage(run, run.stores))
    hours = run.hours
    energy = {k: float(np.nansum(t.by_step[k]) * hours) for k in ("demand", "losses", "generation")}
    bad = float(np.nansum(t.by_step["broken"] > 0) * hours)
    worst = int(np.nanargmax(t.by_step["used"])) if np.isfinite(t.by_step["used"]).any() else -1
    summary: dict[str, float | None] = {
        "steps": float(t.done),
        "steps_without_solution": float(t.unsolved),
        "demand_mwh": energy["demand"],
        "losses_mwh": energy["losses"],
        "generation_mwh": energy["generation"],
        "hours_outside": bad,
        "worst_pct": float(t.by_step["used"][worst]) if worst >= 0 else None,
        "moves": float(sum(t.moves.values())),
    }
    what = (
        f"{energy['demand'] / 1e3:.4g} GWh of demand"
        if energy["demand"] > 1e4
        else f"{energy['demand']:.4g} MWh of demand"
    )
    part = 100 * energy["losses"] / energy["generation"] if energy["generation"] else 0.0
    statement = f"{what} from {_moment(run, 0)} to {_moment(run, t.done)}; {part:.2f} % of what is generated is lost. "
    if worst >= 0 and run.judge.ids:
        at = _name(run, run.judge.ids[int(t.by_step["used_at"][worst])])
        statement += f"Limits are broken in {bad:.4g} hours. "
        statement += f"The highest loading is {t.by_step['used'][worst]:.1f} % at {at}, {_moment(run, worst)}."
    if t.unsolved:
        statement += f" {t.unsolved} steps have no solution."
    notes = [f"Nothing here belongs to {', '.join(run.left[:4])}: left out."] if run.left else []
    if stopped:
        notes.append(f"Stopped after {t.done} of {run.clock.count} steps.")
        statement = f"Stopped after {t.done} of {run.clock.count} steps. {statement}"
    assumed = [
        "Every step is a steady state; taps, phase shifters and capacitors begin each step where the one before left them.",
        "Loadings are of what the condition's limits allow.",
    ]
    if run.options.load_flow == "per_phase":
        assumed = [
            "Every step is a steady state, solved per phase: loadings and voltages are those of the worst phase.",
            "Taps that move together begin each step where the one before left them, others where they are entered.",
            "Storage gives and takes what is entered.",
        ]
    account = Account(Ending.CONVERGED, "Load flows over time", t.done, notes=notes, assumed=assumed)
    return Result(
        account, {x.name: x for x in tables}, summary, _findings(run), statement, [], _figures(run), _quantities(tables)
    )


def _steps(run: Run) -> Table:
    t, n = run.totals, run.totals.done
    row = {k: v[:n] for k, v in t.by_step.items()}
    bus_id, ids = run.judge.arrays.bus_id, run.judge.ids
    first = next(iter(run.network.items))
    at = [ids[int(k)] if k >= 0 else first for k in np.nan_to_num(row["used_at"], nan=-1).tolist()]
    columns = [
        Column("id", "Id", at, fixed=True),
        Column("begins", "Begins", [_moment(run, k) for k in range(n)], fixed=True),
        Column("demand_mw", "Demand", row["demand"], "MW", 3),
        Column("generation_mw", "Generation", row["generation"], "MW", 3),
        Column("losses_mw", "Losses", row["losses"], "MW", 4),
        Column("worst_pct", "Highest loading", row["used"], "%", 1),
        Column("worst_at", "There", [_name(run, i) for i in at]),
        Column("lowest_pu", "Lowest voltage", row["low"], "p.u.", 4),
        Column(
            "lowest_at",
            "At",
            [_name(run, bus_id[int(k)]) if k >= 0 else "" for k in np.nan_to_num(row["low_at"], nan=-1).tolist()],
        ),
        Column("highest_pu", "Highest voltage", row["high"], "p.u.", 4),
        Column("broken", "Limits broken", row["broken"], None, 0),
        Column("moves", "Steps of taps and banks", row["moves"], None, 0),
        *(
            Column(x.name, x.label, t.further[x.name][:n], x.unit, x.digits)
            for x in STATE_TOTALS
            if x.name in t.further
        ),
    ]
    if run.options.element:
        unit, digits = ("%", 1) if len(run.at_branch) else ("p.u.", 4)
        columns.insert(
            2, Column("element", _name(run, run.options.element)[:40] or "Element", t.element[:n], unit, digits)
        )
    return Table("steps", "Steps", columns)


def _branches(run: Run) -> Table:
    t = run.totals
    best: dict[str, int] = {}
    for r in np.flatnonzero(t.most > 0).tolist():
        ident = run.judge.ids[r]
        if ident not in best or t.most[r] > t.most[best[ident]]:
            best[ident] = r
    lost: dict[str, float] = {}
    for r, ident in enumerate(run.judge.ids):
        lost[ident] = lost.get(ident, 0.0) + float(t.lost_mwh[r])
    kept = sorted(best.values(), key=lambda r: -t.most[r])
    return Table(
        "branches",
        "Branches",
        [
            Column("id", "Id", [run.judge.ids[r] for r in kept], fixed=True),
            Column("name", "Name", [_name(run, run.judge.ids[r]) for r in kept], fixed=True),
            Column("peak_pct", "Highest loading", 100 * t.most[kept], "%", 1, "Of what is allowed"),
            Column("peak_at", "When", [_moment(run, float(t.most_at[r])) for r in kept]),
            Column("hours_over", "Hours beyond its limit", t.over[kept], "h", 2),
            Column(
                "beyond_mvah",
                "Energy beyond it",
                t.beyond_mvah[kept],
                "MVAh",
                2,
                "What flows beyond what is allowed, summed over time",
            ),
            Column("losses_mwh", "Losses", np.array([lost[run.judge.ids[r]] for r in kept]), "MWh", 2),
        ],
    )


def _buses(run: Run) -> Table:
    t = run.totals
    rows = np.flatnonzero(run.judge.in_view & np.isfinite(t.low)).tolist()
    rows.sort(key=lambda r: (-t.outside[r], t.low[r]))
    ids = run.judge.arrays.bus_id
    return Table(
        "buses",
        "Buses",
        [
            Column("id", "Id", [ids[r] for r in rows], fixed=True),
            Column("name", "Name", [_name(run, ids[r]) for r in rows], fixed=True),
            Column("least_pu", "Lowest voltage", t.low[rows], "p.u.", 4),
            Column("least_at", "When", [_moment(run, float(t.low_at[r])) for r in rows]),
            Column("top_pu", "Highest voltage", t.high[rows], "p.u.", 4),
            Column("top_at", "When it was", [_moment(run, float(t.high_at[r])) for r in rows]),
            Column("hours_outside", "Hours outside limits", t.outside[rows], "h", 2),
        ],
    )


def _taps(run: Run) -> Table:
    t = run.totals
    ids = run.judge.arrays.element_id
    order = sorted(t.moves, key=lambda e: (-t.moves[e], ids[e]))
    return Table(
        "taps",
        "Taps and banks",
        [
            Column("id", "Id", [ids[e] for e in order], fixed=True),
            Column("name", "Name", [_name(run, ids[e]) for e in order], fixed=True),
            Column("steps_taken", "Steps taken", np.array([t.moves[e] for e in order]), None, 0),
            Column("position", "Position at the end", np.array([run.positions.get(e, np.nan) for e in order]), None, 1),
        ],
    )


def _storage(run: Run, s: Stores) -> Table:
    base = s.base_mva
    return Table(
        "storage",
        "Storage",
        [
            Column("id", "Id", s.ids, fixed=True),
            Column("name", "Name", [_name(run, i) for i in s.ids], fixed=True),
            Column("size_mwh", "Energy at most", s.size * base, "MWh", 2, fixed=True),
            Column("end_mwh", "At the end", s.energy * base, "MWh", 2),
            Column("least_mwh", "Least", s.low * base, "MWh", 2),
            Column("most_mwh", "Most", s.high * base, "MWh", 2),
            Column("given_mwh", "Given", s.given * base, "MWh", 2),
            Column("taken_mwh", "Taken in", s.taken * base, "MWh", 2),
            Column(
                "cut_h",
                "Hours cut",
                s.cut,
                "h",
                2,
                "In which it was empty or full, so that it did less than its profile asks",
            ),
        ],
    )


def _quantities(tables: list[Table]) -> list[Quantity]:
    scales: dict[str, Scale] = {
        "peak_pct": "loading",
        "least_pu": "voltage",
        "top_pu": "voltage",
        "hours_over": "growing",
        "hours_outside": "growing",
    }
    return [
        quantity_of(t, c, scales[c.name])
        for t in tables
        if t.name in ("branches", "buses")
        for c in t.columns
        if c.name in scales
    ]


def _figures(run: Run) -> list[Figure]:
    t, n, clock = run.totals, run.totals.done, run.clock
    found = []
    loading = run.options.worst == "loading"
    z = t.by_step["used" if loading else "out"][:n]
    if n * clock.step_min > 1440:
        moments = [clock.at(k) for k in range(n)]
        day, hour = [f"{m:%Y-%m-%d}" for m in moments], [f"{m:%H:%M}" for m in moments]
        # The hours of a day in order, whenever the first day begins.
        per = [f"{k * clock.step_min // 60:02d}:{k * clock.step_min % 60:02d}" for k in range(1440 // clock.step_min)]
        order = Series("order", "", [day[0]] * len(per), per, "cells", z=[np.nan] * len(per))
        told = Axis("Highest loading", "%", 1) if loading else Axis("Beyond its limit", "%", 2)
        cells = Series("worst", told.label, day, hour, "cells", z=z.tolist())
        limit = Bound("allowed", 100.0 if loading else 0.0, "z")
        found.append(Figure("calendar", "Calendar", Axis("Day"), Axis("Time of day"), [order, cells], [limit], told))
    share = (100 * (np.arange(n) + 0.5) / n).tolist()

    def duration(values: Floats) -> list[float]:
        return sorted((float(v) for v in values if np.isfinite(v)), reverse=True)

    used = duration(t.by_step["used"][:n])
    found.append(
        Figure(
            "loading",
            "Duration of loading",
            Axis("Share of time", "%", 1),
            Axis("Highest loading", "%", 1),
            [Series("used", "highest loading", share[: len(used)], used)],
            [Bound("allowed", 100.0)],
        )
    )
    demand, lost = duration(t.by_step["demand"][:n]), duration(t.by_step["losses"][:n])
    found.append(
        Figure(
            "energy",
            "Duration of demand",
            Axis("Share of time", "%", 1),
            Axis("Power", "MW", 2),
            [
                Series("demand", "demand", share[: len(demand)], demand),
                Series("losses", "losses", share[: len(lost)], lost),
            ],
        )
    )
    if run.options.element and np.isfinite(t.element[:n]).any():
        name = _name(run, run.options.element)
        axis = Axis("Loading", "%", 1) if len(run.at_branch) else Axis("Voltage", "p.u.", 4)
        values = duration(t.element[:n])
        found.append(
            Figure(
                "element",
                name[:30],
                Axis("Share of time", "%", 1),
                axis,
                [Series("element", name, share[: len(values)], values, elements=[run.options.element] * len(values))],
            )
        )
    return found


def _findings(run: Run) -> list[Finding]:
    t = run.totals
    found = []
    for r in np.argsort(-t.over)[:_FOUND].tolist():
        if t.over[r] > 0:
            ident = run.judge.ids[r]
            found.append(
                Finding(
                    ident,
                    run.network[ident].kind,
                    "hours_over",
                    float(t.over[r]),
                    "h",
                    0.0,
                    "over time",
                    Severity.BREACH,
                    "above",
                    float(t.most[r] - 1),
                    f"{t.over[r]:.4g} hours beyond its limit, {100 * t.most[r]:.1f} % at most, "
                    f"{_moment(run, float(t.most_at[r]))}",
                )
            )
    ids = run.judge.arrays.bus_id
    for r in np.argsort(-t.outside)[:_FOUND].tolist():
        if t.outside[r] > 0:
            found.append(
                Finding(
                    ids[r],
                    "bus",
                    "hours_outside",
                    float(t.outside[r]),
                    "h",
                    0.0,
                    "over time",
                    Severity.BREACH,
                    "",
                    0.05,
                    f"{t.outside[r]:.4g} hours outside its limits, {t.low[r]:.3f} to {t.high[r]:.3f} p.u.",
                )
            )
    return found
