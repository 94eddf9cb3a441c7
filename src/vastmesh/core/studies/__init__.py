"""Studies: one room each. Importing this package registers all of them."""

from . import load_flow
from .base import STUDIES, Account, Column, Ending, Finding, Result, Severity, Study, Table

__all__ = ["STUDIES", "Account", "Column", "Ending", "Finding", "Result", "Severity", "Study", "Table", "load_flow"]
