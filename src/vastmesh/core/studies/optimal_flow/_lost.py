"""What an outage takes out of the arrays of an optimal flow, and the state of the network after it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from ...electrical import FIXED, SLACK, trace
from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...electrical.lost import LostRows, without_rows
from ...electrical.topology import components
from ..losses import Loss
from ..rows import Rows, RowsOf
from ._build import COST, Case
from ._check import after_outage
from ._grid import Cost, Limits, Optimum, State

_NONE = np.zeros(0, np.int64)


@dataclass
class Outage:
    """``gone``: rows of the tables; ``out``: among live branches, those at dead ends included; ``machines``: among the plants;
    ``dead``: nodes that nothing feeds any more, (n,); ``lost_mw``: demand that goes with it. The rest is what it came to."""

    loss: Loss
    gone: dict[str, Ints]
    out: Ints
    machines: Ints
    dead: Bools
    lost_mw: float
    worst_pct: float = np.nan
    at: str = ""
    low: float = np.nan
    high: float = np.nan
    over: float = np.inf  # by how much the worst limit is exceeded, per unit of it; below zero: kept
    in_problem: bool = False
    solved: bool = True
    after: Optimum | None = None

    @property
    def too_much(self) -> bool:
        """Whether more demand goes with it than may."""
        return self.loss.lost_mw is not None and self.lost_mw > self.loss.lost_mw + 1e-6


def outages_of(case: Case, wanted: Sequence[Loss]) -> tuple[list[Outage], list[str]]:
    """All that are asked of; those that leave nothing fed or take a node apart are named and left out."""
    rows = LostRows(case.arrays)
    found, notes = [], []
    all_dead: list[str] = []
    apart: list[str] = []
    for loss in wanted:
        gone = rows.of(loss.members)
        left = trace(without_rows(case.arrays, gone))
        dead, whole = _nodes_after(case, loss, left.node, left.live)
        if not whole:
            apart.append(loss.name)
        elif dead.all():
            all_dead.append(loss.name)
        else:
            found.append(_outage(case, loss, gone, dead))
    for names, why in ((all_dead, "nothing is fed after it"), (apart, "it takes busbars apart that are one node here")):
        if names:
            more = f" and {len(names) - 5} more" if len(names) > 5 else ""
            notes.append(f"Not asked of the loss of {', '.join(names[:5])}{more}: {why}.")
    return found, notes


def _nodes_after(case: Case, loss: Loss, node: Ints, live: Bools) -> tuple[Bools, bool]:
    """Nodes of the case that nothing feeds after a loss, (n,), and whether each is still one node."""
    before = case.pattern.row
    there = before >= 0
    members = set(loss.members)
    there &= np.array([b not in members for b in case.arrays.bus_id], np.bool_)
    fed = there & live
    dead = np.ones(case.grid.n, np.bool_)
    dead[before[fed]] = False
    pairs = np.unique(np.column_stack([before[fed], node[fed]]), axis=0)
    return dead, len(pairs) == len(np.unique(pairs[:, 0]))


def _outage(case: Case, loss: Loss, gone: dict[str, Ints], dead: Bools) -> Outage:
    g = case.grid
    out = np.isin(case.branch, gone.get("branch", _NONE)) | dead[g.frm] | dead[g.to]
    machines = np.isin(case.plants.row, gone.get("injection", _NONE)) | dead[g.at]
    load = case.arrays.tables["load"]
    at = case.pattern.row[load["bus"]]
    lost = (at >= 0) & dead[at]
    lost[gone.get("load", _NONE)] = True
    lost &= at >= 0
    return Outage(loss, gone, np.flatnonzero(out), np.flatnonzero(machines), dead,
                  float(np.maximum(load["p"][lost], 0.0).sum()) * case.base)  # fmt: skip


def voltages_after(case: Case, o: Outage, found: Optimum) -> Complexes | None:
    """By the load flow with the set-points of an optimum, NaN where dead, (n,); None where it has no solution."""
    v = after_outage(case, found, o.gone)
    if v is not None:
        v[o.dead] = np.nan
    return v


def state_after(case: Case, o: Outage, limits: Limits, near: Optimum) -> State:
    """The network after an outage, without costs of its own.

    A node that nothing feeds any more hangs by a branch without current at one that is fed, so that the equations stay regular.
    """
    g, mv = case.grid, case.grid.moving
    dead, alive = o.dead, np.flatnonzero(~o.dead)
    stays = ~(dead[g.row] | dead[g.col])
    plain = o.out[~np.isin(o.out, mv.turn_branch) & ~dead[g.frm[o.out]] & ~dead[g.to[o.out]]]
    # Of branches to a dead node the end that is fed loses its own admittance; those whose turns move are in no admittance.
    half = o.out[~np.isin(o.out, mv.turn_branch) & (dead[g.frm[o.out]] != dead[g.to[o.out]])]
    from_side = half[~dead[g.frm[half]]]
    to_side = half[~dead[g.to[half]]]
    f, t = g.frm[plain], g.to[plain]
    row = [g.row[stays], f, f, t, t, g.frm[from_side], g.to[to_side]]
    col = [g.col[stays], f, t, f, t, g.frm[from_side], g.to[to_side]]
    y = [g.y[stays], *(-g.ports[:, plain]), -g.ports[0, from_side], -g.ports[3, to_side]]
    shunt = case.arrays.tables["shunt"]
    bank_y = mv.bank_y.copy()
    for k in o.gone.get("shunt", _NONE).tolist():
        ident, at = case.arrays.element_id[shunt["element"][k]], int(case.pattern.row[shunt["bus"][k]])
        if ident in case.movers.banks:
            bank_y[case.movers.banks.index(ident)] = 0
        elif at >= 0 and not dead[at]:
            row.append(np.array([at]))
            col.append(np.array([at]))
            y.append(-shunt["y"][[k]])
    bank_y[dead[mv.bank_at]] = 0
    gone = np.flatnonzero(dead)
    anchor = np.full(len(gone), alive[0])
    row += [gone, gone, anchor, anchor]
    col += [gone, anchor, gone, anchor]
    one = np.full(len(gone), -1j * 10)
    y += [one, -one, -one, one]
    ports = g.ports.copy()
    ports[:, o.out] = 0
    load, shed = _load_after(case, o)
    grid = replace(g, ports=ports, row=np.concatenate(row), col=np.concatenate(col), y=np.concatenate(y), load=load,
                   moving=replace(mv, bank_y=bank_y, shed_load=shed))  # fmt: skip
    size = case.state.layout.place("further").start
    start = near.unknowns[:size]
    v = voltages_after(case, o, near)
    if v is not None:
        fed = ~np.isnan(v)
        start[: g.n][fed], start[g.n : 2 * g.n][fed] = np.angle(v[fed]), np.abs(v[fed])
    start[: g.n][dead], start[g.n : 2 * g.n][dead] = start[alive[0]], start[g.n + alive[0]]
    return State(grid, _limits_after(case, o, limits), Cost(np.zeros(size), np.zeros(size)), start)


def _load_after(case: Case, o: Outage) -> tuple[Floats, Floats]:
    """Demand that stays, and what may be shed of what is left, as in the grid."""
    load, mv = case.grid.load.copy(), case.grid.moving
    shed = mv.shed_load.copy()
    table, row = case.arrays.tables["load"], case.pattern.row
    shares = 1 - table["share_i"] - table["share_z"], table["share_i"], table["share_z"]
    every = [table[part] * share for share in shares for part in ("p", "q")]
    sheds = set(case.movers.sheds)
    for k in o.gone.get("load", _NONE).tolist():
        ident, at = case.arrays.element_id[table["element"][k]], int(row[table["bus"][k]])
        if at < 0:
            continue
        if ident in sheds:
            mine = [
                j
                for j, (i, a) in enumerate(zip(case.movers.sheds, mv.shed_at.tolist(), strict=True))
                if i == ident and a == at
            ]
            shed[:, mine] = 0
        else:
            load[:, at] -= [c[k] for c in every]
    load[:, o.dead] = 0
    shed[:, o.dead[mv.shed_at]] = 0
    return load, shed


def _limits_after(case: Case, o: Outage, limits: Limits) -> Limits:
    gone = set(o.loss.members)
    idle = {case.plants.ident[k] for k in o.machines.tolist()}
    kept = [r for r, (ident, what) in enumerate(case.rows) if what != COST and ident not in gone and ident not in idle]
    ends = {name: getattr(limits, name).copy() for name in ("most_from", "most_to")}
    for most in ends.values():
        most[o.out] = np.inf  # nothing flows there
    bounds = {name: getattr(limits, name).copy() for name in ("p_low", "p_high", "q_low", "q_high")}
    for bound in bounds.values():
        bound[o.machines] = 0.0
    v_low, v_high = limits.v_low.copy(), limits.v_high.copy()
    v_low[o.dead], v_high[o.dead] = 0.1, 3.0  # they follow the node they hang at
    return replace(limits, rows=_only(limits.rows, kept), further=np.zeros((2, 0)), angle=_angles(case, o, limits), v_low=v_low,
                   v_high=v_high, **ends, **bounds)  # fmt: skip


def _angles(case: Case, o: Outage, limits: Limits) -> Floats:
    """One fixed angle in every part that is fed."""
    g = case.grid
    angle = limits.angle.copy()
    angle[o.dead] = np.nan
    kept = np.ones(len(g.frm), np.bool_)
    kept[o.out] = False
    _, part = components(g.n, g.frm[kept], g.to[kept])
    machine = case.arrays.tables["injection"]
    there = np.ones(len(g.at), np.bool_)
    there[o.machines] = False
    for k in np.flatnonzero(there & (machine["control"][case.plants.row] == SLACK)).tolist():
        if not np.isfinite(angle[part == part[g.at[k]]]).any():
            angle[g.at[k]] = machine["angle"][case.plants.row[k]]
    return angle


def _only(rows: Rows, kept: list[int]) -> Rows:
    number = np.full(len(rows), -1)
    number[kept] = np.arange(len(kept))
    mine = number[rows.row] >= 0 if len(rows) else np.zeros(0, np.bool_)
    return Rows(number[rows.row[mine]], rows.col[mine], rows.value[mine], rows.low[kept], rows.high[kept])


def coupling_of(
    case: Case, states: Sequence[State], outages: Sequence[Outage], *, corrective: bool, minutes: float
) -> Rows:
    """What stays, and what moves by how much, from the first state to each after an outage."""
    control = case.arrays.tables["injection"]["control"][case.plants.row]
    rows, at = RowsOf(), states[0].layout.size

    for state, o in zip(states[1:], outages, strict=True):
        lay = state.layout
        tied = partial(_tied, rows, states[0], state, at)
        left = np.ones(len(control), np.bool_)
        left[o.machines] = False
        for k in np.flatnonzero(left & (control != SLACK)).tolist():
            most = 0.0
            if corrective:
                ramp = getattr(case.network[case.plants.ident[k]], "ramp_mw_per_min", None)
                most = np.inf if ramp is None else ramp * minutes / case.base
            if np.isfinite(most):
                tied("p", k, most)
        for node in np.unique(case.grid.at[left & (control != FIXED)]).tolist():
            tied("v", node)
        for k in np.flatnonzero(left & (control == FIXED)).tolist():
            tied("q", k)
        for name in ("turn", "shift", "bank", "shed"):
            place = lay.place(name)
            for k in range(place.stop - place.start):
                tied(name, k)
        at += lay.size
    return rows.done()


def _tied(rows: RowsOf, first: State, after: State, at: int, name: str, k: int, most: float = 0.0) -> None:
    """Hold an unknown of a state that begins at ``at`` within ``most`` of that of the first. What both have at one figure needs
    no row: it would leave the problem with more equations than unknowns."""
    (low, high), (low_after, high_after) = _bounds(first, name), _bounds(after, name)
    if low[k] == high[k] == low_after[k] == high_after[k]:
        return
    one, other = at + after.layout.place(name).start + k, first.layout.place(name).start + k
    rows.add([(one, 1.0), (other, -1.0)], -most, most)


def _bounds(state: State, name: str) -> tuple[Floats, Floats]:
    """Low and high of unknowns of a state."""
    limits = state.limits
    if name in ("p", "q", "v"):
        return getattr(limits, f"{name}_low"), getattr(limits, f"{name}_high")
    both: Floats = getattr(limits, name)
    return both[0], both[1]
