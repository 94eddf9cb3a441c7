"""What calculations publish: tables, findings, accounts, and what is worked out from them."""

from ._account import Account, MismatchAt
from ._comparison import Comparison, compare_tables
from ._finding import Finding
from ._places import places, words_of
from ._result import Result
from ._summaries import summarise_groups
from ._table import Column, Table

__all__ = [
    "Account",
    "Column",
    "Comparison",
    "Finding",
    "MismatchAt",
    "Result",
    "Table",
    "compare_tables",
    "places",
    "summarise_groups",
    "words_of",
]
