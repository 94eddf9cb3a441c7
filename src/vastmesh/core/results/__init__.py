"""What calculations publish: tables, findings, accounts, and what is worked out from them."""

from ._account import Account, MismatchAt
from ._cause import Cause, Proposal
from ._comparison import Comparison, compare_tables
from ._figure import Axis, Bound, Figure, Series
from ._finding import Finding
from ._limits import loading_allowed, voltage_bands
from ._places import places, words_of
from ._quantity import Quantity, Scale, Total, quantities_in, quantity_of
from ._result import Result
from ._summaries import summarise_groups
from ._table import Column, Table

__all__ = [
    "Account",
    "Axis",
    "Bound",
    "Cause",
    "Column",
    "Comparison",
    "Figure",
    "Finding",
    "MismatchAt",
    "Proposal",
    "Quantity",
    "Result",
    "Scale",
    "Series",
    "Table",
    "Total",
    "compare_tables",
    "loading_allowed",
    "places",
    "quantities_in",
    "quantity_of",
    "summarise_groups",
    "voltage_bands",
    "words_of",
]
