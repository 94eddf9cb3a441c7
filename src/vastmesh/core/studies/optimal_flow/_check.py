"""An answer held against the load flow: its set-points put there, as it stands and with branches out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from ...electrical import FIXED, NetArrays
from ...electrical.arrays import AUTOMATIC, Complexes, Ints, without_controls
from ...electrical.lost import without_rows
from ...flow import Ending
from ...flow.balanced import LoadFlowOptions, Problem
from ._build import Case
from ._grid import Optimum


def put_into_load_flow(case: Case, found: Optimum) -> float:
    """Largest difference of any voltage, per unit, between the optimum and the load flow with its set-points; NaN where that has
    no solution."""
    arrays = set_as(case, found, reactive_limits=False)
    solution = Problem(arrays).solve(arrays, LoadFlowOptions(reactive_limits=False))
    state = solution.attempt.state
    if solution.attempt.ending is not Ending.CONVERGED:
        return float("nan")
    return float(np.abs(state.v * np.exp(1j * state.theta) - found.v * np.exp(1j * found.theta)).max())


def set_as(case: Case, found: Optimum, *, reactive_limits: bool) -> NetArrays:
    """The arrays with the set-points of an optimum; automatic controls stay where it put them."""
    machine = {name: c.copy() for name, c in case.arrays.tables["injection"].items()}
    rows, at = case.plants.row, case.grid.at
    machine["p"][rows] = found.p
    machine["q"][rows] = np.where(machine["control"][rows] == FIXED, found.q, machine["q"][rows])
    machine["voltage"][rows], machine["angle"][rows] = found.v[at], found.theta[at]
    if not reactive_limits:
        machine["q_min"][rows], machine["q_max"][rows] = -np.inf, np.inf
    arrays = without_controls(with_moved(case, found))
    return replace(arrays, tables={**arrays.tables, "injection": machine})


def after_outage(case: Case, found: Optimum, gone: Mapping[str, Ints]) -> Complexes | None:
    """Voltages by the load flow without some rows of the tables, in the order of the nodes of the case, NaN where nothing feeds
    them, (n,); None where it has no solution. Reactive limits hold."""
    arrays = set_as(case, found, reactive_limits=True)
    arrays = without_rows(arrays, {name: rows for name, rows in gone.items() if name not in AUTOMATIC})
    problem = Problem(arrays)
    solution = problem.solve(arrays, LoadFlowOptions())
    if solution.attempt.ending is not Ending.CONVERGED:
        return None
    state = solution.attempt.state
    v = np.full(case.grid.n, np.nan + 0j)
    there, here = problem.pattern.row, case.pattern.row
    both = (there >= 0) & (here >= 0)
    v[here[both]] = (state.v * np.exp(1j * state.theta))[there[both]]
    return v


def with_moved(case: Case, found: Optimum) -> NetArrays:
    """The arrays with turns, banks and demand where the optimum puts them."""
    mv, tables = case.grid.moving, dict(case.arrays.tables)
    if len(mv.turn_branch):
        branch = {name: c.copy() for name, c in tables["branch"].items()}
        k = case.branch[mv.turn_branch]
        for side, name in ((0, "ratio_from"), (1, "ratio_to")):
            branch[name][k] *= np.where(mv.turn_side == side, found.turn, 1.0)
        branch["shift"][k] += found.shift
        tables["branch"] = branch
    if len(mv.bank_at):
        shunt = {name: c.copy() for name, c in tables["shunt"].items()}
        of = {case.arrays.element_id[e]: k for k, e in enumerate(shunt["element"].tolist())}
        for ident, one, on in zip(case.movers.banks, mv.bank_y.tolist(), found.bank.tolist(), strict=True):
            shunt["y"][of[ident]] = one * on
        tables["shunt"] = shunt
    if len(mv.shed_at):
        load = {name: c.copy() for name, c in tables["load"].items()}
        ids = [case.arrays.element_id[e] for e in load["element"].tolist()]
        left = dict(zip(case.movers.sheds, (1 - found.shed).tolist(), strict=True))
        share = np.array([left.get(i, 1.0) for i in ids])
        load["p"], load["q"] = load["p"] * share, load["q"] * share
        tables["load"] = load
    return replace(case.arrays, tables=tables)
