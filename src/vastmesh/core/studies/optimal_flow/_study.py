"""The optimal power flow as a study: its answer in plants, prices and binding limits, put into the load flow to be checked."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...electrical.arrays import Complexes, Floats
from ...flow import Ending
from ...network import Source
from ...results import Account, Column, Result, Table
from ..base import Inputs, Progress
from ..losses import Asked, Loss, losses
from ._alternative import alternative_of
from ._build import Case, build
from ._check import put_into_load_flow
from ._day import run_day
from ._fewest import fewest
from ._give import exceeded, findings_of
from ._grid import Grid, Optimum, Soft, settled
from ._linear_study import run_linear
from ._options import OptimalFlowOptions
from ._prices import Split, split
from ._problem import solve
from ._proof import cant_be_supplied
from ._published import (
    binding_of,
    binds_most,
    end_of,
    figures_of,
    live_buses,
    moved_of,
    plants_of,
    quantities_of,
    scheme_of,
)
from ._ready import nothing_live, soft_of, something_moves, without_end
from ._secure import Secured, secure_against_outages
from ._steps import in_whole_steps

_WORDS = {
    "Infeasible_Problem_Detected": "the solver found nothing that keeps every limit at once",
    "Restoration_Failed": "the solver found no way back to what keeps the limits",
    "Maximum_Iterations_Exceeded": "the solver was not done after its last iteration",
    "Diverging_Iterates": "the unknowns grew beyond bounds: something has no limit that needs one",
}


def run_optimal_flow(inputs: Inputs, options: OptimalFlowOptions, progress: Progress) -> Result:
    """Raises :class:`InvalidFields` where nothing may move."""
    if options.time == "day":
        return run_day(inputs, options, progress)
    case = build(inputs.network, inputs.under, options)
    if case is None:
        return nothing_live("Optimal flow")
    something_moves(case, options)
    if options.equations == "linear":
        return run_linear(case, options)
    soft = soft_of(case, options)
    found = solve([case.state], progress, soft=soft)[0]
    if not found.found:
        least = solve([case.state], progress, soft=Soft(all=True))[0]
        if least.found and not least.over:  # a state within every limit is known: from there
            found = solve([replace(case.state, start=least.unknowns)], progress, soft=soft)[0]
        if not found.found:
            return _without(case, options, found, least, progress)
    if endless := without_end(case, found):
        return Result(Account(Ending.ITERATION_LIMIT, "Optimal flow", found.iterations, notes=case.notes, explanation=endless),
                      {}, {}, [], endless)  # fmt: skip
    case, found, rounded = in_whole_steps(case, found, options, progress, soft)
    if options.outages != "none":
        asked = Asked(options.outages, options.outages_above_kv if options.outages != "model" else 0.0)
        wanted = losses(inputs.network, inputs.under, asked)
        return _secured(case, options, found, rounded, wanted, progress)
    return _published(case, options, found, rounded, progress)


def _without(case: Case, options: OptimalFlowOptions, found: Optimum, least: Optimum, progress: Progress) -> Result:
    """No optimum: how it ended, whether limits can't be kept, and the ``least`` that would have to give."""
    words = _WORDS.get(found.ending, found.ending.replace("_", " ").lower())
    account = Account(Ending.ITERATION_LIMIT, "Optimal flow", found.iterations + least.iterations, notes=case.notes)
    proof = cant_be_supplied(case)
    if not least.found or not least.over:
        tried = (
            "with every limit let go at a price there is no answer either" if not least.found
            else "a state that keeps every limit is known, and no best one was found from there either"
        )  # fmt: skip
        text = f"Not solved: {words}; {tried}. Both were tried by two ways. Let less move, or look at the load flow."
        if proof:
            text = f"Nothing keeps every limit: {proof}."
        return Result(replace(account, explanation=text), {}, {}, [], text)
    proven = False
    if options.relax == "fewest":
        least, proven = fewest(case.state, least, progress)
    rows = exceeded(case, least)
    table = Table("relaxations", "What would have to give", [
        Column("id", "Id", [r[0] for r in rows], fixed=True),
        Column("name", "Name", [case.network[r[0]].name for r in rows], fixed=True),
        Column("what", "Limit", [r[1] for r in rows], fixed=True),
        Column("limit", "Is", np.array([r[2] for r in rows]), None, 3),
        Column("needed", "Needed", np.array([r[3] for r in rows]), None, 3),
        Column("unit", "Unit", [r[4] for r in rows], fixed=True),
    ])  # fmt: skip
    names = "; ".join(f"{case.network[r[0]].name}, {r[1].lower()} {r[2]:.4g} → {r[3]:.4g} {r[4]}" for r in rows[:4])
    more = f" and {len(rows) - 4} more" if len(rows) > 4 else ""
    named = f"{names}{more}."
    begun = f"Nothing keeps every limit: {proof}. " if proof else "No state was found that keeps every limit. "
    statement = begun + (
        f"{'One limit' if len(rows) == 1 else f'{len(rows)} limits'} must give, and no fewer do: {named}"
        if proven
        else f"The least that would do (in sum, per unit): {named}"
    )
    point = plants_of(case, least)[0]
    shown = [c for c in point.columns if c.name in ("id", "name", "before_mw", "after_mw", "voltage_pu")]
    plants = replace(point, label="Plants, at the least that would do", columns=shown)
    if not proof:
        text = "That nothing keeps every limit is shown near the states that were tried; the equations have no proof for all."
        account = replace(account, notes=[*account.notes, text])
    return Result(replace(account, explanation=f"No answer: {words}. {statement}"), {"relaxations": table, "plants": plants},
                  {"relaxations": float(len(rows))}, findings_of(rows), statement)  # fmt: skip


