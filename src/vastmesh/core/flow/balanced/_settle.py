"""Solving with automatic control around it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from ...electrical import NetArrays
from .._ending import Ending
from ._controls import MOST_ROUNDS, Controls
from ._options import LoadFlowOptions
from ._problem import Problem, Solution
from ._reading import Reading, SwitchFlows
from ._state import State


def settle(
    problem: Problem, controls: Controls, options: LoadFlowOptions, switches: SwitchFlows, last: State | None
) -> tuple[NetArrays, Solution, State | None]:
    """Solve, let the controllers act, and solve again until none moves. Returns the arrays to read the solution with, the
    solution, and the last state that converged."""
    arrays = controls.applied()
    admittance = problem.admittance(arrays)
    for _ in range(MOST_ROUNDS):
        solution = problem.solve(arrays, options, last, admittance)
        if solution.attempt.ending is not Ending.CONVERGED:
            return arrays, solution, last
        last = solution.attempt.state.copy()
        if options.start != "last":
            options = options.model_copy(update={"start": "last"})
        seen = Reading(arrays, problem, solution, switches)
        moved, anew = controls.move(seen)
        if not moved:
            return controls.final(arrays, seen), solution, last
        arrays = controls.applied()
        if anew:
            admittance = problem.admittance(arrays)
    controls.settled = False
    solution = problem.solve(arrays, options, last, admittance)
    return controls.final(arrays, Reading(arrays, problem, solution, switches)), solution, last


def with_positions(arrays: NetArrays, positions: Mapping[int, float]) -> NetArrays:
    """Arrays in which controllers begin at known positions, by position in ``element_id``."""
    tables = dict(arrays.tables)
    for name, column in (("tap", "position"), ("phase", "position"), ("bank", "on")):
        table = tables[name]
        values = table[column].copy()
        for k, e in enumerate(table["element"].tolist()):
            if e in positions:
                values[k] = positions[e]
        tables[name] = {**table, column: values}
    return replace(arrays, tables=tables)
