"""Conditions over time: a day, a week or a year of load flows, driven by profiles."""

from __future__ import annotations

from ..base import Study, register
from ._options import OverTimeOptions
from ._study import run_over_time
from ._workings import explain

__all__ = ["OverTimeOptions", "run_over_time"]

register(
    Study(
        name="over_time",
        label="Over time",
        purpose="A day, a week or a year of load flows by the profiles of the model: worst hours, energy, losses, taps",
        options=OverTimeOptions,
        run=run_over_time,
        explain=explain,
        ends_with_best=True,
        desk="limits",
    )
)
