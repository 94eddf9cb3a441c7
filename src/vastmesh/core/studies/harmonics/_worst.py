"""Several states beside each other: the worst of every condition, figure by figure, or one scheme against another."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ...network import Bus
from ...results import Column, Finding, Result, Table
from ..base import Inputs
from ._drawn import side_by_side
from ._limits import level_of
from ._options import DistortionOptions

# What tells in which condition a row is worst, and what is then taken from there rather than where it is largest.
_LEADING = {"buses": "thd_pct", "branches": "thd_i_pct", "capacitors": "current_pct"}
_FOLLOWING = "most_order"


def beside(inputs: Inputs, options: DistortionOptions, found: list[tuple[str, Result]]) -> Result:
    """One result from those of several conditions, or of several schemes. Of conditions the worst of each figure; of schemes the
    network as it stands, beside which the others are laid."""
    solved = [(label, r) for label, r in found if "buses" in r.tables]
    if not solved:
        return found[0][1]
    network = inputs.network
    result = _as_it_stands(inputs, found) if options.over == "schemes" else worst_of(found)
    at = options.bus if options.bus is not None and options.bus in network else _most_distorted(result.tables["buses"])
    drawn = [(i, network[i].name) for i in dict.fromkeys((at, options.beside)) if i is not None and i in network]
    bus = network[at]
    level = level_of(network, float((isinstance(bus, Bus) and bus.nominal_kv) or 1.0), options.limits)
    pictured = {f.name: f for f in side_by_side(solved, drawn, level, options, network.settings.frequency_hz)}
    figures = [pictured.pop(f.name, f) for f in result.figures]
    tables = {
        "states": _states(network[at].name, at, found), "by_state": _by_state(solved), **result.tables,
    }  # fmt: skip
    return replace(result, tables=tables, figures=[*figures, *pictured.values()])


def _as_it_stands(inputs: Inputs, found: list[tuple[str, Result]]) -> Result:
    """Of the states the one that is on the sheet, with all states in its statement."""
    on = inputs.schemes
    label = "no scheme" if not on else inputs.network[on[0]].name if len(on) == 1 else "all that are on"
    result = next(r for name, r in found if name == label)
    if "buses" not in result.tables:
        result = next(r for _, r in found if "buses" in r.tables)
    told = [(name, r.summary) for name, r in found if "buses" in r.tables]
    said = "; ".join(f"{name} {s['worst_thd_pct'] or 0:.2f} %, {int(s['breaches'] or 0)} exceeded" for name, s in told)
    notes = [*result.account.notes, f"Spectra of every state; the other plots and tables of the network with {label}."]
    notes += [f"Nothing to show with {', '.join(silent)}."] if (silent := [n for n, r in found if not r.tables]) else []
    return replace(result, account=replace(result.account, notes=notes), statement=f"Highest distortion: {said}.")


def _most_distorted(buses: Table) -> str:
    return str(buses["id"][int(np.nanargmax(buses["thd_pct"]))])


def _states(name: str, at: str, found: list[tuple[str, Result]]) -> Table:
    """A line for each state."""

    def here(r: Result, column: str) -> float:
        buses = r.tables.get("buses")
        return float(buses[column][list(buses["id"]).index(at)]) if buses and at in buses["id"] else float("nan")

    def told(r: Result, key: str) -> float:
        value = r.summary.get(key)
        return float("nan") if value is None else float(value)

    return Table("states", "State by state", [
        Column("id", "Id", [at] * len(found), fixed=True), Column("state", "State", [n for n, _ in found], fixed=True),
        Column("worst_thd_pct", "Highest distortion", np.array([told(r, "worst_thd_pct") for _, r in found]), "%", 2,
               "Of all buses"),
        Column("thd_pct", f"Distortion at {name}", np.array([here(r, "thd_pct") for _, r in found]), "%", 2),
        Column("most_order", "Most", np.array([here(r, "most_order") for _, r in found]), None, 0,
               f"Order of the largest voltage at {name}"),
        Column("breaches", "Levels exceeded", np.array([told(r, "breaches") for _, r in found]), None, 0),
    ])  # fmt: skip


def _by_state(solved: list[tuple[str, Result]]) -> Table:
    """Distortion of every bus in every state."""
    ids = list(dict.fromkeys(i for _, r in solved for i in r.tables["buses"]["id"]))
    names = {i: n for _, r in solved for i, n in zip(r.tables["buses"]["id"], r.tables["buses"]["name"], strict=True)}
    columns = []
    for k, (label, r) in enumerate(solved):
        thd = dict(zip(r.tables["buses"]["id"], r.tables["buses"]["thd_pct"].tolist(), strict=True))
        columns.append(Column(f"state_{k + 1}_pct", label, np.array([thd.get(i, np.nan) for i in ids]), "%", 2))
    return Table("by_state", "Buses by state", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [names[i] for i in ids], fixed=True), *columns,
    ])  # fmt: skip


def worst_of(found: list[tuple[str, Result]]) -> Result:
    """One result from several of the same study. Rows are those that any of them has; of every figure the largest is taken.
    Findings are those of all, each once, where it is worst. The rest is that of the condition with the largest distortion."""
    solved = [(name, r) for name, r in found if r.tables]
    if not solved:
        return found[0][1]
    name, worst = max(solved, key=lambda f: f[1].summary.get("worst_thd_pct") or 0.0)
    tables = dict(worst.tables)
    for table, leading in _LEADING.items():
        tables[table] = _largest([(n, r.tables[table]) for n, r in solved], leading)
    kept: dict[tuple[str, str], Finding] = {}
    for n, r in solved:
        for f in r.findings:
            here = replace(f, text=f"{f.text}; under {n}")
            known = kept.get((f.quantity, _level(f)))
            if known is None or here.excess > known.excess:
                kept[f.quantity, _level(f)] = here
    findings = sorted(kept.values(), key=lambda f: (f.severity != "breach", -f.excess))
    unsolved = [n for n, r in found if not r.tables]
    notes = [
        *worst.account.notes,
        f"The worst of {len(solved)} conditions; spectrum, waveform and sources under {name}.",
    ]
    notes += [f"Nothing to show under {', '.join(unsolved)}."] if unsolved else []
    summary = dict(worst.summary)
    summary["breaches"] = float(sum(f.severity == "breach" for f in findings))
    account = replace(worst.account, notes=notes, iterations=sum(r.account.iterations for _, r in solved))
    said = worst.statement.rpartition("; ")[0]
    over = int(summary["breaches"] or 0)
    statement = f"{said}, under {name}; {over} level{'' if over == 1 else 's'} exceeded under any condition."
    return replace(worst, account=account, tables=tables, findings=findings, summary=summary, statement=statement)


def _level(f: Finding) -> str:
    """What a finding is judged by: its limit, or its own element where that is its limit alone."""
    return f.element if f.kind == "capacitor" else f"{f.limit_name} {f.limit}"


def _largest(tables: list[tuple[str, Table]], leading: str) -> Table:
    ids = list(dict.fromkeys(i for _, t in tables for i in t["id"]))
    places = [{i: n for n, i in enumerate(t["id"])} for _, t in tables]

    def of(name: str, blank: Any) -> list[list[Any]]:
        """Values of a column by table and row."""
        found = []
        for (_, t), place in zip(tables, places, strict=True):
            values = next((c.values for c in t.columns if c.name == name), None)
            found.append([blank if values is None or i not in place else values[place[i]] for i in ids])
        return found

    first = np.nan_to_num(np.array(of(leading, np.nan), float), nan=-1.0).argmax(axis=0) if ids else np.zeros(0, int)
    names = list(dict.fromkeys(c.name for _, t in tables for c in t.columns))
    columns = []
    for n in names:
        c = next(c for _, t in tables for c in t.columns if c.name == n)
        if c.digits is None or c.fixed:
            taken: Any = [next((v for v in row if v is not None), None) for row in zip(*of(n, None), strict=True)]
            columns.append(replace(c, values=np.array(taken, float) if c.digits is not None else taken))
        elif n == _FOLLOWING:
            columns.append(replace(c, values=np.array(of(n, np.nan), float)[first, np.arange(len(ids))]))
        else:
            columns.append(replace(c, values=_most(np.array(of(n, np.nan), float))))
    columns.insert(
        2, Column("under", "Under", [tables[k][0] for k in first.tolist()], meaning="Where its distortion is worst")
    )
    return Table(tables[0][1].name, tables[0][1].label, columns)


def _most(values: Any) -> Any:
    """Largest of each column, NaN where there is nothing."""
    if values.shape[1] == 0:
        return np.zeros(0)
    found = np.where(np.isnan(values), -np.inf, values).max(axis=0)
    return np.where(np.isinf(found), np.nan, found)
