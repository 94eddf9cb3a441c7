"""Balanced AC load flow."""

from __future__ import annotations

from ...network import Network
from ..base import Progress, Study, register
from ._causes import Cause, Proposal, find_cause
from ._controls import MOST_ROUNDS, Banks, Control, Curves, Dispatch, Remote, Shifters, Taps, tap_order
from ._findings import emergency_factor, find_windings
from ._linearise import Linearisation
from ._live import LiveLoadFlow, live_options, run_load_flow
from ._options import LoadFlowOptions
from ._places import places, words_of
from ._problem import Problem
from ._reading import Reading
from ._result import LoadFlowResult, Rows, angle_deg, area_table, picked, power_factor, rows_stay, state_words
from ._summaries import summarise_groups

__all__ = [
    "MOST_ROUNDS", "Banks", "Cause", "Control", "Curves", "Dispatch", "Linearisation", "LiveLoadFlow", "LoadFlowOptions",
    "LoadFlowResult", "Network", "Problem", "Progress", "Proposal", "Reading", "Remote", "Rows", "Shifters", "Study", "Taps",
    "angle_deg", "area_table", "emergency_factor", "find_cause", "find_windings", "live_options", "picked", "places",
    "power_factor", "register", "rows_stay", "run_load_flow", "state_words", "summarise_groups", "tap_order", "words_of",
]  # fmt: skip


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
