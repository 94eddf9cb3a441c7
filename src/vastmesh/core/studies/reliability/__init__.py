"""Reliability of supply: how often, how long, from what, at what cost; and how years differ."""

from __future__ import annotations

from ..base import Study, register
from ._options import ReliabilityOptions, SimulationOptions
from ._simulation import SPLIT as YEARS
from ._study import SPLIT
from ._workings import explain

__all__ = ["ReliabilityOptions", "SimulationOptions"]

register(
    Study(
        name="reliability",
        label="Interruptions",
        purpose="How often and how long everybody is without supply, why, and at what cost: every failure played through",
        options=ReliabilityOptions,
        run=SPLIT.run,
        split=SPLIT,
        explain=explain,
        desk="reliability",
    )
)
register(
    Study(
        name="failure_years",
        label="Years of failures",
        purpose="Years simulated one after another: how far the indices spread, with storms, limited crews, ageing and profiles",
        options=SimulationOptions,
        run=YEARS.run,
        split=YEARS,
        desk="reliability",
    )
)
