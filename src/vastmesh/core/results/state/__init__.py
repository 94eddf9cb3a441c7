"""A solved state of a network, balanced or per phase, kept at hand: its tables, totals, findings and account."""

from ._as_set import live_for, solve_as_set, solver_for
from ._cases import Case, CaseComparison, SolvedCase, changed_data, compare_cases, lay_case, solve_case
from ._guard import guarded
from ._quantities import STATE_TOTALS
from ._result import LoadFlowResult
from .balanced import LiveLoadFlow, live_options, run_load_flow
from .phases import LiveUnbalanced, run_unbalanced
from .phases import live_options as phase_options

__all__ = [
    "STATE_TOTALS",
    "Case",
    "CaseComparison",
    "LiveLoadFlow",
    "LiveUnbalanced",
    "LoadFlowResult",
    "SolvedCase",
    "changed_data",
    "compare_cases",
    "guarded",
    "lay_case",
    "live_for",
    "live_options",
    "phase_options",
    "run_load_flow",
    "run_unbalanced",
    "solve_as_set",
    "solve_case",
    "solver_for",
]
