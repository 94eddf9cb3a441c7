"""The load flow, balanced and per phase, as studies; what causes a finding and how a figure came about."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ...flow.balanced import LoadFlowOptions
from ...flow.phases import UnbalancedOptions
from ...network import Condition, Network
from ...results import Result
from ...results.state import Case, run_load_flow, run_unbalanced, solve_case
from ...workings import Working
from ..base import Inputs, Progress, Study, register
from ._causes import find_cause
from ._phase_workings import explain_phases
from ._workings import explain_flow

__all__ = ["CASE", "explain_flow", "explain_phases", "find_cause"]


def _balanced(inputs: Inputs, options: LoadFlowOptions, progress: Progress) -> Result:
    result = run_load_flow(inputs.network, options, inputs.condition)
    progress(1.0, "solved")
    return result


def _per_phase(inputs: Inputs, options: UnbalancedOptions, progress: Progress) -> Result:
    result = run_unbalanced(inputs.network, options, inputs.condition)
    progress(1.0, "solved")
    return result


def _explain_balanced(
    network: Network, result: Result, condition: Condition, ident: str, options: Mapping[str, Any]
) -> list[Working]:
    return explain_flow(network, result.tables, condition, ident)


def _explain_per_phase(
    network: Network, result: Result, condition: Condition, ident: str, options: Mapping[str, Any]
) -> list[Working]:
    return explain_phases(network, result.tables, ident)


register(
    Study(
        name="load_flow",
        label="Load flow",
        purpose="Voltages, flows and losses of the balanced network in the steady state",
        options=LoadFlowOptions,
        run=_balanced,
        live=True,
        explain=_explain_balanced,
    )
)
register(
    Study(
        name="unbalanced",
        label="Load flow per phase",
        purpose="Voltages, currents and losses of every phase, the neutral and earth",
        options=UnbalancedOptions,
        run=_per_phase,
        live=True,
        explain=_explain_per_phase,
    )
)


def _case(inputs: Inputs, case: Case, progress: Progress) -> Result:
    result = solve_case(inputs.network, case)
    progress(1.0, "solved")
    return result


# One side of a comparison, of a present network; asked for by the comparison alone, so it is on no list.
CASE = Study(name="case", label="Case", purpose="A combination of schemes and a condition", options=Case, run=_case)
