"""Load flow per phase: every conductor, neutral and earth, for networks that are not balanced."""

from __future__ import annotations

from ...network import Network
from ..base import Progress, Study, register
from ..load_flow import LoadFlowResult
from ._live import LiveUnbalanced, live_options, run_unbalanced
from ._options import UnbalancedOptions
from ._problem import Demands, Problem
from ._reading import SEQUENCES, Admittances, Reading

__all__ = [
    "SEQUENCES", "Admittances", "Demands", "LiveUnbalanced", "Problem", "Reading", "UnbalancedOptions",
    "live_options", "run_unbalanced",
]  # fmt: skip


def _run(network: Network, options: UnbalancedOptions, progress: Progress) -> LoadFlowResult:
    result = run_unbalanced(network, options)
    progress(1.0, "solved")
    return result


register(
    Study(
        name="unbalanced",
        label="Load flow per phase",
        purpose="Voltages, currents and losses of every phase, the neutral and earth",
        options=UnbalancedOptions,
        run=_run,
    )
)
