"""Worked calculations: how a figure came about, step by step, with formula, inputs and source."""

from ._base import Cell, Matrix, Step, Working, explain
from ._ledger import Ledger, evaluate, in_cells, in_words

__all__ = [
    "Cell", "Ledger", "Matrix", "Step", "Working", "evaluate", "explain", "in_cells", "in_words",
]  # fmt: skip
