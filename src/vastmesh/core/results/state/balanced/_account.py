"""The account of a load flow in plain words: how it ended, and if it failed, where and why."""

from __future__ import annotations

import numpy as np

from ....electrical import NetArrays
from ....flow import Ending
from ....flow.balanced import MOST_LEFT_MVA, LoadFlowOptions, Problem, Solution
from ....network import Network, Role
from ... import Account, MismatchAt
from ..._rows import Rows

_WORST_SHOWN = 5
_SAME = 1e-5  # p.u.
_METHODS = {
    "automatic": "Newton",
    "newton": "Newton",
    "fast_decoupled": "Fast decoupled",
    "gauss_seidel": "Gauss–Seidel",
}


def account_for(
    network: Network, arrays: NetArrays, problem: Problem, solution: Solution, options: LoadFlowOptions, rows: Rows
) -> Account:
    attempt = solution.attempt
    base, reach = arrays.base_mva, solution.reach
    if rows.assumed is None:
        rows.assumed = _assumed(network, arrays)
    history = [h * base for h in attempt.history]
    return Account(
        ending=attempt.ending,
        method=f"{_METHODS[options.method]}, {attempt.rung}",
        iterations=attempt.iterations,
        history=history,
        worst=_worst(arrays, problem, solution),
        largest_mismatch_mva=history[-1] if history else 0.0,
        tolerance_mva=attempt.allowed * base or options.tolerance_pu * MOST_LEFT_MVA,
        explanation=_explain(network, arrays, problem, solution, options),
        notes=_notes(network, arrays, problem, solution),
        assumed=rows.assumed,
        share_pct=None if not reach or reach.state is None else 100 * reach.share,
        breaks_at=None if not reach or reach.state is None else _bus_of_node(arrays, problem, reach.weakest),
    )


def _bus_of_node(arrays: NetArrays, problem: Problem, node: int) -> str:
    """The first bus that stands for a node of the nodal matrix."""
    return arrays.bus_id[int(np.argmax(problem.pattern.row == node))]


def _worst(arrays: NetArrays, problem: Problem, solution: Solution) -> list[MismatchAt]:
    f = np.nan_to_num(solution.attempt.mismatch, nan=np.inf).reshape(-1, 2)
    if not len(f):
        return []
    order = np.argsort(-np.abs(f).max(axis=1))[:_WORST_SHOWN]
    base = arrays.base_mva
    return [
        MismatchAt(_bus_of_node(arrays, problem, int(i)), float(f[i, 0]) * base, float(f[i, 1]) * base) for i in order
    ]


def _assumed(network: Network, arrays: NetArrays) -> list[str]:
    """What the balanced network stands for: elements of fewer phases as if they had all three."""
    items = (network.items.get(i) for i in arrays.element_id)
    fewer = sum(
        1 for e in items if e is not None and getattr(e, "role", None) is not Role.EARTH
        and len(str(getattr(e, "conductors", "ABC")).replace("N", "")) < 3
    )  # fmt: skip
    if not fewer:
        return []
    return [
        f"{fewer} {'element has' if fewer == 1 else 'elements have'} fewer than three phases: balanced, their power is "
        "shared by all three. Solve per phase to see each phase and the neutral."
    ]


def _notes(network: Network, arrays: NetArrays, problem: Problem, solution: Solution) -> list[str]:
    notes = []
    if solution.low_voltage_pu:
        v, t = solution.attempt.state.v, solution.targets
        low = np.flatnonzero((v < solution.low_voltage_pu) & ((t.constant_p != 0) | (t.constant_q != 0)))
        if len(low):
            names = ", ".join(network[_bus_of_node(arrays, problem, int(i))].name for i in low[:3])
            notes.append(
                f"{len(low)} {'bus is' if len(low) == 1 else 'buses are'} below {solution.low_voltage_pu:g} p.u.: constant-power "
                f"demand there follows the voltage squared ({names}{' ...' if len(low) > 3 else ''})."
            )
    if solution.attempt.rounded:
        name = network[_bus_of_node(arrays, problem, solution.attempt.worst_node)].name
        notes.append(
            f"The mismatch at {name} falls no further than "
            f"{solution.attempt.history[-1] * arrays.base_mva:.1e} MVA for rounding: "
            "an impedance there is very small beside the others."
        )
    if arrays.raised:
        names = ", ".join(network[i].name for i in arrays.raised[:3])
        notes.append(
            f"{names}{' ...' if len(arrays.raised) > 3 else ''}: impedance too small to be told from rounding, counted as "
            "1e-7 p.u. on 100 MVA, which drops 0.00001 % of the voltage at 100 MVA. A closed switch says the same exactly."
        )
    for earlier in solution.attempts:
        if earlier is solution.attempt:
            continue
        if earlier.ending is Ending.CONVERGED:
            if np.max(np.abs(earlier.state.v - solution.attempt.state.v)) < _SAME:
                continue  # the same answer, reached again to make sure of it
            text = "it converged to a solution of lower voltages, which was set aside."
        else:
            text = f"it did not converge in {earlier.iterations} iterations."
        notes.append(f"From the {earlier.rung} {text}")
    if solution.attempt.doubtful and solution.attempt.ending is Ending.CONVERGED:
        lowest = int(np.argmin(solution.attempt.state.v))
        notes.append(
            f"The voltage at {network[_bus_of_node(arrays, problem, lowest)].name}, "
            f"{solution.attempt.state.v[lowest]:.3f} p.u., is so "
            "low that this may be the lower one of two solutions, which no network stays at."
        )
    at_limit = solution.attempt.at_limit
    if np.any(at_limit):
        machine = arrays.tables["injection"]
        at = problem.row_of(machine["bus"])
        for k in np.flatnonzero((at >= 0) & (machine["control"] == 1)):
            if side := at_limit[at[k]]:
                name = network[arrays.element_id[machine["element"][k]]].name
                limit = machine["q_max" if side > 0 else "q_min"][k] * arrays.base_mva
                volts = solution.attempt.state.v[at[k]]
                notes.append(
                    f"{name} is at its {'upper' if side > 0 else 'lower'} reactive limit, {limit:.4g} Mvar: it holds "
                    f"{volts:.4f} p.u. instead of {machine['voltage'][k]:.4f}."
                )
    return notes


def _explain(
    network: Network, arrays: NetArrays, problem: Problem, solution: Solution, options: LoadFlowOptions
) -> str:
    attempt = solution.attempt
    if attempt.ending is Ending.CONVERGED:
        return ""
    if attempt.ending is Ending.NOTHING_TO_SOLVE:
        if not arrays.n_bus:
            return "The network has no bus yet. Add a bus and a source, and it is solved."
        return "No island has a source in service, so nothing is live. Add a source, or close the switch that leads to one."
    if options.method in ("fast_decoupled", "gauss_seidel"):
        return (
            f"{_METHODS[options.method]} did not converge within {attempt.iterations} steps. That says little about the "
            "network: choose the automatic method to see whether it has a solution."
        )
    reach = solution.reach
    if reach is None or reach.state is None:
        return (
            "There is no solution even at next to no demand. Look at the buses below: a wrong impedance, "
            "ratio or vector group near them is likely."
        )
    bus = _bus_of_node(arrays, problem, reach.weakest)
    name = network[bus].name
    return (
        f"Demand and generation are beyond what the network can carry. Solutions end at {100 * reach.share:.3g} % of them, "
        f"where the voltage at {name} falls fastest ({reach.state.v[reach.weakest]:.3f} p.u.): the path that feeds it, or the "
        "demand behind it, is the place to look."
    )