def _published(
    case: Case,
    options: OptimalFlowOptions,
    found: Optimum,
    rounded: str,
    progress: Progress,
    secure: Secured | None = None,
) -> Result:
    off = put_into_load_flow(case, found)
    parts = split(case.grid, case.limits, found) if options.best != "least_change" and secure is None else None
    unit = options.unit
    plants, before, after = plants_of(case, found)
    binding = binding_of(case, found, unit)
    tables = [plants, binding, _buses(case, found, parts, unit), _branches(case, found, unit)]
    moved = moved_of(case, found)
    if len(moved):
        tables.insert(2, moved)
    if options.alternatives and options.best == "cost" and secure is None:
        tables += [alternative_of(case, found, progress, soft_of(case, options))]
    over = exceeded(case, found)
    lost = _losses_now(case), _losses(settled(case.grid, found), found.v, found.p) * case.base
    had = case.before is not None
    summary: dict[str, float | None] = {
        "cost_before": before if had else None, "cost": after, "losses_mw_before": lost[0] if had else None, "losses_mw": lost[1],
        "value": found.value, "binding": float(len(binding)), "off_pu": off, "exceeded": float(len(over)),
    }  # fmt: skip
    curtailed = float(np.nansum(case.plants.there - found.p) * case.base)
    shed = float(((case.grid.moving.shed_load[0::2].sum(axis=0)) * found.shed).sum() * case.base)
    said = {
        "cost": f"{after:.2f} an hour" + (f", {before - after:.2f} less than now ({before:.2f})" if had and before >= after
                                          else f", now {before:.2f} with limits exceeded or other voltages" if had else ""),
        "losses": f"{lost[1]:.4g} MW of losses" + (f", now {lost[0]:.4g}" if had else ""),
        "least_change": f"{_moved(case, found):.4g} MW moved in all",
        "least_curtailment": f"{curtailed:.4g} MW of wind and sun not taken",
        "least_shedding": f"{shed:.4g} MW of demand shed",
        "flattest": f"voltages {_mean(found.value, len(live_buses(case))):.3g} % off 1 p.u. (root mean square)",
        "reserve": f"machines {100 * _mean(found.value, len(case.plants.ident)):.3g} % of half their range off its middle (root "
        "mean square)",
        "weighted": f"sum by weights {found.value:.6g}; {after:.2f} an hour, {lost[1]:.4g} MW of losses",
    }[options.best]  # fmt: skip
    if shed > 1e-6 and options.best != "least_shedding":
        said += f"; {shed:.4g} MW of demand shed"
    if curtailed > 1e-3 and options.best != "least_curtailment":
        said += f"; {curtailed:.4g} MW of wind and sun not taken"
    if over:
        said += f"; {len(over)} limits exceeded at their price, most {case.network[over[0][0]].name}"
    notes = [*case.notes, *([rounded] if rounded else []), *(secure.notes if secure else [])]
    if off == off:
        notes.append(f"Put into the load flow its voltages are the same within {off:.1e} p.u.")
    else:
        notes.append("Put into the load flow it has no solution there: do not rely on it.")
    account = Account(Ending.CONVERGED if off == off and off < 1e-6 else Ending.ITERATION_LIMIT, "Optimal flow", found.iterations,
                      notes=notes, assumed=_assumed(options))  # fmt: skip
    if off != off or off >= 1e-6:
        account = replace(account, explanation="The load flow with its set-points ends elsewhere than the optimum.")
    findings = findings_of(over)
    statement = f"{said}; {binds_most(binding)}."
    if secure is not None:
        tables.insert(0, secure.table)
        summary |= secure.summary
        findings += secure.findings
        statement = f"{statement} {secure.statement}"
    return Result(account, {t.name: t for t in tables}, summary, findings, statement, scheme_of(case, found),
                  figures_of(case, found), quantities_of(unit))  # fmt: skip


