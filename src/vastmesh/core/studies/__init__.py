"""Studies: one room each. Importing this package registers all of them."""

from ..severity import Severity
from . import balancing, linear_flow, load_flow, sensitivities, sweep, unbalanced
from .base import (
    STUDIES,
    Account,
    Column,
    Ending,
    Finding,
    Result,
    StopRequested,
    Study,
    Table,
    options_of,
    study_named,
)
from .live import solve_as_set

__all__ = [
    "STUDIES",
    "Account",
    "Column",
    "Ending",
    "Finding",
    "Result",
    "Severity",
    "StopRequested",
    "Study",
    "Table",
    "balancing",
    "linear_flow",
    "load_flow",
    "options_of",
    "sensitivities",
    "solve_as_set",
    "study_named",
    "sweep",
    "unbalanced",
]
