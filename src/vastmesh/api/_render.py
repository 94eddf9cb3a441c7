"""Results as JSON bytes: tables column by column, arrays without a detour through objects."""

from __future__ import annotations

from typing import Any

import numpy as np
import orjson
from fastapi import Response

from ..core.results import Result, Table, quantities_in
from ..exchange import facts_of
from ._sessions import Outcome, Solved

_DECIMALS = 9  # of results on the wire: far below what any quantity here means


class Json(Response):
    """A response of data that orjson can write, NumPy arrays included; what is not a number becomes null."""

    media_type = "application/json"

    def render(self, content: Any) -> bytes:
        return orjson.dumps(content, option=orjson.OPT_SERIALIZE_NUMPY)


def table(source: Table, *, with_fixed: bool) -> dict[str, Any]:
    columns = []
    for c in source.columns:
        out: dict[str, Any] = {
            "name": c.name, "label": c.label, "unit": c.unit, "digits": c.digits, "meaning": c.meaning,
            "fixed": c.fixed, "view": c.view,
        }  # fmt: skip
        if with_fixed or not c.fixed:
            out["values"] = _values(c.values)
        columns.append(out)
    return {"name": source.name, "label": source.label, "columns": columns}


def _values(values: Any) -> Any:
    if isinstance(values, np.ndarray) and values.dtype.kind == "f":
        return np.round(values, _DECIMALS) + 0.0
    return values


def live(solved: Solved, known_rows: str | None = None) -> dict[str, Any]:
    """A live result; fixed columns are left out when the client has those of the same rows."""
    result = solved.result
    account = vars(result.account) | {"worst": [vars(w) for w in result.account.worst]}
    account["history"] = [h if np.isfinite(h) else None for h in result.account.history]
    return {
        "revision": solved.revision,
        "rows": solved.rows,
        "solve_ms": round(solved.solve_ms, 2),
        "account": account,
        "summary": result.summary,
        "findings": [vars(f) for f in result.findings],
        "quantities": [vars(q) for q in result.quantities],
        "totals": [vars(t) for t in result.totals],
        "tables": {n: table(t, with_fixed=known_rows != solved.rows) for n, t in result.tables.items()},
    }


def study(result: Result) -> dict[str, Any]:
    """A study's result in full."""
    facts = facts_of(result)
    facts["account"]["history"] = [h if np.isfinite(h) else None for h in result.account.history]
    facts["quantities"] = [vars(q) for q in quantities_in(result.tables, result.quantities)]
    return {**facts, "tables": {n: table(t, with_fixed=True) for n, t in result.tables.items()}}


def outcome(done: Outcome, known_rows: str | None = None) -> dict[str, Any]:
    """What a change did; fixed columns as in :func:`live`."""
    return {
        "revision": done.revision,
        "changed": done.changed,
        "removed": done.removed,
        "order": done.order,
        "history": {"undo": done.undo, "redo": done.redo},
        "live": live(done.solved, known_rows),
        "select": done.select,
        "merged": done.merged,
    }
