"""The load flow, balanced and per phase, as studies; what causes a finding and how a figure came about."""

from __future__ import annotations

from ...flow.balanced import LoadFlowOptions
from ...flow.phases import UnbalancedOptions
from ...network import Network
from ...results import Result
from ...results.state import run_load_flow, run_unbalanced
from ..base import Progress, Study, register
from ._causes import Cause, Proposal, find_cause
from ._phase_workings import explain_phases
from ._workings import explain_flow

__all__ = ["Cause", "Proposal", "explain_flow", "explain_phases", "find_cause"]


def _balanced(network: Network, options: LoadFlowOptions, progress: Progress) -> Result:
    result = run_load_flow(network, options)
    progress(1.0, "solved")
    return result


def _per_phase(network: Network, options: UnbalancedOptions, progress: Progress) -> Result:
    result = run_unbalanced(network, options)
    progress(1.0, "solved")
    return result


register(
    Study(
        name="load_flow",
        label="Load flow",
        purpose="Voltages, flows and losses of the balanced network in the steady state",
        options=LoadFlowOptions,
        run=_balanced,
    )
)
register(
    Study(
        name="unbalanced",
        label="Load flow per phase",
        purpose="Voltages, currents and losses of every phase, the neutral and earth",
        options=UnbalancedOptions,
        run=_per_phase,
    )
)
