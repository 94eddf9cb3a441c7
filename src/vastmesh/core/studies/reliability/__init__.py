"""Reliability of supply: how often, how long, from what, at what cost."""

from __future__ import annotations

from ..base import Study, register
from ._options import ReliabilityOptions
from ._study import SPLIT

__all__ = ["ReliabilityOptions"]

register(
    Study(
        name="reliability",
        label="Reliability",
        purpose="How often and how long everybody is without supply, why, and at what cost: every failure played through",
        options=ReliabilityOptions,
        run=SPLIT.run,
        split=SPLIT,
        desk="reliability",
    )
)