def _mean(squares: float, count: int) -> float:
    """Root of the mean of squares that add up to this."""
    return float(np.sqrt(max(squares, 0.0) / max(count, 1)))


def _secured(
    case: Case, options: OptimalFlowOptions, found: Optimum, rounded: str, wanted: list[Loss], progress: Progress
) -> Result:
    if options.steps == "whole":  # they are found, and stay where they are
        turn, shift, bank = (np.array([x, x]) for x in (found.turn, found.shift, found.bank))
        limits = replace(case.limits, turn=turn, shift=shift, bank=bank)
        held = replace(case, state=replace(case.state, limits=limits))
    else:
        held = case
    answer, secure = secure_against_outages(held, options, found, wanted, progress)
    if answer is None:
        account = Account(
            Ending.ITERATION_LIMIT, "Optimal flow", found.iterations, explanation=secure.statement, notes=secure.notes
        )
        return Result(account, {secure.table.name: secure.table}, secure.summary, secure.findings, secure.statement)
    return _published(case, options, answer, rounded, progress, secure)


def _assumed(options: OptimalFlowOptions) -> list[str]:
    told = [
        "Costs of plants without one are typical for their energy.",
        "Taps, shifters, capacitors and demand that may not move stay as the load flow left them.",
    ]
    if options.best == "least_change":
        told.append("Least change: the least sum of squares of the changes of active power, sources aside.")
    return told


def _losses(grid: Grid, v: Floats, p: Floats) -> float:
    """Per unit."""
    load = grid.load
    return float(p.sum() - (load[0] + load[2] * v + load[4] * v * v).sum())


def _losses_now(case: Case) -> float:
    """Of the network as it stands, MW."""
    as_is = np.ones(len(case.movers.turns)), np.zeros(len(case.movers.turns)), case.movers.banks_now
    none = np.zeros(len(case.movers.sheds))
    grid = settled(case.grid, replace(_nowhere(), turn=as_is[0], shift=as_is[1], bank=as_is[2], shed=none))
    return _losses(grid, case.v_now, case.plants.p) * case.base


def _nowhere() -> Optimum:
    z = np.zeros(0)
    return Optimum("", 0, 0.0, z, z, z, z, z, z, z, z, z, z, z)


def _moved(case: Case, found: Optimum) -> float:
    own = np.array([not isinstance(case.network[i], Source) for i in case.plants.ident])
    return float(np.abs(found.p - case.plants.p)[own].sum() * case.base)


