"""The optimal power flow as a study: its answer in plants, prices and binding limits, put into the load flow to be checked."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...electrical import FIXED
from ...electrical.arrays import Complexes, Floats
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...flow.balanced import LoadFlowOptions, Problem
from ...network import Source
from ...results import Account, Column, Finding, Result, Table
from ...severity import Severity
from ..base import Inputs, Progress
from ._build import Case, build
from ._linear_study import run_linear
from ._options import OptimalFlowOptions
from ._prices import Split, split
from ._problem import Optimum, solve
from ._published import (
    binding_of,
    binds_most,
    bus_of,
    end_of,
    figures_of,
    live_buses,
    plants_of,
    quantities_of,
    scheme_of,
)

_WORDS = {
    "Infeasible_Problem_Detected": "nothing keeps every limit at once",
    "Restoration_Failed": "the solver found no way back to what keeps the limits; most likely nothing does",
    "Maximum_Iterations_Exceeded": "the solver was not done after its last iteration",
    "Diverging_Iterates": "the unknowns grew beyond bounds: something has no limit that needs one",
}


def run_optimal_flow(inputs: Inputs, options: OptimalFlowOptions, progress: Progress) -> Result:
    """Raises :class:`InvalidFields` where nothing may move."""
    case = build(inputs.network, inputs.under, options)
    if case is None:
        text = "No island has a source in service, so nothing is live. Add a source, or close the switch that leads to one."
        return Result(Account(Ending.NOTHING_TO_SOLVE, "Optimal flow", 0, explanation=text), {}, {})
    limits = case.limits
    own = np.array([not isinstance(case.network[i], Source) for i in case.plants.ident], np.bool_)
    several = int((~own).sum()) > 1 and options.active
    # What holds a voltage has the reactive power that this takes; only where voltages may move there is a choice.
    set_by_hand = case.arrays.tables["injection"]["control"][case.plants.row] == FIXED
    free = (limits.p_high > limits.p_low) | ((limits.q_high > limits.q_low) & set_by_hand)
    if not (options.voltages or several or free[own].any()):
        text = "nothing may move; let powers or voltages move, or let a plant be dispatched"
        raise InvalidFields([FieldProblem("options", "active", options.active, text)])
    if options.equations == "linear":
        return run_linear(case, options)
    found = solve(case.grid, limits, case.cost, case.start, progress)
    if not found.found:
        return _without(case, found, progress)
    off = put_into_load_flow(case, found)
    return _published(case, options, found, off)


def put_into_load_flow(case: Case, found: Optimum) -> float:
    """Largest difference of any voltage, per unit, between the optimum and the load flow with its set-points; NaN where that has
    no solution."""
    machine = {name: c.copy() for name, c in case.arrays.tables["injection"].items()}
    rows, at = case.plants.row, case.grid.at
    v, theta = found.v, found.theta
    machine["p"][rows] = found.p
    machine["q"][rows] = np.where(machine["control"][rows] == FIXED, found.q, machine["q"][rows])
    machine["voltage"][rows], machine["angle"][rows] = v[at], theta[at]
    machine["q_min"][rows], machine["q_max"][rows] = -np.inf, np.inf
    arrays = replace(case.arrays, tables={**case.arrays.tables, "injection": machine, "curve": {
        k: c[:0] for k, c in case.arrays.tables["curve"].items()}, "remote": {
        k: c[:0] for k, c in case.arrays.tables["remote"].items()}})  # fmt: skip
    solution = Problem(arrays).solve(arrays, LoadFlowOptions(reactive_limits=False))
    state = solution.attempt.state
    if solution.attempt.ending is not Ending.CONVERGED:
        return float("nan")
    return float(np.abs(state.v * np.exp(1j * state.theta) - v * np.exp(1j * theta)).max())


def _without(case: Case, found: Optimum, progress: Progress) -> Result:
    """No optimum: how it ended, and the least that would have to give."""
    words = _WORDS.get(found.ending, found.ending.replace("_", " ").lower())
    least = solve(case.grid, case.limits, case.cost, case.start, progress, elastic=True)
    account = Account(Ending.ITERATION_LIMIT, "Optimal flow", found.iterations + least.iterations, notes=case.notes)
    if not least.found:
        return Result(replace(account, explanation=f"No answer: {words}. Not even with every limit let go is there one: look at "
                              "the load flow first."), {}, {})  # fmt: skip
    rows = sorted((_relaxed(case, name, at, by) for name, at, by in least.over), key=lambda r: -r[5])
    table = Table("relaxations", "What would have to give", [
        Column("id", "Id", [r[0] for r in rows], fixed=True),
        Column("name", "Name", [case.network[r[0]].name for r in rows], fixed=True),
        Column("what", "Limit", [r[1] for r in rows], fixed=True),
        Column("limit", "Is", np.array([r[2] for r in rows]), None, 3),
        Column("needed", "Needed", np.array([r[3] for r in rows]), None, 3),
        Column("unit", "Unit", [r[4] for r in rows], fixed=True),
    ])  # fmt: skip
    findings = [
        Finding(r[0], "relaxation", r[1], r[3], r[4], r[2], r[1], Severity.BREACH, "above" if r[3] > r[2] else "below",
                r[5], f"{r[1]} {r[2]:.4g} {r[4]}: {r[3]:.4g} {r[4]} would do")
        for r in rows
    ]  # fmt: skip
    names = "; ".join(f"{case.network[r[0]].name}, {r[1].lower()} {r[2]:.4g} → {r[3]:.4g} {r[4]}" for r in rows[:4])
    more = f" and {len(rows) - 4} more" if len(rows) > 4 else ""
    statement = f"Nothing keeps every limit. The least that would do (in sum, per unit): {names}{more}."
    return Result(replace(account, explanation=f"No answer: {words}. {statement}"), {"relaxations": table},
                  {"relaxations": float(len(rows))}, findings, statement)  # fmt: skip


def _relaxed(case: Case, name: str, at: int, by: float) -> tuple[str, str, float, float, str, float]:
    """Element, limit in words, what it is, what it would have to be, unit, and how much that is per unit."""
    base, limits = case.base, case.limits
    kind, _, way = name.partition(" ")
    sign = -1.0 if way == "low" else 1.0
    if kind == "v":
        limit = float((limits.v_low if way == "low" else limits.v_high)[at])
        return (
            bus_of(case, at),
            f"{'Lowest' if way == 'low' else 'Highest'} voltage",
            limit,
            limit + sign * by,
            "p.u.",
            by,
        )
    if kind in ("p", "q"):
        limit = float(getattr(limits, f"{kind}_{way}")[at])
        word, unit = ("active", "MW") if kind == "p" else ("reactive", "Mvar")
        label = f"{'Least' if way == 'low' else 'Most'} {word} power"
        return case.plants.ident[at], label, limit * base, (limit + sign * by) * base, unit, by
    limit = float((limits.most_from if kind == "from" else limits.most_to)[at])
    ident, scale, unit = end_of(case, at, kind)
    return ident, f"Rating, {kind} end", limit * scale, (limit + by) * scale, unit, by


def _published(case: Case, options: OptimalFlowOptions, found: Optimum, off: float) -> Result:
    parts = split(case.grid, case.limits, found) if options.best != "least_change" else None
    unit = {"cost": "1/h", "losses": "MW", "least_change": "MW²"}[options.best]
    plants, before, after = plants_of(case, found)
    binding = binding_of(case, found, unit)
    tables = [plants, binding, _buses(case, found, parts, unit), _branches(case, found, unit)]
    lost = [_losses(case, v, p) for v, p in ((case.start[1], case.plants.p), (found.v, found.p))]
    had = case.before is not None
    summary: dict[str, float | None] = {
        "cost_before": before if had else None, "cost": after, "losses_mw_before": lost[0] if had else None, "losses_mw": lost[1],
        "binding": float(len(binding)), "off_pu": off,
    }  # fmt: skip
    said = {
        "cost": f"{after:.2f} an hour" + (f", {before - after:.2f} less than now ({before:.2f})" if had else ""),
        "losses": f"{lost[1]:.4g} MW of losses" + (f", now {lost[0]:.4g}" if had else ""),
        "least_change": f"{_moved(case, found):.4g} MW moved in all",
    }[options.best]
    notes = [*case.notes]
    if off == off:
        notes.append(f"Put into the load flow its voltages are the same within {off:.1e} p.u.")
    else:
        notes.append("Put into the load flow it has no solution there: do not rely on it.")
    account = Account(Ending.CONVERGED if off == off and off < 1e-6 else Ending.ITERATION_LIMIT, "Optimal flow", found.iterations,
                      notes=notes, assumed=_assumed(options))  # fmt: skip
    if off != off or off >= 1e-6:
        account = replace(account, explanation="The load flow with its set-points ends elsewhere than the optimum.")
    return Result(account, {t.name: t for t in tables}, summary, [], f"{said}; {binds_most(binding)}.", scheme_of(case, found),
                  figures_of(case, found), quantities_of(unit))  # fmt: skip


def _assumed(options: OptimalFlowOptions) -> list[str]:
    told = [
        "Costs of plants without one are typical for their energy.",
        "Taps, shunts and demand stay as the load flow left them.",
    ]
    if options.best == "least_change":
        told.append("Least change: the least sum of squares of the changes of active power, sources aside.")
    return told


def _losses(case: Case, v: Floats, p: Floats) -> float:
    load = case.grid.load
    return float((p.sum() - (load[0] + load[2] * v + load[4] * v * v).sum()) * case.base)


def _moved(case: Case, found: Optimum) -> float:
    own = np.array([not isinstance(case.network[i], Source) for i in case.plants.ident])
    return float(np.abs(found.p - case.plants.p)[own].sum() * case.base)


def _buses(case: Case, found: Optimum, parts: Split | None, unit: str) -> Table:
    live = live_buses(case)
    ids, rows, base = [case.arrays.bus_id[n] for n in live], case.pattern.row[live], case.base
    columns = [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [case.network[i].name for i in ids], fixed=True),
        Column("nominal_kv", "Nominal", case.arrays.bus_kv[live], "kV", 2, fixed=True),
        Column("before_pu", "Voltage now", case.start[1][rows] if case.before else np.full(len(rows), np.nan), "p.u.", 4),
        Column("after_pu", "Voltage at best", found.v[rows], "p.u.", 4),
        Column("price", "Price", found.price_p[rows] / base, None, 3, f"{unit}, by one MW more of demand"),
    ]  # fmt: skip
    if parts is not None:
        columns.append(Column("beside", "Beside energy", found.price_p[rows] / base - parts.energy / base, None, 3,
                              "What losses and limits make of it"))  # fmt: skip
        limits = np.sum([*parts.branches.values(), *parts.voltages.values(), np.zeros(case.grid.n)], axis=0)
        columns += [
            Column("energy", "Energy", np.full(len(rows), parts.energy / base), None, 3, "As at the reference"),
            Column("losses", "Losses", parts.losses[rows] / base, None, 3, "What more or less is lost on the way"),
            Column("limits", "Limits", limits[rows] / base, None, 3, "What limits of branches and voltages add"),
        ]
        for (k, side), share in sorted(parts.branches.items(), key=lambda item: -float(np.abs(item[1]).max()))[:6]:
            ident, _, _ = end_of(case, k, ("from", "to")[side])
            columns.append(
                Column(f"by_{len(columns)}", f"of it {case.network[ident].name}", share[rows] / base, None, 3)
            )
    columns.append(
        Column("price_q", "Price of Q", found.price_q[rows] / base, None, 3, f"{unit}, by one Mvar more of demand")
    )
    return Table("buses", "Prices", columns)


def _branches(case: Case, found: Optimum, unit: str) -> Table:
    v = found.v * np.exp(1j * found.theta)
    g = case.grid
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
