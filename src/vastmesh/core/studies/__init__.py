"""Studies: one room each. Importing this package registers all of them."""

from ..severity import Severity
from . import linear_flow, load_flow, sensitivities, sweep, unbalanced
from .base import STUDIES, Account, Column, Ending, Finding, Result, Study, Table

__all__ = [
    "STUDIES",
    "Account",
    "Column",
    "Ending",
    "Finding",
    "Result",
    "Severity",
    "Study",
    "Table",
    "linear_flow",
    "load_flow",
    "sensitivities",
    "sweep",
    "unbalanced",
]
