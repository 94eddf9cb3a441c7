"""The linear optimal flow as a study, with the AC load flow of its answer beside it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ...electrical import SLACK
from ...electrical.arrays import Floats, Ints
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...flow.balanced import LoadFlowOptions, Problem
from ...network import Generator, Inverter, SchemeChange, Transformer, Update
from ...results import Account, Column, Result, Table
from ._build import Case
from ._changer import shift_steps
from ._check import with_moved
from ._grid import Optimum
from ._linear import INFEASIBLE, UNBOUNDED, UNSOLVED, Decided, LinearBranches, Whole, solve_linear
from ._options import OptimalFlowOptions
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
    shifts_of,
)

_SMALL_X = 1e-7


def linear_branches(case: Case) -> LinearBranches:
    b = case.arrays.tables["branch"]
    r, x = b["r"][case.branch], b["x"][case.branch]
    size = np.where(np.abs(x) > _SMALL_X, x, np.hypot(r, x))
    return LinearBranches(
        1 / (size * b["ratio_from"][case.branch] * b["ratio_to"][case.branch]), b["shift"][case.branch], r
    )


def drawn_of(case: Case, load: Floats | None = None) -> Floats:
    """Active power of nodes that is drawn at nominal voltage, conductance to earth included, (n,)."""
    shunt, row = case.arrays.tables["shunt"], case.pattern.row
    at = row[shunt["bus"]]
    load = case.grid.load if load is None else load
    return np.asarray(
        load[0::2].sum(axis=0) + np.bincount(at[at >= 0], shunt["y"].real[at >= 0], case.grid.n), np.float64
    )


def whole_of(case: Case, options: OptimalFlowOptions) -> Whole | None:
    """Plants and branches that are decided in whole numbers; None where there are none. Raises :class:`InvalidFields`."""
    turning = [k for k in range(len(case.movers.turns)) if case.limits.shift[0][k] < case.limits.shift[1][k]]
    shifters = turning if options.steps == "whole" else []
    if not options.whole and not options.openings and not shifters:
        return None
    if options.openings and options.losses_counted:
        raise InvalidFields([FieldProblem("options", "openings", options.openings, "branches that may open and losses that count "
                                          "don't go together; leave losses out, the AC load flow tells them")])  # fmt: skip
    items: list[Any] = [case.network[i] for i in case.plants.ident]
    mine = [
        k
        for k, e in enumerate(items)
        if options.whole and isinstance(e, Generator | Inverter) and e.may_stop and e.dispatched
    ]
    if options.whole and not mine and not options.openings:
        text = "no plant in service may stop; say so on the card of one (May stop), or leave whole numbers out"
        raise InvalidFields([FieldProblem("options", "whole", True, text)])
    b = case.arrays.tables["branch"]
    kinds = [case.arrays.element_kind[e] for e in b["element"][case.branch].tolist()]
    openable = [k for k, kind in enumerate(kinds) if kind in ("line", "transformer")] if options.openings else []
    at = np.array(mine, np.int64)
    units = [u for k in shifters if isinstance(u := case.network[case.movers.turns[k]], Transformer)]
    steps = [shift_steps(u, float(case.movers.angle_now[k])) for k, u in zip(shifters, units, strict=True)]
    zero, step, most = np.array(steps, float).reshape(-1, 3).T
    return Whole(
        at, np.array([items[k].cost_running for k in mine], float), np.array([items[k].start_cost for k in mine], float),
        np.abs(case.plants.p[at]) > 1e-6, np.array(openable, np.int64), options.openings, np.array(shifters, np.int64), zero,
        step, most,
    )  # fmt: skip


def without_running(case: Case, whole: Whole | None) -> Case:
    """The cost of running of what may stop counts only while it is on."""
    if whole is None or not len(whole.plants):
        return case
    cost = case.state.cost
    return replace(case, state=replace(case.state, cost=replace(cost, fixed=cost.fixed - float(whole.running.sum()))))


NO_LINEAR_ANSWER = {
    INFEASIBLE: "No dispatch keeps every limit of the linear equations. Exact ones name the least that would have to give.",
    UNBOUNDED: "There is no least: the cost falls for ever, as something is paid for power that nothing limits. Enter the most "
    "and the least power of sources and plants whose cost is below that of others.",
    UNSOLVED: "Not solved: the linear equations may have an answer, and it was not found. Leave whole numbers out, or solve the "
    "exact equations.",
}  # fmt: skip


def run_linear(case: Case, options: OptimalFlowOptions) -> Result:
    """Solve and publish; nothing where no dispatch keeps the limits."""
    whole = whole_of(case, options)
    case = without_running(case, whole)
    branches = linear_branches(case)
    answers, decided = solve_linear(
        [case.state], branches, [drawn_of(case)], None, whole, losses=options.losses_counted
    )
    found = answers[0]
    if not found.found:
        text = NO_LINEAR_ANSWER[found.ending]
        return Result(Account(Ending.ITERATION_LIMIT, "Linear optimal flow", 0, explanation=text), {}, {}, [], text)
    shift = branches.shift.copy()
    np.add.at(shift, case.grid.moving.turn_branch, found.shift)
    flow = branches.b * (found.theta[case.grid.frm] - found.theta[case.grid.to] - shift)
    opened = decided.opened if decided is not None else np.zeros(0, np.int64)
    flow[opened] = 0.0
    unit = options.unit
    off = whole.plants[~decided.on[0]] if whole is not None and decided is not None else None
    plants, before, after = plants_of(case, found, linear=True, off=off, may_stop=whole.plants if whole else None)
    binding = binding_of(case, found, unit)
    lost = branches.r * flow**2 if options.losses_counted else np.zeros(len(flow))
    buses, lines = _prices(case, found, unit), _flows(case, found, flow, lost, unit)
    beside, words = ac_beside(case, found, opened)
    said = {"cost": f"{found.value:.2f} an hour" + (f", now {before:.2f}" if case.before is not None else "")}.get(
        options.best, f"{found.value:.6g} {unit} at best; {after:.2f} an hour")  # fmt: skip
    if decided is not None:
        said += f"; {_decided(case, whole, decided)}"
    shown = "with the losses of every branch" if options.losses_counted else "no losses"
    account = Account(Ending.CONVERGED, "Linear optimal flow", max(found.iterations, 0), notes=[*case.notes, words], assumed=[
        f"1 p.u. everywhere, {shown}, no reactive power; demand as at nominal voltage.",
        "Costs of plants without one are typical for their energy.", *left_out(options)])  # fmt: skip
    summary: dict[str, float | None] = {
        "cost_before": before if case.before is not None else None, "cost": after, "value": found.value,
        "binding": float(len(binding)), "losses_mw": float(lost.sum()) * case.base, "gap": decided.gap if decided else None,
            **beside,
    }  # fmt: skip
    moved = moved_of(case, found)
    tables = {t.name: t for t in (plants, binding, *([moved] if len(moved) else []), buses, lines)}
    scheme = [*scheme_of(case, found, linear=True), *shifts_of(case, found)] + [
        _open(case, int(k)) for k in opened.tolist()
    ]
    return Result(account, tables, summary, [], f"{said}; {binds_most(binding)}. {words}", scheme,
                  figures_of(case, found), quantities_of(unit))  # fmt: skip


def left_out(options: OptimalFlowOptions) -> list[str]:
    """What the linear equations don't have although it may be asked for: said with every answer. Outages they refuse, as does a
    day."""
    if options.equations != "linear":
        return []
    told = ["What this leaves out: voltages, their limits, and reactive power."]
    if options.taps:
        told.append(
            "What this leaves out: taps that change a ratio stay where the load flow left them; only shifts move."
        )
    return told


def _decided(case: Case, whole: Whole | None, decided: Decided) -> str:
    """What the whole numbers came to, in words."""
    parts = []
    if whole is not None and len(whole.plants):
        off = [case.network[case.plants.ident[k]].name for k in whole.plants[~decided.on[0]].tolist()]
        parts.append(f"off: {', '.join(off)}" if off else "every plant that may stop runs")
    if len(decided.opened):
        parts.append(
            "opened: " + ", ".join(case.network[end_of(case, int(k), "from")[0]].name for k in decided.opened.tolist())
        )
    elif whole is not None and whole.openings:
        parts.append("nothing is better off open")
    for k, turn in enumerate(whole.shifters.tolist() if whole is not None else []):
        steps = round(float((decided.shifts[0][k] - whole.zero[k]) / whole.step[k])) if whole is not None else 0
        parts.append(f"{case.network[case.movers.turns[turn]].name} at {steps:+d} steps")
    parts.append("proven best" if decided.gap <= 1e-5 else f"within {100 * decided.gap:.2g} % of the best there can be")
    return "; ".join(parts)


def _open(case: Case, k: int) -> dict[str, Any]:
    ident = end_of(case, k, "from")[0]
    name = case.network[ident].name
    entry = SchemeChange(change=Update(id=ident, values={"in_service": False}), label=f"Open {name}"[:200], gain="open")
    return entry.model_dump(mode="json")


def _prices(case: Case, found: Optimum, unit: str) -> Table:
    live = live_buses(case)
    ids, rows, base = [case.arrays.bus_id[n] for n in live], case.pattern.row[live], case.base
    price = found.price_p[rows] / base
    energy = float(found.price_p[int(np.flatnonzero(np.isfinite(case.limits.angle))[0])]) / base
    return Table("buses", "Prices", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [case.network[i].name for i in ids], fixed=True),
        Column("nominal_kv", "Nominal", case.arrays.bus_kv[live], "kV", 2, fixed=True),
        Column("price", "Price", price, None, 3, f"{unit}, by one MW more of demand"),
        Column("beside", "Beside energy", price - energy, None, 3, "What limits, and losses where they count, make of it"),
        Column("energy", "Energy", np.full(len(rows), energy), None, 3, "As at the reference"),
    ])  # fmt: skip


def _flows(case: Case, found: Optimum, flow: Floats, lost: Floats, unit: str) -> Table:
    ends = [end_of(case, k, "from") for k in range(len(case.branch))]
    ids, base, g = [e[0] for e in ends], case.base, case.grid
    most = np.minimum(case.limits.most_from, case.limits.most_to)
    saves = np.maximum(found.at_from, found.at_to) / base
    with np.errstate(divide="ignore", invalid="ignore"):
        used = np.where(np.isfinite(most), 100 * np.abs(flow) / most, np.nan)
    return Table("branches", "Branches", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [case.network[i].name for i in ids], fixed=True),
        Column("active_mw", "Active power", flow * base, "MW", 3, "Into it at its from end"),
        Column("used_pct", "Of its limit", used, "%", 1), Column("loss_mw", "Losses", lost * base, "MW", 4),
        Column("saves", "One more saves", saves, None, 4, f"{unit}, by one more MW of its limit"),
        Column("price_from", "Price, from end", found.price_p[g.frm] / base, None, 3),
        Column("price_to", "Price, to end", found.price_p[g.to] / base, None, 3),
        Column("rent", "Rent", (found.price_p[g.to] - found.price_p[g.frm]) * flow, "1/h", 2),
    ])  # fmt: skip


def ac_beside(case: Case, found: Optimum, opened: Ints) -> tuple[dict[str, float | None], str]:
    """The AC load flow with these active powers: figures, and in words."""
    arrays = with_moved(case, replace(found, bank=case.movers.banks_now))
    machine = {name: c.copy() for name, c in arrays.tables["injection"].items()}
    rows = case.plants.row
    given = machine["control"][rows] != SLACK
    machine["p"][rows[given]] = found.p[given]
    kept = np.ones(len(arrays.tables["branch"]["element"]), np.bool_)
    kept[case.branch[opened]] = False
    branch = {k: c[kept] for k, c in arrays.tables["branch"].items()}
    arrays = replace(arrays, tables={**arrays.tables, "injection": machine, "branch": branch})
    problem = Problem(arrays)
    solution = problem.solve(arrays, LoadFlowOptions())
    if solution.attempt.ending is not Ending.CONVERGED:
        return {"ac_loading_pct": None}, "The AC load flow with these powers has no solution: do not rely on it."
    state, g = solution.attempt.state, case.grid
    there, here = problem.pattern.row, case.pattern.row
    both = (there >= 0) & (here >= 0)
    v = np.ones(g.n, complex)
    v[here[both]] = (state.v * np.exp(1j * state.theta))[there[both]]
    ports = g.ports.copy()
    ports[:, opened] = 0
    i_f, i_t = ports[0] * v[g.frm] + ports[1] * v[g.to], ports[2] * v[g.frm] + ports[3] * v[g.to]
    lost = float((v[g.frm] * np.conj(i_f) + v[g.to] * np.conj(i_t)).real.sum() * case.base)
    if case.limits.power:
        i_f, i_t = i_f * np.abs(v[g.frm]), i_t * np.abs(v[g.to])
    with np.errstate(divide="ignore", invalid="ignore"):
        used = 100 * np.maximum(np.abs(i_f) / case.limits.most_from, np.abs(i_t) / case.limits.most_to)
    figures: dict[str, float | None] = {"ac_loading_pct": None, "ac_losses_mw": lost, "ac_lowest_pu": float(state.v.min()),
                                        "ac_highest_pu": float(state.v.max())}  # fmt: skip
    most = ""
    if np.isfinite(used).any() and used.max() > 0:
        k = int(np.nanargmax(used))
        figures["ac_loading_pct"] = float(used[k])
        most = f"; {case.network[end_of(case, k, 'from')[0]].name} carries {used[k]:.1f} % of its limit."
    band = f"{state.v.min():.3f} and {state.v.max():.3f} p.u."
    return figures, f"In the AC load flow with these powers {lost:.4g} MW are lost, voltages lie between {band}{most}"
