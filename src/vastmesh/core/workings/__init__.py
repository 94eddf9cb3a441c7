"""Worked calculations: how a figure came about, step by step, with formula, inputs and source."""

from ._base import Matrix, Step, Working, explain
from ._flows import explain_flow
from ._ledger import Cell, Ledger, evaluate, in_cells, in_words
from ._phases import explain_phases

__all__ = [
    "Cell", "Ledger", "Matrix", "Step", "Working", "evaluate", "explain", "explain_flow", "explain_phases", "in_cells", "in_words",
]  # fmt: skip
