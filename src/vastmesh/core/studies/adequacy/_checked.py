"""States of adequacy put into the AC load flow: whether what is dispatched and shed there by linear equations holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ...electrical import FIXED, SLACK, NetArrays, TwoPorts, apply_condition, compile_network
from ...electrical.arrays import Ints
from ...electrical.lost import LostRows, without_rows
from ...electrical.topology import trace
from ...flow import Ending
from ...flow.balanced import LoadFlowOptions, Problem
from ...network import Condition, Network
from ...results import Column, Table
from ..base import Progress
from ..judge import Judge
from ._composite import Dispatched, Grid, Part

_QUIET = ("curve", "remote", "tap", "phase", "bank")
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

    Taps stay where they are entered; sources, or the largest unit where none is left, take up losses.
    """
    own = network.under(condition)
    arrays = apply_condition(compile_network(own), condition)
    tables = {n: {c: x[:0] for c, x in t.items()} if n in _QUIET else t for n, t in arrays.tables.items()}
    arrays = replace(arrays, tables=tables)
    rows, judge, node = LostRows(arrays), Judge(own, arrays), trace(arrays).node
    limits = judge.limits[limit_set]
    worst, low, high, solved = (np.full(len(states), np.nan) for _ in range(4))
    where: list[str] = []
    for k, s in enumerate(states):
        progress(0.95, f"AC load flow of state {k + 1} of {len(states)}")
        full = _full(network, [p.ident for p in s.away], s)
        gone = {n: r for n, r in rows.of(full).items() if n not in _QUIET}
        left = without_rows(_set(arrays, grid, s, node), gone)
        problem = Problem(left)
        solution = problem.solve(left, LoadFlowOptions())
        where.append("")
        if solution.attempt.ending is not Ending.CONVERGED:
            continue
        state, row = solution.attempt.state, problem.pattern.row
        v = np.full(arrays.n_bus, np.nan + 0j)
        v[row >= 0] = (state.v * np.exp(1j * state.theta))[row[row >= 0]]
        kept = np.ones(len(judge.ids), np.bool_)
        kept[gone.get("branch", np.zeros(0, np.int64))] = False
        ports = np.zeros((4, len(judge.ids)), np.complex128)
        for j, part in enumerate((solution.ports.ff, solution.ports.ft, solution.ports.tf, solution.ports.tt)):
            ports[j, kept] = part
        used = judge.used(v, TwoPorts(*ports), limit_set)
        fed = judge.in_view & np.isfinite(v.real)
        size = np.abs(v[fed])
        solved[k] = 1.0
        worst[k] = 100 * float(used.max(initial=0.0))
        if len(used) and used.max() > 0:
            where[k] = network[judge.ids[int(np.argmax(used))]].name
        low[k], high[k] = (
            float((size - limits.low[fed]).min(initial=0.0)),
            float((size - limits.high[fed]).max(initial=0.0)),
        )
    ok = np.isfinite(solved) & (worst <= _KEPT_PCT) & (low >= -1e-4) & (high <= 1e-4)
    first = next(iter(network.items))
    table = Table("checked", "Checked by AC", [
        Column("id", "Id", [s.away[0].ident if s.away else first for s in states], fixed=True),
        Column("name", "Away", [" + ".join(network[p.ident].name for p in s.away) or "nothing" for s in states], fixed=True),
        Column("demand_pct", "Demand", np.array([100 * s.level for s in states]), "%", 1, "Of what is entered"),
        Column("hours", "Share", np.array([8760 * s.weight for s in states]), "h/a", 4),
        Column("shed_mw", "Shed", np.array([s.found.total for s in states]), "MW", 3, "By the linear equations"),
        Column("solved", "Has a solution", [bool(x == 1.0) for x in solved]),
        Column("worst_pct", "Highest loading", worst, "%", 1, "Of what is allowed"), Column("where", "There", where),
        Column("below_pu", "Below its band", np.maximum(-low, 0.0), "p.u.", 4, "The bus that is furthest below"),
        Column("above_pu", "Above its band", np.maximum(high, 0.0), "p.u.", 4, "The bus that is furthest above"),
        Column("holds", "Holds", ok.tolist()),
    ])  # fmt: skip
    bad = int((~ok).sum())
    words = f" Of {len(states)} states put into the AC load flow {len(states) - bad} hold"
    return table, words + (f"; {bad} need more than the linear equations shed." if bad else ".")


def _full(network: Network, away: Sequence[str], s: State) -> list[str]:
    """Elements that are away altogether; a unit that gives a part stays."""
    gone = []
    for p in s.away:
        whole = getattr(network[p.ident], "partial_mw", None) is None or not p.mw
        if whole or abs(p.mw - _capacity(network, p.ident)) < 1e-9:
            gone.append(p.ident)
    return gone


def _capacity(network: Network, ident: str) -> float:
    e = network[ident]
    most = getattr(e, "most_mw", None)
    return float(
        most if most is not None else getattr(e, "rated_mva", None) or getattr(e, "active_power_mw", None) or 0.0
    )


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
    away = {p.ident for p in s.away}
    there = np.array([i not in away for i in ids], np.bool_)
    if not (there & (machine["control"] == SLACK)).any() and there.any():
        largest = int(np.argmax(np.where(there, machine["p"], -np.inf)))
        if machine["control"][largest] == FIXED:
            machine["voltage"][largest] = 1.0
        machine["control"][largest], machine["angle"][largest] = SLACK, 0.0
    return replace(arrays, tables={**arrays.tables, "injection": machine, "load": load})
