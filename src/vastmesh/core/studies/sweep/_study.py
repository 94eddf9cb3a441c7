from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Condition, Network
from ...results import Account, Axis, Column, Figure, Result, Series, Table
from ...results.state import LoadFlowResult, solver_for
from ..base import Progress

MOST_POINTS = 400
_SIDE_BY_SIDE = 60  # points whose voltages and loadings are kept element by element


class SweepOptions(BaseModel):
    """What is swept. Everything else stays as the condition in use says."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    quantity: Annotated[
        Literal["demand_factor", "generation_factor", "conditions"],
        Field(description="What is swept: the demand or the generation of the condition in use, or a list of conditions"),
    ] = "demand_factor"  # fmt: skip
    start: Annotated[float, Field(ge=0, le=10, description="First factor")] = 0.3
    stop: Annotated[float, Field(ge=0, le=10, description="Last factor")] = 1.4
    steps: Annotated[int, Field(ge=2, le=MOST_POINTS // 2, description="How many points from first to last")] = 12
    conditions: Annotated[
        tuple[str, ...], Field(max_length=MOST_POINTS // 2, description="Conditions by id; all of them when empty")
    ] = ()
    automatic: Annotated[
        Literal["as_set", "on", "off", "both"],
        Field(description="Automatic taps, steps and curves: as the settings say, on, off, or each point with both"),
    ] = "both"  # fmt: skip

    @model_validator(mode="after")
    def _range(self) -> Self:
        if self.quantity != "conditions" and self.start == self.stop:
            raise ValueError("stop: first and last factor are the same; enter a range")
        return self


@dataclass(frozen=True)
class _Point:
    label: str
    factor: float | None
    automatic: bool
    result: LoadFlowResult


def run_sweep(network: Network, options: SweepOptions, progress: Progress) -> Result:
    """Solve every point from the last one's answer. Raises :class:`InvalidFields` for an unknown condition."""
    wanted = _wanted(network, options)
    modes = {"as_set": [network.settings.automatic], "on": [True], "off": [False], "both": [False, True]}[
        options.automatic
    ]
    tolerance = network.settings.tolerance_pu * network.settings.base_mva
    points: list[_Point] = []
    for automatic in modes:
        solve = solver_for(network.copy(), automatic=automatic)
        for label, factor, condition in wanted:
            progress(
                len(points) / (len(wanted) * len(modes)), f"{label}, automatic control {'on' if automatic else 'off'}"
            )
            # Each point first from the last one's answer: the next is not far away.
            found = solve(condition)
            points.append(_Point(label, factor, automatic, found))
    progress(1.0, "solved")
    axis = (
        Axis("Condition")
        if options.quantity == "conditions"
        else Axis(f"{options.quantity.split('_')[0]} factor", "%", 0)
    )
    return _published(network, points, tolerance, axis)


def _wanted(network: Network, options: SweepOptions) -> list[tuple[str, float | None, Condition]]:
    now = network.condition
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


def _published(network: Network, points: list[_Point], tolerance_mva: float, across: Axis) -> Result:
    converged = [p for p in points if p.result.account.converged]
    tables = {"points": _points_table(points)}
    if len(points) <= _SIDE_BY_SIDE and converged:
        for table, quantity, unit, digits in (("buses", "voltage_pu", "p.u.", 4), ("branches", "loading_pct", "%", 1)):
            first = converged[0].result.tables[table]
            ids, names = first["id"], first["name"]
            columns = [Column("id", "Id", ids, fixed=True), Column("name", "Name", names, fixed=True)]
            for n, p in enumerate(points):
                values = p.result.tables[table][quantity] if p.result.tables else np.full(len(ids), np.nan)
                word = "" if len({x.automatic for x in points}) == 1 else f", {'auto' if p.automatic else 'fixed'}"
                columns.append(Column(f"point_{n + 1}", f"{p.label}{word}", values, unit, digits))
            tables[table] = Table(table, first.label, columns)
    failed = [p.label for p in points if not p.result.account.converged]
    notes = [f"No solution at {', '.join(failed)}."] if failed else []
    per_phase = " per phase" if network.settings.study == "per_phase" else ""
    account = Account(
        Ending.CONVERGED if converged else Ending.ITERATION_LIMIT, f"Load flow{per_phase} at {len(points)} points",
        sum(p.result.account.iterations for p in points), notes=notes,
        tolerance_mva=tolerance_mva,
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
                figures_at = [_plotted(p.result, column) for p in mine]
                words = ", ".join(w for w in (word, control) if w) or label.lower()
                series.append(Series(f"{column} {control}".strip(), words, x, figures_at))
        figures.append(Figure(name, label, across, axis, series))
    return figures


def _plotted(result: LoadFlowResult, name: str) -> float | None:
    if not result.account.converged:
        return None
    return _worst(result)[1] if name == "highest_loading_pct" else result.summary.get(name)


def _points_table(points: list[_Point]) -> Table:
    def of(name: str) -> list[float | None]:
        return [p.result.summary.get(name) for p in points]

    worst = [_worst(p.result) for p in points]
    low, high = [_at(p.result, lowest=True) for p in points], [_at(p.result, lowest=False) for p in points]
    moved = [sum(" went from tap " in n for n in p.result.account.notes) for p in points]
    breaches = [sum(f.severity == "breach" for f in p.result.findings) if p.result.tables else None for p in points]
    return Table(
        "points", "Points",
        [
            Column("id", "Point", [f"{p.label}{' · auto' if p.automatic else ' · fixed'}" for p in points]),
            Column("label", "At", [p.label for p in points]),
            Column("factor", "Factor", [None if p.factor is None else 100 * p.factor for p in points], "%", 1),
            Column("automatic", "Automatic control", [p.automatic for p in points]),
            Column("state", "Ended", [p.result.account.ending.value for p in points]),
            Column("demand_mw", "Demand", of("demand_mw"), "MW", 3),
            Column("generation_mw", "Generation", of("generation_mw"), "MW", 3),
            Column("active_loss_mw", "Losses", of("active_loss_mw"), "MW", 4),
            Column("loss_pct", "Losses", of("loss_pct"), "%", 2),
            Column("lowest_voltage_pu", "Lowest voltage", of("lowest_voltage_pu"), "p.u.", 4),
            Column("lowest_voltage_at", "at", low),
            Column("highest_voltage_pu", "Highest voltage", of("highest_voltage_pu"), "p.u.", 4),
            Column("highest_voltage_at", "at", high),
            Column("highest_loading_pct", "Worst loading", [w[1] for w in worst], "%", 1),
            Column("highest_loading_at", "at", [w[0] for w in worst]),
            *(Column(name, label, of(name), unit, 2) for name, label, unit in _PER_PHASE
              if any(p.result.summary.get(name) is not None for p in points)),
            Column("breaches", "Breaches", breaches, None, 0), Column("taps_moved", "Taps moved", moved, None, 0),
        ],
    )  # fmt: skip


_PER_PHASE = (
    ("highest_neutral_v", "Highest neutral to earth", "V"), ("highest_unbalance_pct", "Highest unbalance", "%"),
)  # fmt: skip


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
