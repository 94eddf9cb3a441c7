"""Balanced AC load flow."""

from __future__ import annotations

from ...network import Network
from ..base import Progress, Study, register
from ._linearise import Linearisation
from ._live import LiveLoadFlow, run_load_flow
from ._options import LoadFlowOptions
from ._problem import Problem
from ._reading import Reading
from ._result import LoadFlowResult

__all__ = ["Linearisation", "LiveLoadFlow", "LoadFlowOptions", "LoadFlowResult", "Problem", "Reading", "run_load_flow"]


def _run(network: Network, options: LoadFlowOptions, progress: Progress) -> LoadFlowResult:
    result = run_load_flow(network, options)
    progress(1.0, "solved")
    return result


register(
    Study(
        name="load_flow",
        label="Load flow",
        purpose="Voltages, flows and losses of the balanced network in the steady state",
        options=LoadFlowOptions,
        run=_run,
    )
)
