"""Studies: one room each. Importing this package registers all of them."""

from ..severity import Severity
from . import load_flow
from .base import STUDIES, Account, Column, Ending, Finding, Result, Study, Table

__all__ = ["STUDIES", "Account", "Column", "Ending", "Finding", "Result", "Severity", "Study", "Table", "load_flow"]
