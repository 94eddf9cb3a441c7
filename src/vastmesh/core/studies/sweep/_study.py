from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, model_validator

from ...electrical.arrays import Floats
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Condition, Network, fields
from ...results import Account, Axis, Column, Figure, Result, Series, Table
from ...results.state import STATE_TOTALS, LoadFlowResult, solver_for
from ..base import Answer, Inputs, Missing, Progress, Split

MOST_POINTS = 400
_SIDE_BY_SIDE = 60  # points whose voltages and loadings are kept element by element


_FACTORS = {"quantity": ("demand_factor", "generation_factor")}


class SweepOptions(BaseModel):
    """What is swept. Everything else stays as the condition in use says."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    quantity: Literal["demand_factor", "generation_factor", "conditions"] = fields.choice(
        "Sweep", "What is swept: the demand or the generation of the condition in use, or a list of conditions",
        default="demand_factor",
    )  # fmt: skip
    start: float = fields.quantity(
        "From", "First factor", unit="1", shown_as=("%", 100), default=0.3, ge=0, le=10, when=_FACTORS
    )
    stop: float = fields.quantity(
        "To", "Last factor", unit="1", shown_as=("%", 100), default=1.4, ge=0, le=10, when=_FACTORS
    )
    steps: int = fields.quantity("Points", "How many points from first to last", unit="1", default=12, ge=2, le=MOST_POINTS // 2,
                          when=_FACTORS)  # fmt: skip
    conditions: Annotated[
        tuple[str, ...], fields.references("Conditions", "Which ones; all of them when none is named", to="condition",
                                    most=MOST_POINTS // 2, when={"quantity": ("conditions",)}),
    ] = ()  # fmt: skip
    automatic: Literal["as_set", "on", "off", "both"] = fields.choice(
        "Automatic control", "Automatic taps, steps and curves: as the settings say, on, off, or each point with both",
        default="both",
    )  # fmt: skip

    @model_validator(mode="after")
    def _range(self) -> Self:
        if self.quantity != "conditions" and self.start == self.stop:
            raise ValueError("stop: first and last factor are the same; enter a range")
        return self


_TOGETHER = 20  # points of one part: each starts from the last one's answer


@dataclass(frozen=True)
class _Point:
    """A point that was solved; with more than some points in all, voltages and loadings are not kept element by element."""

    label: str
    factor: float | None
    automatic: bool
    ending: Ending
    iterations: int
    summary: dict[str, float | None]
    worst: tuple[str | None, float | None]
    lowest_at: str | None
    highest_at: str | None
    breaches: int | None
    moved: int
    columns: dict[str, Floats]

    @property
    def converged(self) -> bool:
        return self.ending is Ending.CONVERGED


def plan(inputs: Inputs, options: SweepOptions) -> list[dict[str, Any]]:
    """Stretches of neighbouring points. Raises :class:`InvalidFields` for an unknown condition."""
    network = inputs.network
    wanted = _wanted(network, options, inputs.under)
    return [
        {"automatic": automatic, "first": first, "last": min(first + _TOGETHER, len(wanted))}
        for automatic in _modes(network, options)
        for first in range(0, len(wanted), _TOGETHER)
    ]


def prepare(inputs: Inputs, options: SweepOptions) -> tuple[Inputs, SweepOptions]:
    return inputs, options


def answer(ready: tuple[Inputs, SweepOptions], part: Mapping[str, Any], progress: Progress) -> Answer:
    """Solve a stretch of points, each from the last one's answer; the first from scratch, so that nothing depends on who
    solved what before."""
    inputs, options = ready
    network = inputs.network
    wanted = _wanted(network, options, inputs.under)
    side_by_side = len(wanted) * len(_modes(network, options)) <= _SIDE_BY_SIDE
    solve = solver_for(network.copy(), automatic=part["automatic"])
    points, rows = [], {}
    columns: dict[str, list[Floats]] = {f"{t}.{q}": [] for t, q, _, _ in _COLUMNS}
    stretch = wanted[part["first"] : part["last"]]
    for n, (label, _, condition) in enumerate(stretch):
        progress(n / len(stretch), f"{label}, automatic control {'on' if part['automatic'] else 'off'}")
        found = solve(condition)
        breaches = sum(f.severity == "breach" for f in found.findings) if found.tables else None
        points.append({
            "ending": found.account.ending.value, "iterations": found.account.iterations, "summary": found.summary,
            "worst": _worst(found), "lowest_at": _at(found, lowest=True), "highest_at": _at(found, lowest=False),
            "breaches": breaches, "moved": sum(" went from tap " in n for n in found.account.notes),
        })  # fmt: skip
        for table, quantity, _, _ in _COLUMNS if side_by_side and found.account.converged else ():
            rows[table] = [list(found.tables[table]["id"]), list(found.tables[table]["name"])]
            columns[f"{table}.{quantity}"].append(np.asarray(found.tables[table][quantity], np.float64))
    return {"points": points, "rows": rows, **{name: np.array(c, np.float64) for name, c in columns.items()}}


def join(
    inputs: Inputs, options: SweepOptions, parts: Sequence[Mapping[str, Any]], answers: Sequence[Answer | Missing]
) -> Result:
    network = inputs.network
    wanted = _wanted(network, options, inputs.under)
    points, rows, notes = [], {}, []
    for part, found in zip(parts, answers, strict=True):
        stretch = wanted[part["first"] : part["last"]]
        if isinstance(found, Missing):
            if found.why:
                control = "on" if part["automatic"] else "off"
                notes.append(
                    f"No answer from {stretch[0][0]} to {stretch[-1][0]}, automatic control {control}: {found.why}"
                )
            continue
        rows.update(found["rows"])
        solved = {name: iter(found[name]) for name in (f"{t}.{q}" for t, q, _, _ in _COLUMNS) if len(found[name])}
        for (label, factor, _), plain in zip(stretch, found["points"], strict=True):
            ending = Ending(plain["ending"])
            columns = {n: next(c) for n, c in solved.items()} if ending is Ending.CONVERGED else {}
            points.append(_Point(
                label, factor, part["automatic"], ending, plain["iterations"], plain["summary"], tuple(plain["worst"]),
                plain["lowest_at"], plain["highest_at"], plain["breaches"], plain["moved"], columns,
            ))  # fmt: skip
    axis = (
        Axis("Condition")
        if options.quantity == "conditions"
        else Axis(f"{options.quantity.split('_')[0]} factor", "%", 0)
    )
    return _published(network, points, rows, notes, axis)


SPLIT = Split(plan, prepare, answer, join)


def run_sweep(network: Network, options: SweepOptions, progress: Progress) -> Result:
    """The whole sweep here and now. Raises :class:`InvalidFields` for an unknown condition."""
    return SPLIT.run(Inputs(network), options, progress)


def _modes(network: Network, options: SweepOptions) -> list[bool]:
    return {"as_set": [network.settings.automatic], "on": [True], "off": [False], "both": [False, True]}[
        options.automatic
    ]


_COLUMNS = (("buses", "voltage_pu", "p.u.", 4), ("branches", "loading_pct", "%", 1))


def _wanted(network: Network, options: SweepOptions, now: Condition) -> list[tuple[str, float | None, Condition]]:
    if options.quantity == "conditions":
        known = {c.id: c for c in network.of(Condition)}
        chosen = options.conditions or tuple(known)
        if missing := [i for i in chosen if i not in known]:
            raise InvalidFields([FieldProblem("sweep", "conditions", i, "name an existing condition") for i in missing])
        return [(known[i].name, None, known[i]) for i in chosen]
    return [
        (f"{100 * f:.4g} %", float(f), now.model_copy(update={options.quantity: float(f)}))
        for f in np.linspace(options.start, options.stop, options.steps)
    ]


def _published(
    network: Network,
    points: list[_Point],
    rows: Mapping[str, tuple[list[str], list[str]]],
    notes: list[str],
    across: Axis,
) -> Result:
    converged = [p for p in points if p.converged]
    tables = {"points": _points_table(points)}
    for table, quantity, unit, digits in _COLUMNS if rows else ():
        ids, names = rows[table]
        columns = [Column("id", "Id", ids, fixed=True), Column("name", "Name", names, fixed=True)]
        for n, p in enumerate(points):
            values = p.columns.get(f"{table}.{quantity}", np.full(len(ids), np.nan))
            word = "" if len({x.automatic for x in points}) == 1 else f", {'auto' if p.automatic else 'fixed'}"
            columns.append(Column(f"point_{n + 1}", f"{p.label}{word}", values, unit, digits))
        tables[table] = Table(table, table.capitalize(), columns)
    failed = [p.label for p in points if not p.converged]
    notes = [f"No solution at {', '.join(failed)}.", *notes] if failed else notes
    per_phase = " per phase" if network.settings.study == "per_phase" else ""
    account = Account(
        Ending.CONVERGED if converged else Ending.ITERATION_LIMIT, f"Load flow{per_phase} at {len(points)} points",
        sum(p.iterations for p in points), notes=notes,
        tolerance_mva=network.settings.tolerance_pu * network.settings.base_mva,
        explanation="" if converged else "No point has a solution; see the account of the load flow.",
    )  # fmt: skip
    summary: dict[str, float | None] = {"points": float(len(points)), "failed": float(len(failed))}
    return Result(account, tables, summary, figures=_figures(points, across))


_PLOTTED = (
    ("voltage", "Lowest and highest voltage", Axis("Voltage", "p.u.", 4),
     (("lowest_voltage_pu", "lowest"), ("highest_voltage_pu", "highest"))),
    ("losses", "Losses", Axis("Losses", "MW", 4), (("active_loss_mw", ""),)),
    ("loading", "Worst loading", Axis("Loading", "%", 1), (("highest_loading_pct", ""),)),
)  # fmt: skip


def _figures(points: list[_Point], across: Axis) -> list[Figure]:
    """Voltage, losses and loading over what is swept; a curve each with and without automatic control."""
    modes = sorted({p.automatic for p in points})
    figures = []
    for name, label, axis, columns in _PLOTTED:
        series = []
        for mode in modes:
            mine = [p for p in points if p.automatic == mode]
            x = [p.label if p.factor is None else 100 * p.factor for p in mine]
            for column, word in columns:
                control = ("taps on" if mode else "taps off") if len(modes) > 1 else ""
                figures_at = [_plotted(p, column) for p in mine]
                words = ", ".join(w for w in (word, control) if w) or label.lower()
                series.append(Series(f"{column} {control}".strip(), words, x, figures_at))
        figures.append(Figure(name, label, across, axis, series))
    return figures


def _plotted(point: _Point, name: str) -> float | None:
    if not point.converged:
        return None
    return point.worst[1] if name == "highest_loading_pct" else point.summary.get(name)


def _points_table(points: list[_Point]) -> Table:
    return Table(
        "points", "Points",
        [
            Column("id", "Point", [f"{p.label}{' · auto' if p.automatic else ' · fixed'}" for p in points]),
            Column("label", "At", [p.label for p in points]),
            Column("factor", "Factor", [None if p.factor is None else 100 * p.factor for p in points], "%", 1),
            Column("automatic", "Automatic control", [p.automatic for p in points]),
            Column("state", "Ended", [p.ending.value for p in points]),
            *_totals(points),
            Column("breaches", "Breaches", [p.breaches for p in points], None, 0),
            Column("taps_moved", "Taps moved", [p.moved for p in points], None, 0),
        ],
    )  # fmt: skip


def _totals(points: list[_Point]) -> list[Column]:
    """Totals of the state at every point; beside an extreme the element it is at."""
    at = {"lowest_voltage_pu": [p.lowest_at for p in points], "highest_voltage_pu": [p.highest_at for p in points]}
    found = []
    for t in STATE_TOTALS:
        values = [p.summary.get(t.name) for p in points]
        if not t.overview or all(v is None for v in values):
            continue
        found.append(Column(t.name, t.label, values, t.unit, t.digits))
        if t.name in at:
            found.append(Column(f"{t.name.removesuffix('_pu')}_at", "at", at[t.name]))
    worst = Column("highest_loading_pct", "Worst loading", [p.worst[1] for p in points], "%", 1)
    return [*found, worst, Column("highest_loading_at", "at", [p.worst[0] for p in points])]


def _worst(result: LoadFlowResult) -> tuple[str | None, float | None]:
    found: tuple[str | None, float | None] = (None, None)
    for name in ("branches", "windings"):
        table = result.tables.get(name)
        if table is not None and np.any(np.isfinite(table["loading_pct"])):
            i = int(np.nanargmax(table["loading_pct"]))
            value = float(table["loading_pct"][i])
            if found[1] is None or value > found[1]:
                found = table["id"][i], value
    return found


def _at(result: LoadFlowResult, *, lowest: bool) -> str | None:
    table = result.tables.get("buses")
    if table is None or not np.any(np.isfinite(table["voltage_pu"])):
        return None
    row = np.nanargmin(table["voltage_pu"]) if lowest else np.nanargmax(table["voltage_pu"])
    return str(table["id"][int(row)])
