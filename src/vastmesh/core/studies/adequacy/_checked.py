"""States of adequacy put into the AC load flow: whether what is dispatched and shed there by linear equations holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ...electrical import FIXED, SLACK, NetArrays, apply_condition, compile_network
from ...electrical.arrays import AUTOMATIC, Ints, without_controls
from ...electrical.lost import LostRows, without_rows
from ...electrical.topology import trace
from ...flow import Ending
from ...flow.balanced import LoadFlowOptions, Problem, Reading, SwitchFlows
from ...network import Condition, Network
from ...results import Column, Table
from ..base import Progress
from ..judge import Judge
from ._composite import Dispatched, Grid, Part

_KEPT_PCT = 100.5  # of a limit: linear equations meet it without losses


@dataclass(frozen=True)
class State:
    """What is away, demand as a share of that entered, share of the time, and what the linear equations make of it."""

    away: tuple[Part, ...]
    level: float
    weight: float
    found: Dispatched


def checked_by_ac(
    network: Network, condition: Condition, grid: Grid, states: Sequence[State], limit_set: str, progress: Progress
) -> tuple[Table, str]:
    """A row for every state, and in words how many hold.

    Taps stay where they are entered; sources, or the largest unit of a part without one, take up losses.
    """
    own = network.under(condition)
    arrays = without_controls(apply_condition(compile_network(own), condition))
    rows, judge, node = LostRows(arrays), Judge(own, arrays), trace(arrays).node
    limits = judge.limits[limit_set]
    worst, low, high, fed_mw = (np.full(len(states), np.nan) for _ in range(4))
    where: list[str] = []
    for k, s in enumerate(states):
        progress(0.95, f"AC load flow of state {k + 1} of {len(states)}")
        gone = {n: r for n, r in rows.of(_gone(grid, s.away)).items() if n not in AUTOMATIC}
        left = _with_references(without_rows(_set(arrays, grid, s, node), gone))
        problem = Problem(left)
        solution = problem.solve(left, LoadFlowOptions())
        where.append("")
        if solution.attempt.ending is not Ending.CONVERGED:
            continue
        state, row = solution.attempt.state, problem.pattern.row
        v = np.full(arrays.n_bus, np.nan + 0j)
        v[row >= 0] = (state.v * np.exp(1j * state.theta))[row[row >= 0]]
        kept = np.ones(len(judge.branch_ids), np.bool_)
        kept[gone.get("branch", np.zeros(0, np.int64))] = False
        seen = Reading(left, problem, solution, SwitchFlows(left, problem))
        through = seen.through_switches(judge.switches, gone.get("switch"))
        used = judge.used(v, solution.ports.spread(kept), through, limit_set)
        fed = judge.in_view & np.isfinite(v.real)
        size = np.abs(v[fed])
        demand = left.tables["load"]
        fed_mw[k] = float(demand["p"][row[demand["bus"]] >= 0].sum()) * arrays.base_mva
        worst[k] = 100 * float(used.max(initial=0.0))
        if len(used) and used.max() > 0:
            where[k] = network[judge.ids[int(np.argmax(used))]].name
        low[k], high[k] = (
            float((size - limits.low[fed]).min(initial=0.0)),
            float((size - limits.high[fed]).max(initial=0.0)),
        )
    wanted = np.array([grid.load.sum() * s.level - s.found.total for s in states])
    ok = (fed_mw >= wanted - 1e-6) & (worst <= _KEPT_PCT) & (low >= -1e-4) & (high <= 1e-4)
    first = next(iter(network.items))
    table = Table("checked", "Checked by AC", [
        Column("id", "Id", [s.away[0].ident if s.away else first for s in states], fixed=True),
        Column("name", "Away", [" + ".join(network[p.ident].name for p in s.away) or "nothing" for s in states], fixed=True),
        Column("demand_pct", "Demand", np.array([100 * s.level for s in states]), "%", 1, "Of what is entered"),
        Column("hours", "Share", np.array([8760 * s.weight for s in states]), "h/a", 4),
        Column("shed_mw", "Shed", np.array([s.found.total for s in states]), "MW", 3, "By the linear equations"),
        Column("solved", "Has a solution", np.isfinite(fed_mw).tolist()),
        Column("fed_mw", "Fed", fed_mw, "MW", 3, "Demand that has a voltage; all that is not shed where it holds"),
        Column("worst_pct", "Highest loading", worst, "%", 1, "Of what is allowed"), Column("where", "There", where),
        Column("below_pu", "Below its band", np.maximum(-low, 0.0), "p.u.", 4, "The bus that is furthest below"),
        Column("above_pu", "Above its band", np.maximum(high, 0.0), "p.u.", 4, "The bus that is furthest above"),
        Column("holds", "Holds", ok.tolist()),
    ])  # fmt: skip
    bad = int((~ok).sum())
    words = f" Of {len(states)} states put into the AC load flow {len(states) - bad} hold"
    return table, words + (f"; {bad} need more than the linear equations shed." if bad else ".")


def _gone(grid: Grid, away: Sequence[Part]) -> list[str]:
    """Elements that are away altogether; a unit that still gives a part stays."""
    cap = dict(zip(grid.unit_ident, grid.cap.tolist(), strict=True))
    return [p.ident for p in away if p.mw >= cap.get(p.ident, 0.0) - 1e-9]


def _set(arrays: NetArrays, grid: Grid, s: State, node: Ints) -> NetArrays:
    """Dispatch and demand of a state."""
    base = arrays.base_mva
    machine = {c: x.copy() for c, x in arrays.tables["injection"].items()}
    load = {c: x.copy() for c, x in arrays.tables["load"].items()}
    given = dict(zip(grid.unit_ident, (s.found.given / base).tolist(), strict=True))
    ids = [arrays.element_id[e] for e in machine["element"].tolist()]
    # Wind, sun and storage are in the level of demand already.
    machine["p"] = np.array([given.get(i, 0.0) for i in ids])
    demand = grid.load * s.level
    with np.errstate(divide="ignore", invalid="ignore"):
        share = np.where(demand > 0, 1 - s.found.shed / demand, 1.0)
    at = node[load["bus"]]
    drawn = load["p"] > 0
    load["p"] = np.where(drawn, load["p"] * s.level * share[at], 0.0)
    load["q"] = np.where(drawn, load["q"] * s.level * share[at], 0.0)
    return replace(arrays, tables={**arrays.tables, "injection": machine, "load": load})


def _with_references(arrays: NetArrays) -> NetArrays:
    """The same where the largest unit of every part without a source holds voltage and angle: the linear equations let it feed
    that part."""
    machine = {c: x.copy() for c, x in arrays.tables["injection"].items()}
    part = trace(arrays).island[machine["bus"]]
    for own in np.setdiff1d(part, part[machine["control"] == SLACK]).tolist():
        mine = np.flatnonzero(part == own)
        largest = int(mine[np.argmax(machine["p"][mine])])
        if machine["p"][largest] <= 0:
            continue
        if machine["control"][largest] == FIXED:
            machine["voltage"][largest] = 1.0
        machine["control"][largest], machine["angle"][largest] = SLACK, 0.0
    return replace(arrays, tables={**arrays.tables, "injection": machine})
