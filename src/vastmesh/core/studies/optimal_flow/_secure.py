"""Secure against outages: the cheapest state from which every single loss of a branch is survived.

States after outages are added to the problem as they are found to break limits: each with its own voltages and reactive powers,
coupled with the present one. Preventive: active powers, set voltages, taps and steps stay; what losses change the sources take
up. Corrective: active powers move by at most their ramp in the time that is given. None is added any more when the load flow of
every outage, with reactive limits, keeps the limits after it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...electrical import FIXED, SLACK
from ...electrical.arrays import Complexes, Floats, Ints
from ...results import Column, Finding, Table
from ...severity import Severity
from ..rows import Rows, RowsOf
from ._build import COST, Case, bands_of_nodes, branch_limits, zones
from ._check import after_outage
from ._grid import Cost, Limits, Optimum, Soft, State, settled
from ._options import OptimalFlowOptions
from ._problem import Progress, solve
from ._published import bus_of, end_of

_AT_A_TIME, _ROUNDS, _TOLERANCE = 3, 12, 1e-4
_KINDS = ("line", "transformer", "three_winding")


@dataclass(frozen=True)
class Secured:
    """What the outages came to."""

    table: Table
    summary: dict[str, float | None]
    findings: list[Finding]
    notes: list[str]
    statement: str


@dataclass
class _Outage:
    ident: str
    out: Ints  # among live branches
    worst_pct: float = np.nan
    at: str = ""
    low: float = np.nan
    high: float = np.nan
    over: float = np.inf  # by how much the worst limit is exceeded, per unit of it; below zero: kept
    in_problem: bool = False
    solved: bool = True


def secure_against_outages(
    case: Case, options: OptimalFlowOptions, found: Optimum, progress: Progress
) -> tuple[Optimum | None, Secured]:
    """Answer that every outage is survived from, None where there is none; and what the outages came to."""
    outages, notes = _candidates(case, options)
    limits = _limits_after(case, options)
    answer, after = found, dict[str, Optimum]()
    base = found.value
    for round_ in range(_ROUNDS):
        for k, o in enumerate(outages):
            progress(0.05 + 0.9 * round_ / _ROUNDS, f"round {round_ + 1}: outage {k + 1} of {len(outages)}")
            _judge(case, o, after.get(o.ident, answer) if options.after == "corrective" else answer, limits)
        bad = sorted((o for o in outages if o.over > _TOLERANCE and not o.in_problem), key=lambda o: -o.over)
        if not bad:
            break
        for o in bad[:_AT_A_TIME]:
            o.in_problem = True
        chosen = [o for o in outages if o.in_problem]
        states = [
            replace(case.state, start=answer.unknowns),
            *(_state(case, o, limits, after.get(o.ident, answer)) for o in chosen),
        ]
        coupling = _coupling(case, states, options)
        every = solve(states, progress, coupling)
        if not every[0].found:
            return None, _nothing(case, options, states, coupling, chosen, notes, progress)
        answer, after = every[0], {o.ident: s for o, s in zip(chosen, every[1:], strict=True)}
    else:
        for o in outages:
            _judge(case, o, after.get(o.ident, answer) if options.after == "corrective" else answer, limits)
    prices = [answer, *after.values()]
    answer = replace(
        answer, price_p=np.sum([s.price_p for s in prices], axis=0), price_q=np.sum([s.price_q for s in prices], axis=0)
    )
    return answer, _secured(case, outages, after, base, answer, notes)


def _candidates(case: Case, options: OptimalFlowOptions) -> tuple[list[_Outage], list[str]]:
    """Every line and transformer from the chosen voltage; those without which something is cut off are named and left out."""
    b, arrays = case.arrays.tables["branch"], case.arrays
    of: dict[int, list[int]] = {}
    for k, row in enumerate(case.branch.tolist()):
        e = int(b["element"][row])
        kv = min(float(arrays.bus_kv[b[end][row]]) for end in ("from", "to"))
        if arrays.element_kind[e] in _KINDS and kv >= options.outages_above_kv:
            of.setdefault(e, []).append(k)
    parts = len(np.unique(zones(case.grid.n, case.grid.frm, case.grid.to)))
    found: list[_Outage] = []
    cut: list[_Outage] = []
    for e, rows in of.items():
        out = np.array(rows, np.int64)
        whole = len(np.unique(zones(case.grid.n, case.grid.frm, case.grid.to, out))) == parts
        (found if whole else cut).append(_Outage(arrays.element_id[e], out))
    notes = []
    if cut:
        names = ", ".join(case.network[o.ident].name for o in cut[:5]) + (
            f" and {len(cut) - 5} more" if len(cut) > 5 else ""
        )
        notes.append(f"Not asked of the loss of {names}: it cuts something off.")
    return found, notes


def _limits_after(case: Case, options: OptimalFlowOptions) -> Limits:
    """Emergency ratings and emergency bands."""
    band = bands_of_nodes(case.network, "emergency", options, case.arrays, case.pattern.row, case.grid.n)
    low, high = np.minimum(case.limits.v_low, band[0]), np.maximum(case.limits.v_high, band[1])
    most = branch_limits(
        case.network, case.arrays, case.branch, options, options.after_pct / 100, limit_set="emergency"
    )
    return replace(case.limits, v_low=low, v_high=high, most_from=most[0], most_to=most[1])


def _judge(case: Case, o: _Outage, found: Optimum, limits: Limits) -> None:
    v = after_outage(case, found, o.out)
    o.solved = v is not None
    if v is None:
        o.over, o.worst_pct, o.at = np.inf, np.nan, ""
        return
    used = _used(case, found, v, o, limits)
    worst = int(np.argmax(used)) if len(used) else 0
    size = np.abs(v)
    o.worst_pct = 100 * float(used[worst]) if len(used) else 0.0
    o.at = end_of(case, worst, "from")[0] if len(used) and used[worst] > 0 else ""
    o.low, o.high = float(size.min()), float(size.max())
    o.over = max(
        float(used.max(initial=0.0)) - 1, float((limits.v_low - size).max()), float((size - limits.v_high).max())
    )


def _used(case: Case, found: Optimum, v: Complexes, o: _Outage, limits: Limits) -> Floats:
    """Share of its limit that each branch carries, (n_branch,)."""
    g = settled(case.grid, found)
    vf, vt = v[g.frm], v[g.to]
    i_f, i_t = np.abs(g.ports[0] * vf + g.ports[1] * vt), np.abs(g.ports[2] * vf + g.ports[3] * vt)
    if limits.power:
        i_f, i_t = i_f * np.abs(vf), i_t * np.abs(vt)
    used = np.maximum(i_f / limits.most_from, i_t / limits.most_to)
    used[o.out] = 0.0
    return np.asarray(used, np.float64)


def _state(case: Case, o: _Outage, limits: Limits, near: Optimum) -> State:
    """The network after an outage, without costs of its own."""
    g = case.grid
    ports = g.ports.copy()
    plain = np.setdiff1d(o.out, g.moving.turn_branch)  # those whose turns move are not in the admittances
    f, t = g.frm[plain], g.to[plain]
    ports[:, o.out] = 0
    grid = replace(g, ports=ports, row=np.concatenate([g.row, f, f, t, t]), col=np.concatenate([g.col, f, t, f, t]),
                   y=np.concatenate([g.y, *(-g.ports[:, plain])]))  # fmt: skip
    physical = [r for r, (_, what) in enumerate(case.rows) if what != COST]
    most_from, most_to = limits.most_from.copy(), limits.most_to.copy()
    most_from[o.out] = most_to[o.out] = np.inf  # nothing flows there
    limits = replace(
        limits, rows=_only(limits.rows, physical), further=np.zeros((2, 0)), most_from=most_from, most_to=most_to
    )
    size = case.state.layout.place("further").start
    start = near.unknowns[:size]
    v = after_outage(case, near, o.out)
    if v is not None:
        n = g.n
        start[:n] = np.angle(v)
        start[n : 2 * n] = np.abs(v)
    return State(grid, limits, Cost(np.zeros(size), np.zeros(size)), start)


def _only(rows: Rows, kept: list[int]) -> Rows:
    number = np.full(len(rows), -1)
    number[kept] = np.arange(len(kept))
    mine = number[rows.row] >= 0 if len(rows) else np.zeros(0, np.bool_)
    return Rows(number[rows.row[mine]], rows.col[mine], rows.value[mine], rows.low[kept], rows.high[kept])


def _coupling(case: Case, states: list[State], options: OptimalFlowOptions) -> Rows:
    """What stays, and what moves by how much, from the present state to each after an outage."""
    control = case.arrays.tables["injection"]["control"][case.plants.row]
    rows, at = RowsOf(), 0
    first = states[0].layout
    for state in states:
        lay = state.layout
        if at:
            for k, ident in enumerate(case.plants.ident):
                if control[k] == SLACK:
                    continue
                most = 0.0
                if options.after == "corrective":
                    ramp = getattr(case.network[ident], "ramp_mw_per_min", None)
                    most = np.inf if ramp is None else ramp * options.minutes / case.base
                if np.isfinite(most):
                    rows.add([(at + lay.place("p").start + k, 1.0), (first.place("p").start + k, -1.0)], -most, most)
            for node in np.unique(case.grid.at[control != FIXED]).tolist():
                rows.add([(at + lay.place("v").start + node, 1.0), (first.place("v").start + node, -1.0)], 0.0, 0.0)
            for k in np.flatnonzero(control == FIXED).tolist():
                rows.add([(at + lay.place("q").start + k, 1.0), (first.place("q").start + k, -1.0)], 0.0, 0.0)
            for name in ("turn", "shift", "bank", "shed"):
                place, there = lay.place(name), first.place(name)
                for k in range(place.stop - place.start):
                    rows.add([(at + place.start + k, 1.0), (there.start + k, -1.0)], 0.0, 0.0)
        at += lay.size
    return rows.done()


def _binds(case: Case, s: Optimum) -> str:
    """What binds most after an outage, in words."""
    ends = [(float(m[k]), end_of(case, k, side)[0]) for side, m in (("from", s.at_from), ("to", s.at_to))
            for k in [int(np.argmax(m))] if len(m)]  # fmt: skip
    i = int(np.argmax(np.abs(s.at_v)))
    ends.append((abs(float(s.at_v[i])), bus_of(case, i)))
    most = max(ends)
    return case.network[most[1]].name if most[0] > 1e-3 else ""


def _secured(
    case: Case, outages: list[_Outage], after: dict[str, Optimum], base: float, answer: Optimum, notes: list[str]
) -> Secured:
    rows = sorted(outages, key=lambda o: (-o.over, o.ident))
    names = [case.network[o.ident].name for o in rows]
    table = Table("outages", "After outages", [
        Column("id", "Id", [o.ident for o in rows], fixed=True), Column("name", "Loss of", names, fixed=True),
        Column("worst_pct", "Worst loading", np.array([o.worst_pct for o in rows]), "%", 1, "Of what is allowed after an outage"),
        Column("at", "There", [case.network[o.at].name if o.at else "" for o in rows]),
        Column("low_pu", "Lowest voltage", np.array([o.low for o in rows]), "p.u.", 4),
        Column("high_pu", "Highest voltage", np.array([o.high for o in rows]), "p.u.", 4),
        Column("binds", "Binds", [_binds(case, after[o.ident]) if o.ident in after else "" for o in rows], None, None,
               "What makes the present state dearer because of this outage"),
        Column("kept", "Limits kept", [o.over <= _TOLERANCE for o in rows]),
    ])  # fmt: skip
    bad = [o for o in rows if o.over > _TOLERANCE]
    findings = [
        Finding(o.ident, "loading_pct", "Loading after its loss", o.worst_pct if o.solved else None, "%", 100.0, "allowed then",
                Severity.BREACH, "above", o.over if np.isfinite(o.over) else 10.0,
                f"After the loss of {case.network[o.ident].name} "
                + (f"{case.network[o.at].name} carries {o.worst_pct:.1f} %" if o.solved and o.at else "there is no solution"))
        for o in bad
    ]  # fmt: skip
    more = answer.value - base
    if not outages:
        return Secured(
            table, {"outages": 0.0, "value_without_outages": base}, [], notes, "There is no outage to look at."
        )
    statement = (
        f"Every one of {len(outages)} outages is survived, by the load flow; that costs {max(more, 0.0):.2f} more than without "
        f"({base:.2f}), and {len(after)} of them decide it."
        if not bad else f"{len(bad)} of {len(outages)} outages still break limits in the load flow: where reactive limits are "
        "met, a machine no longer holds its voltage."
    )  # fmt: skip
    summary: dict[str, float | None] = {"outages": float(len(outages)), "outages_in_problem": float(len(after)),
                                        "outages_bad": float(len(bad)), "value_without_outages": base}  # fmt: skip
    return Secured(table, summary, findings, notes, statement)


def _nothing(
    case: Case, options: OptimalFlowOptions, states: list[State], coupling: Rows, chosen: list[_Outage], notes: list[str],
    progress: Progress,
) -> Secured:  # fmt: skip
    """No state survives: the least that would have to give, now and after each outage."""
    least = solve(states, progress, coupling, Soft(all=True))
    rows: list[tuple[str, str, str, float]] = []
    labels = ["as it stands", *(f"after the loss of {case.network[o.ident].name}" for o in chosen)]
    for label, s in zip(labels, least if least[0].found else [], strict=False):
        for name, at, by in s.over:
            kind, _, way = name.partition(" ")
            if kind in ("from", "to"):
                ident, per, unit = end_of(case, at, kind)
                text = f"rating, {by * per:.4g} {unit} more"
            elif kind == "v":
                ident, text = (
                    bus_of(case, at),
                    f"{'lowest' if way == 'low' else 'highest'} voltage, by {100 * by:.3g} %",
                )
            elif kind in ("p", "q"):
                ident, text = (
                    case.plants.ident[at],
                    f"{way} limit of {kind.upper()}, by {by * case.base:.4g} {'MW' if kind == 'p' else 'Mvar'}",
                )
            else:
                ident, text = (case.interfaces[at] if kind == "interface" else case.rows[at][0]), f"by {by:.3g} p.u."
            rows.append((ident, label, text, by))
    rows.sort(key=lambda r: -r[3])
    table = Table("relaxations", "What would have to give", [
        Column("id", "Id", [r[0] for r in rows], fixed=True), Column("name", "Name", [case.network[r[0]].name for r in rows],
            fixed=True),
        Column("when", "When", [r[1] for r in rows], fixed=True), Column("what", "Limit", [r[2] for r in rows]),
        Column("by_pu", "By", np.array([r[3] for r in rows]), "p.u.", 4),
    ])  # fmt: skip
    named = "; ".join(f"{case.network[r[0]].name} {r[1]}: {r[2]}" for r in rows[:3])
    statement = f"No state survives every outage. The least that would have to give: {named or 'not found either'}."
    if options.after == "preventive":
        statement += " Let plants move after an outage (corrective), or let more move now."
    return Secured(table, {"relaxations": float(len(rows))}, [], notes, statement)
