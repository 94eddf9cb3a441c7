"""Worked calculations: how a figure came about, step by step, with formula, inputs and source."""

from ._base import Matrix, Step, Working, explain

__all__ = ["Matrix", "Step", "Working", "explain"]