def _buses(case: Case, found: Optimum, parts: Split | None, unit: str) -> Table:
    live = live_buses(case)
    ids, rows, base = [case.arrays.bus_id[n] for n in live], case.pattern.row[live], case.base
    columns = [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [case.network[i].name for i in ids], fixed=True),
        Column("nominal_kv", "Nominal", case.arrays.bus_kv[live], "kV", 2, fixed=True),
        Column("before_pu", "Voltage now", case.v_now[rows] if case.before else np.full(len(rows), np.nan), "p.u.", 4),
        Column("after_pu", "Voltage at best", found.v[rows], "p.u.", 4),
        Column("price", "Price", found.price_p[rows] / base, None, 3, f"{unit}, by one MW more of demand"),
    ]  # fmt: skip
    if parts is not None:
        columns.append(Column("beside", "Beside energy", found.price_p[rows] / base - parts.energy / base, None, 3,
                              "What losses and limits make of it"))  # fmt: skip
        limits, n = parts.limits, case.grid.n
        columns += [
            Column("energy", "Energy", np.full(len(rows), parts.energy / base), None, 3, "As at the reference"),
            Column("losses", "Losses", parts.losses[rows] / base, None, 3, "What more or less is lost on the way"),
            Column("limits", "Limits", limits[rows] / base, None, 3, "What limits of branches and voltages add"),
        ]
        for ident, share in _dearest(case, parts):
            columns.append(
                Column(f"by_{len(columns)}", f"of it {case.network[ident].name}", share[rows] / base, None, 3)
            )
        columns += [
            Column(
                "losses_q", "Q: losses", parts.losses[n:][rows] / base, None, 3, "What a Mvar more loses on the way"
            ),
            Column(
                "limits_q",
                "Q: limits",
                parts.limits[n:][rows] / base,
                None,
                3,
                "What limits make of the price of a Mvar",
            ),
        ]
    columns.append(
        Column("price_q", "Price of Q", found.price_q[rows] / base, None, 3, f"{unit}, by one Mvar more of demand")
    )
    return Table("buses", "Prices", columns)


def _dearest(case: Case, parts: Split) -> list[tuple[str, Floats]]:
    """Branches, interfaces and angles that make most of the prices, and how much, (2n,)."""
    found = [(end_of(case, k, ("from", "to")[side])[0], share) for (k, side), share in parts.branches.items()]
    found += [
        (case.rows[r][0] if kind == "row" else case.interfaces[r], share) for (kind, r), share in parts.others.items()
    ]
    return sorted(found, key=lambda item: -float(np.abs(item[1]).max()))[:6]


def _branches(case: Case, found: Optimum, unit: str) -> Table:
    v = found.v * np.exp(1j * found.theta)
    g = settled(case.grid, found)
    vf, vt = v[g.frm], v[g.to]
    i_f, i_t = g.ports[0] * vf + g.ports[1] * vt, g.ports[2] * vf + g.ports[3] * vt
    s_f, s_t = vf * np.conj(i_f), vt * np.conj(i_t)
    sizes: tuple[Complexes, Complexes] = (s_f, s_t) if case.limits.power else (i_f, i_t)
    with np.errstate(divide="ignore", invalid="ignore"):
        used = np.maximum(np.abs(sizes[0]) / case.limits.most_from, np.abs(sizes[1]) / case.limits.most_to)
    rent = -(found.price_p[g.to] * s_t.real + found.price_p[g.frm] * s_f.real)
    ends = [end_of(case, k, "from") for k in range(len(case.branch))]
    ids = [e[0] for e in ends]
    most = np.maximum(np.abs(found.at_from), np.abs(found.at_to)) / np.array([e[1] for e in ends] or [1.0])[: len(ids)]
    return Table("branches", "Branches", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [case.network[i].name for i in ids], fixed=True),
        Column("active_mw", "Active power", s_f.real * case.base, "MW", 3, "Into it at its from end"),
        Column("reactive_mvar", "Reactive power", s_f.imag * case.base, "Mvar", 3),
        Column("used_pct", "Of its limit", 100 * used, "%", 1),
        Column("loss_mw", "Losses", (s_f + s_t).real * case.base, "MW", 4),
        Column("saves", "One more saves", most, None, 4, f"{unit}, by one more of {ends[0][2] if ends else 'A'} of its limit"),
        Column("price_from", "Price, from end", found.price_p[g.frm] / case.base, None, 3),
        Column("price_to", "Price, to end", found.price_p[g.to] / case.base, None, 3),
        Column("rent", "Rent", rent, "1/h", 2, "What its power is worth more where it comes out than where it goes in"),
    ])  # fmt: skip
