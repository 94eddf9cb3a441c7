"""The linear optimal flow as a study, with the AC load flow of its answer beside it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...electrical import SLACK
from ...electrical.arrays import Floats
from ...flow import Ending
from ...flow.balanced import LoadFlowOptions, Problem
from ...results import Account, Column, Result, Table
from ._build import Case
from ._linear import LinearBranches, solve_linear
from ._options import OptimalFlowOptions
from ._problem import Optimum
from ._published import binding_of, binds_most, end_of, figures_of, live_buses, plants_of, quantities_of, scheme_of

_SMALL_X = 1e-7


def run_linear(case: Case, options: OptimalFlowOptions) -> Result:
    """Solve and publish; nothing where no dispatch keeps the limits."""
    b = case.arrays.tables["branch"]
    r, x = b["r"][case.branch], b["x"][case.branch]
    size = np.where(np.abs(x) > _SMALL_X, x, np.hypot(r, x))
    branches = LinearBranches(
        1 / (size * b["ratio_from"][case.branch] * b["ratio_to"][case.branch]), b["shift"][case.branch]
    )
    shunt, row = case.arrays.tables["shunt"], case.pattern.row
    at = row[shunt["bus"]]
    drawn = case.grid.load[0] + case.grid.load[2] + case.grid.load[4]
    drawn = drawn + np.bincount(at[at >= 0], shunt["y"].real[at >= 0], case.grid.n)
    found = solve_linear(case.grid, branches, case.limits, case.cost, drawn)
    if not found.found:
        text = (
            "No dispatch keeps every limit of the linear equations. Exact ones name the least that would have to give."
        )
        return Result(Account(Ending.ITERATION_LIMIT, "Linear optimal flow", 0, explanation=text), {}, {}, [], text)
    flow = branches.b * (found.theta[case.grid.frm] - found.theta[case.grid.to] - branches.shift)
    unit = {"cost": "1/h", "least_change": "MW²"}[options.best]
    plants, before, after = plants_of(case, found)
    binding = binding_of(case, found, unit)
    buses, lines = _prices(case, found, unit), _flows(case, found, flow, unit)
    beside, words = _beside(case, found)
    said = f"{after:.2f} an hour" + (
        f", {before - after:.2f} less than now ({before:.2f})" if case.before is not None else ""
    )
    account = Account(Ending.CONVERGED, "Linear optimal flow", max(found.iterations, 0), notes=[*case.notes, words], assumed=[
        "1 p.u. everywhere, no losses, no reactive power; demand as at nominal voltage.",
        "Costs of plants without one are typical for their energy."])  # fmt: skip
    summary: dict[str, float | None] = {
        "cost_before": before if case.before is not None else None, "cost": after, "binding": float(len(binding)), **beside,
    }  # fmt: skip
    tables = {t.name: t for t in (plants, binding, buses, lines)}
    return Result(account, tables, summary, [], f"{said}; {binds_most(binding)}. {words}", scheme_of(case, found, linear=True),
                  figures_of(case, found), quantities_of(unit))  # fmt: skip


def _prices(case: Case, found: Optimum, unit: str) -> Table:
    live = live_buses(case)
    ids, rows, base = [case.arrays.bus_id[n] for n in live], case.pattern.row[live], case.base
    price = found.price_p[rows] / base
    energy = float(found.price_p[int(np.flatnonzero(np.isfinite(case.limits.angle))[0])]) / base
    return Table("buses", "Prices", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [case.network[i].name for i in ids], fixed=True),
        Column("nominal_kv", "Nominal", case.arrays.bus_kv[live], "kV", 2, fixed=True),
        Column("price", "Price", price, None, 3, f"{unit}, by one MW more of demand"),
        Column("beside", "Beside energy", price - energy, None, 3, "What limits make of it"),
        Column("energy", "Energy", np.full(len(rows), energy), None, 3, "As at the reference"),
        Column("losses", "Losses", np.zeros(len(rows)), None, 3, "None in these equations"),
        Column("limits", "Limits", price - energy, None, 3, "What limits of branches add"),
    ])  # fmt: skip


def _flows(case: Case, found: Optimum, flow: Floats, unit: str) -> Table:
    ends = [end_of(case, k, "from") for k in range(len(case.branch))]
    ids, base, g = [e[0] for e in ends], case.base, case.grid
    most = np.minimum(case.limits.most_from, case.limits.most_to)
    saves = np.maximum(found.at_from, found.at_to) / base
    with np.errstate(divide="ignore", invalid="ignore"):
        used = np.where(np.isfinite(most), 100 * np.abs(flow) / most, np.nan)
    return Table("branches", "Branches", [
        Column("id", "Id", ids, fixed=True), Column("name", "Name", [case.network[i].name for i in ids], fixed=True),
        Column("active_mw", "Active power", flow * base, "MW", 3, "Into it at its from end"),
        Column("used_pct", "Of its limit", used, "%", 1), Column("loss_mw", "Losses", np.zeros(len(ids)), "MW", 4),
        Column("saves", "One more saves", saves, None, 4, f"{unit}, by one more MW of its limit"),
        Column("price_from", "Price, from end", found.price_p[g.frm] / base, None, 3),
        Column("price_to", "Price, to end", found.price_p[g.to] / base, None, 3),
        Column("rent", "Rent", (found.price_p[g.to] - found.price_p[g.frm]) * flow, "1/h", 2),
    ])  # fmt: skip


def _beside(case: Case, found: Optimum) -> tuple[dict[str, float | None], str]:
    """The AC load flow with these active powers: figures, and in words."""
    machine = {name: c.copy() for name, c in case.arrays.tables["injection"].items()}
    rows = case.plants.row
    given = machine["control"][rows] != SLACK
    machine["p"][rows[given]] = found.p[given]
    arrays = replace(case.arrays, tables={**case.arrays.tables, "injection": machine})
    solution = Problem(arrays).solve(arrays, LoadFlowOptions())
    if solution.attempt.ending is not Ending.CONVERGED:
        return {"ac_loading_pct": None}, "The AC load flow with these powers has no solution: do not rely on it."
    state, g = solution.attempt.state, case.grid
    v = state.v * np.exp(1j * state.theta)
    i_f, i_t = g.ports[0] * v[g.frm] + g.ports[1] * v[g.to], g.ports[2] * v[g.frm] + g.ports[3] * v[g.to]
    if case.limits.power:
        i_f, i_t = i_f * np.abs(v[g.frm]), i_t * np.abs(v[g.to])
    with np.errstate(divide="ignore", invalid="ignore"):
        used = 100 * np.maximum(np.abs(i_f) / case.limits.most_from, np.abs(i_t) / case.limits.most_to)
    lost = float((v[g.frm] * np.conj(g.ports[0] * v[g.frm] + g.ports[1] * v[g.to])
                  + v[g.to] * np.conj(g.ports[2] * v[g.frm] + g.ports[3] * v[g.to])).real.sum() * case.base)  # fmt: skip
    figures: dict[str, float | None] = {"ac_loading_pct": None, "ac_losses_mw": lost, "ac_lowest_pu": float(state.v.min()),
                                        "ac_highest_pu": float(state.v.max())}  # fmt: skip
    most = ""
    if np.isfinite(used).any() and used.max() > 0:
        k = int(np.nanargmax(used))
        figures["ac_loading_pct"] = float(used[k])
        most = f"; {case.network[end_of(case, k, 'from')[0]].name} carries {used[k]:.1f} % of its limit."
    band = f"{state.v.min():.3f} and {state.v.max():.3f} p.u."
    return figures, f"In the AC load flow with these powers {lost:.4g} MW are lost, voltages lie between {band}{most}"
