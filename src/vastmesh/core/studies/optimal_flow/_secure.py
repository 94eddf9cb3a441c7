"""Secure against outages: the cheapest state from which every loss that is asked of is survived.

States after outages are added to the problem as they are found to break limits: each with its own voltages and reactive powers,
coupled with the present one. Preventive: active powers, set voltages, taps and steps stay; what losses change the sources take
up. Corrective: active powers move by at most their ramp in the time that is given. None is added any more when the load flow of
every outage, with reactive limits, keeps the limits after it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ...electrical.arrays import Complexes, Floats
from ...results import Column, Finding, Table
from ...severity import Severity
from ..losses import Loss
from ..rows import Rows
from ._build import Case, bands_of_nodes, branch_limits
from ._give import relaxed
from ._grid import Limits, Optimum, Soft, State, settled
from ._lost import Outage, coupling_of, outages_of, state_after, voltages_after
from ._options import OptimalFlowOptions
from ._problem import Progress, solve
from ._published import bus_of, end_of

_AT_A_TIME, _ROUNDS, _TOLERANCE = 3, 12, 1e-4


@dataclass(frozen=True)
class Secured:
    """What the outages came to."""

    table: Table
    summary: dict[str, float | None]
    findings: list[Finding]
    notes: list[str]
    statement: str


def secure_against_outages(
    case: Case, options: OptimalFlowOptions, found: Optimum, wanted: Sequence[Loss], progress: Progress
) -> tuple[Optimum | None, Secured]:
    """Answer that every outage is survived from, None where there is none; and what the outages came to."""
    outages, notes = outages_of(case, wanted)
    limits = {s: _limits_after(case, options, s) for s in dict.fromkeys(o.loss.limit_set for o in outages)}
    corrective = options.after == "corrective"
    answer, base = found, found.value

    def judge(round_: int) -> None:
        for k, o in enumerate(outages):
            progress(0.05 + 0.9 * round_ / _ROUNDS, f"round {round_ + 1}: outage {k + 1} of {len(outages)}")
            _judge(case, o, o.after if corrective and o.after is not None else answer, limits[o.loss.limit_set])

    for round_ in range(_ROUNDS):
        judge(round_)
        bad = sorted((o for o in outages if o.over > _TOLERANCE and not o.in_problem), key=lambda o: -o.over)
        if not bad:
            break
        for o in bad[:_AT_A_TIME]:
            o.in_problem = True
        chosen = [o for o in outages if o.in_problem]
        states = [
            replace(case.state, start=answer.unknowns),
            *(state_after(case, o, limits[o.loss.limit_set], o.after or answer) for o in chosen),
        ]
        coupling = coupling_of(case, states, chosen, corrective=corrective, minutes=options.minutes)
        every = solve(states, progress, coupling)
        if not every[0].found:
            return None, _nothing(case, options, states, coupling, chosen, notes, progress)
        answer = every[0]
        for o, after in zip(chosen, every[1:], strict=True):
            o.after = after
    else:
        judge(_ROUNDS - 1)
    # Demand that an outage takes costs nothing after it.
    states_after = [(o.after, o.dead) for o in outages if o.after is not None]
    prices = {name: getattr(answer, name) + sum(np.where(dead, 0.0, getattr(s, name)) for s, dead in states_after)
              for name in ("price_p", "price_q")}  # fmt: skip
    answer = replace(answer, **prices)
    return answer, _secured(case, outages, base, answer, notes)


def _limits_after(case: Case, options: OptimalFlowOptions, limit_set: str) -> Limits:
    """Ratings and bands of the limits that an outage asks for; bands no narrower than now."""
    band = bands_of_nodes(case.network, limit_set, options, case.arrays, case.pattern.row, case.grid.n)
    low, high = np.minimum(case.limits.v_low, band[0]), np.maximum(case.limits.v_high, band[1])
    most = branch_limits(case.network, case.arrays, case.branch, options, options.after_pct / 100, limit_set=limit_set)
    return replace(case.limits, v_low=low, v_high=high, most_from=most[0], most_to=most[1])


def _judge(case: Case, o: Outage, found: Optimum, limits: Limits) -> None:
    v = voltages_after(case, o, found)
    o.solved = v is not None
    if v is None:
        o.over, o.worst_pct, o.at = np.inf, np.nan, ""
        return
    used = _used(case, found, v, o, limits)
    worst = int(np.argmax(used)) if len(used) else 0
    fed = ~o.dead
    size = np.abs(v[fed])
    o.worst_pct = 100 * float(used[worst]) if len(used) else 0.0
    o.at = end_of(case, worst, "from")[0] if len(used) and used[worst] > 0 else ""
    o.low, o.high = float(size.min()), float(size.max())
    o.over = max(
        float(used.max(initial=0.0)) - 1,
        float((limits.v_low[fed] - size).max()),
        float((size - limits.v_high[fed]).max()),
    )


def _used(case: Case, found: Optimum, v: Complexes, o: Outage, limits: Limits) -> Floats:
    """Share of its limit that each branch carries, (n_branch,)."""
    g = settled(case.grid, found)
    v = np.where(o.dead, 0.0, v)
    vf, vt = v[g.frm], v[g.to]
    i_f, i_t = np.abs(g.ports[0] * vf + g.ports[1] * vt), np.abs(g.ports[2] * vf + g.ports[3] * vt)
    if limits.power:
        i_f, i_t = i_f * np.abs(vf), i_t * np.abs(vt)
    used = np.maximum(i_f / limits.most_from, i_t / limits.most_to)
    used[o.out] = 0.0
    return np.asarray(used, np.float64)


def _binds(case: Case, s: Optimum) -> str:
    """What binds most after an outage, in words."""
    ends = [(float(m[k]), end_of(case, k, side)[0]) for side, m in (("from", s.at_from), ("to", s.at_to))
            for k in [int(np.argmax(m))] if len(m)]  # fmt: skip
    i = int(np.argmax(np.abs(s.at_v)))
    ends.append((abs(float(s.at_v[i])), bus_of(case, i)))
    most = max(ends)
    return case.network[most[1]].name if most[0] > 1e-3 else ""


def _secured(case: Case, outages: list[Outage], base: float, answer: Optimum, notes: list[str]) -> Secured:
    rows = sorted(outages, key=lambda o: (-o.over, -o.lost_mw, o.loss.ident, o.loss.members))
    table = Table("outages", "After outages", [
        Column("id", "Id", [o.loss.ident for o in rows], fixed=True),
        Column("name", "Loss of", [o.loss.name for o in rows], fixed=True),
        Column("worst_pct", "Worst loading", np.array([o.worst_pct for o in rows]), "%", 1, "Of what is allowed after an outage"),
        Column("at", "There", [case.network[o.at].name if o.at else "" for o in rows]),
        Column("low_pu", "Lowest voltage", np.array([o.low for o in rows]), "p.u.", 4),
        Column("high_pu", "Highest voltage", np.array([o.high for o in rows]), "p.u.", 4),
        Column("lost_mw", "Demand lost", np.array([o.lost_mw for o in rows]), "MW", 3, "What it takes by itself"),
        Column("binds", "Binds", [_binds(case, o.after) if o.after is not None else "" for o in rows], None, None,
               "What makes the present state dearer because of this outage"),
        Column("kept", "Limits kept", [o.over <= _TOLERANCE and not o.too_much for o in rows]),
    ])  # fmt: skip
    if not outages:
        return Secured(
            table, {"outages": 0.0, "value_without_outages": base}, [], notes, "There is no outage to look at."
        )
    bad = [o for o in rows if o.over > _TOLERANCE]
    lost = [o for o in rows if o.too_much]
    findings = [*(_broken(case, o) for o in bad), *(_taken(o) for o in lost)]
    more, decide = answer.value - base, sum(o.after is not None for o in outages)
    statement = (
        f"Every one of {len(outages)} outages is survived, by the load flow; that costs {max(more, 0.0):.2f} more than without "
        f"({base:.2f}), and {decide} of them decide it."
        if not bad else f"{len(bad)} of {len(outages)} outages still break limits in the load flow: where reactive limits are "
        "met, a machine no longer holds its voltage."
    )  # fmt: skip
    if lost:
        statement += f" {len(lost)} of them take more demand than may be lost, whatever is dispatched."
    summary: dict[str, float | None] = {
        "outages": float(len(outages)), "outages_in_problem": float(decide), "value_without_outages": base,
        "outages_bad": float(len({id(o) for o in (*bad, *lost)})),
    }  # fmt: skip
    return Secured(table, summary, findings, notes, statement)


def _broken(case: Case, o: Outage) -> Finding:
    carries = f"{case.network[o.at].name} carries {o.worst_pct:.1f} %" if o.solved and o.at else "there is no solution"
    return Finding(
        o.loss.ident, "loading_pct", "Loading after its loss", o.worst_pct if o.solved else None, "%", 100.0, "allowed then",
        Severity.BREACH, "above", o.over if np.isfinite(o.over) else 10.0, f"After the loss of {o.loss.name} {carries}",
    )  # fmt: skip


def _taken(o: Outage) -> Finding:
    most = o.loss.lost_mw or 0.0
    text = f"The loss of {o.loss.name} takes {o.lost_mw:.3g} MW; {most:.3g} MW may be lost"
    return Finding(
        o.loss.ident, "lost_mw", "Demand lost with it", o.lost_mw, "MW", most, "may be lost", Severity.BREACH, "above",
        (o.lost_mw - most) / max(most, 1.0), text,
    )  # fmt: skip


def _nothing(
    case: Case, options: OptimalFlowOptions, states: list[State], coupling: Rows, chosen: list[Outage], notes: list[str],
    progress: Progress,
) -> Secured:  # fmt: skip
    """No state survives: the least that would have to give, now and after each outage."""
    least = solve(states, progress, coupling, Soft(all=True))
    rows: list[tuple[str, str, str, float, float, str, float]] = []
    labels = ["as it stands", *(f"after the loss of {o.loss.name}" for o in chosen)]
    for label, state, s in zip(labels, states, least if least[0].found else [], strict=False):
        rows += [(label, *relaxed(replace(case, state=state), *x)) for x in s.over]
    rows.sort(key=lambda r: -r[-1])
    when, ids, what, limit, needed, units, _ = zip(*rows, strict=True) if rows else ((),) * 7
    table = Table("relaxations", "What would have to give", [
        Column("id", "Id", list(ids), fixed=True), Column("name", "Name", [case.network[i].name for i in ids], fixed=True),
        Column("when", "When", list(when), fixed=True), Column("what", "Limit", list(what), fixed=True),
        Column("limit", "Is", np.array(limit, float), None, 3), Column("needed", "Needed", np.array(needed, float), None, 3),
        Column("unit", "Unit", list(units), fixed=True),
    ])  # fmt: skip
    named = "; ".join(
        f"{case.network[r[1]].name}, {r[2].lower()} {r[3]:.4g} → {r[4]:.4g} {r[5]} {r[0]}" for r in rows[:3]
    )
    statement = f"No state survives every outage. The least that would have to give: {named or 'not found either'}."
    if options.after == "preventive":
        statement += " Let plants move after an outage (corrective), or let more move now."
    return Secured(table, {"relaxations": float(len(rows))}, [], notes, statement)
