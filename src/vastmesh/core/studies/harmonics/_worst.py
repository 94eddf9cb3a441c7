"""The worst of several conditions: figure by figure, with the condition in which each row is worst."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ...results import Column, Finding, Result, Table

# What tells in which condition a row is worst, and what is then taken from there rather than where it is largest.
_LEADING = {"buses": "thd_pct", "branches": "thd_i_pct", "capacitors": "current_pct"}
_FOLLOWING = "most_order"


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
