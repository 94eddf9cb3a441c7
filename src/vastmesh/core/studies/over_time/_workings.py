"""Energy beyond the limit of one element, summed hour by hour on paper."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ...network import Condition, Network
from ...options import options_of
from ...results import Result
from ...workings import Ledger, Working
from ..base import Inputs
from ._options import OverTimeOptions
from ._run import Run

_MOST = 60


def explain(
    network: Network, result: Result, condition: Condition, ident: str, options: Mapping[str, Any]
) -> list[Working]:
    """Workings of the branch of which every step is told; none of anything else, or of more than some sixty steps beyond it."""
    given = options_of(OverTimeOptions, options)
    table, steps = result.tables.get("branches"), result.tables.get("steps")
    if given.element != ident or table is None or steps is None or ident not in list(table["id"]):
        return []
    row = list(table["id"]).index(ident)
    if not any(c.name == "element" for c in steps.columns):
        return []
    loading = np.asarray(steps["element"], float)
    over = np.flatnonzero(loading > 100)
    if len(over) > _MOST:
        return []
    run = Run(Inputs(network, condition), given)
    told = Ledger(
        "Hours and loading beyond its limit",
        "Every step in which it carries more than is allowed counts with its length.",
    )
    told.given("h", "length of a step", run.hours, "h", "profiles")
    parts = []
    for n, k in enumerate(over.tolist(), 1):
        told.given(f"L{n}", f"loading, {steps['begins'][k]}", float(loading[k]), "%", "this study")
        parts.append(f"L{n}")
    told.line(
        "H", "hours beyond it", f"h * {len(parts)}" if parts else "0 * h", "h", solver=float(table["hours_over"][row])
    )
    if parts:
        told.line("W", "sum of what is beyond it", f"h * ({' + '.join(f'{p} - 100' for p in parts)})", "% h")
        told.line("Lm", "highest loading", f"max({', '.join(parts)})", "%", solver=float(table["peak_pct"][row]))
    return [told.working()]
