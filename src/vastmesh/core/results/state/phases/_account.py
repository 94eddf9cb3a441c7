"""The account of a load flow per phase in plain words."""

from __future__ import annotations

import numpy as np

from ....electrical.conductor import ConductorArrays
from ....flow import Ending
from ....flow.phases import Attempt, Problem, UnbalancedOptions
from ....network import Network
from ... import Account, MismatchAt

_NAMES = "ABCN"


def account_for(
    network: Network, arrays: ConductorArrays, problem: Problem, attempt: Attempt, attempts: list[Attempt],
    options: UnbalancedOptions,
) -> Account:  # fmt: skip
    base = arrays.base_mva
    history = [h * base for h in attempt.history]
    return Account(
        ending=attempt.ending, method=f"Newton per phase, {attempt.rung}" if attempt.rung else "Newton per phase",
        iterations=attempt.iterations, history=history, worst=_worst(arrays, problem, attempt),
        largest_mismatch_mva=history[-1] if history else 0.0, tolerance_mva=options.tolerance_pu * base,
        explanation=_explain(network, arrays, problem, attempt), notes=_notes(network, arrays, problem, attempt, attempts),
    )  # fmt: skip


def _where(arrays: ConductorArrays, problem: Problem, row: int) -> tuple[str, str]:
    """Bus and conductor of an unknown."""
    node = int(np.argmax(problem.row == row))
    found = np.argwhere(arrays.node == node)
    return (arrays.bus_id[found[0][0]], _NAMES[found[0][1]]) if len(found) else ("", "star point")


def _worst(arrays: ConductorArrays, problem: Problem, attempt: Attempt) -> list[MismatchAt]:
    if not len(attempt.mismatch):
        return []
    f = np.nan_to_num(attempt.mismatch, nan=np.inf)
    v = np.nan_to_num(attempt.v[: len(f)], nan=1.0)
    s = v * np.conj(f) * arrays.base_mva / 3
    found = []
    for k in np.argsort(-np.abs(s))[:5].tolist():
        bus, _ = _where(arrays, problem, k)
        if bus:
            found.append(MismatchAt(bus, float(s[k].real), float(s[k].imag)))
    return found


def _explain(network: Network, arrays: ConductorArrays, problem: Problem, attempt: Attempt) -> str:
    if attempt.ending is Ending.NOTHING_TO_SOLVE:
        return "No source feeds a three-phase bus: there is nothing to solve."
    if attempt.ending is Ending.SINGULAR:
        return "The equations have no single solution: a part of the network is tied to nothing. See the findings."
    if not attempt.converged:
        bus, conductor = _where(arrays, problem, int(np.argmax(np.abs(np.nan_to_num(attempt.mismatch, nan=np.inf)))))
        named = f" at {network[bus].name}, conductor {conductor}" if bus else ""
        return (
            f"No answer within the iterations allowed; the largest mismatch is left{named}. The demand there may be more than "
            "the conductors can carry: lower the demand, or move load to another phase."
        )
    return ""


def _notes(
    network: Network, arrays: ConductorArrays, problem: Problem, attempt: Attempt, attempts: list[Attempt]
) -> list[str]:
    notes = []
    for earlier in attempts:
        if earlier is not attempt:
            notes.append(f"From the {earlier.rung} it did not converge in {earlier.iterations} iterations.")
    if attempt.low_voltage_pu:
        notes.append(
            f"Below {attempt.low_voltage_pu:g} p.u. constant-power demand follows the voltage squared; without that there was "
            "no answer." if len(attempts) > 1 else f"Below {attempt.low_voltage_pu:g} p.u. constant-power demand follows the "
            "voltage squared."
        )  # fmt: skip
    forced = sorted({int(e) for e in arrays.demand["element"][problem.forced & problem.demand_live]})
    if forced:
        names = ", ".join(network[arrays.element_id[e]].name for e in forced[:3]) + (" ..." if len(forced) > 3 else "")
        notes.append(
            f"{len(forced)} {'load hangs' if len(forced) == 1 else 'loads hang'} on a conductor that is broken on its way "
            f"({names}): taken as constant impedances, as constant power has no steady answer there."
        )
    m = arrays.machine
    for k in np.flatnonzero(attempt.at_limit):
        name = network[arrays.element_id[m["element"][k]]].name
        bound = "highest" if attempt.at_limit[k] > 0 else "lowest"
        notes.append(f"{name} is at its {bound} reactive power and no longer holds its voltage.")
    return notes
