"""Adequacy: whether generation and supplies from outside cover demand."""

from __future__ import annotations

from ..base import Study, register
from ._study import AdequacyOptions, run_adequacy

__all__ = ["AdequacyOptions", "run_adequacy"]

register(
    Study(
        name="adequacy",
        label="Adequacy",
        purpose="How many hours a year generation and supplies from outside do not cover demand, how often, how much is missing",
        options=AdequacyOptions,
        run=run_adequacy,
        desk="reliability",
    )
)
