"""The account of a load flow in plain words: how it ended, and if it failed, where and why."""

from __future__ import annotations

import numpy as np

from ...electrical import NetArrays
from ...network import Network
from ..base import Account, Ending, MismatchAt
from ._options import LoadFlowOptions
from ._problem import Problem, Solution, State

_WORST_SHOWN = 5
_METHODS = {
    "automatic": "Newton",
    "newton": "Newton",
    "fast_decoupled": "Fast decoupled",
    "gauss_seidel": "Gauss–Seidel",
}


def account_for(
    network: Network, arrays: NetArrays, problem: Problem, solution: Solution, options: LoadFlowOptions
) -> Account:
    attempt = solution.attempt
    base = arrays.base_mva
    history = [h * base for h in attempt.history]
    return Account(
        ending=attempt.ending,
        method=f"{_METHODS[options.method]}, {attempt.rung}",
        iterations=attempt.iterations,
        history=history,
        worst=_worst(arrays, problem, solution),
        largest_mismatch_mva=history[-1] if history else 0.0,
        tolerance_mva=options.tolerance_pu * base,
        explanation=_explain(network, arrays, problem, solution, options),
        notes=_notes(network, arrays, problem, solution),
        assumed=_assumed(network, arrays),
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
        1 for e in items if e is not None and e.kind != "electrode"
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
    for earlier in solution.attempts:
        if earlier is solution.attempt:
            continue
        if earlier.ending is Ending.CONVERGED:
            text = "it converged to a solution of lower voltages, which was set aside."
        else:
            text = f"it did not converge in {earlier.iterations} iterations."
        notes.append(f"From the {earlier.rung} {text}")
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
    reach = _reach(arrays, problem, options)
    if reach is None:
        return (
            "There is no solution even at next to no demand. Look at the buses below: a wrong impedance, "
            "ratio or vector group near them is likely."
        )
    share, state = reach
    row = int(np.argmin(state.v))
    bus = _bus_of_node(arrays, problem, row)
    name = network[bus].name
    return (
        f"Demand and generation are beyond what the network can carry. At {100 * share:.3g} % of them it still "
        f"converges, with the lowest voltage at {name}, {state.v[row]:.3f} p.u.: the path that feeds it, or the demand "
        "behind it, is the place to look."
    )


def _reach(arrays: NetArrays, problem: Problem, options: LoadFlowOptions) -> tuple[float, State] | None:
    """The largest share of all injections (to a few per cent of itself) that still converges, and its voltages."""
    y = problem.admittance(arrays)[1]

    def attempt(share: float, start: State | None) -> State | None:
        scaled = problem.targets(arrays)
        for field in ("p0", "q0", "p1", "q1", "p2", "q2"):
            setattr(scaled, field, getattr(scaled, field) * share)
        begin = start or problem.flat_start(arrays.tables["branch"], scaled)
        found = problem.newton(y, scaled, begin, options, rung="reach")
        good = found.ending is Ending.CONVERGED and float(np.min(found.state.v)) > 0.2
        return found.state if good else None

    high, low, state = 1.0, 0.5, None
    while low > 1e-5:
        state = attempt(low, None)
        if state is not None:
            break
        high, low = low, low / 2
    if state is None:
        return None
    for _ in range(6):
        middle = (low + high) / 2
        further = attempt(middle, state)
        if further is None:
            high = middle
        else:
            low, state = middle, further
    return low, state
