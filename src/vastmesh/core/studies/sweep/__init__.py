"""Sweep: the load flow over a range of one number, or over several conditions, as one run."""

from __future__ import annotations

from ..base import Study, register
from ._study import SPLIT, SweepOptions, run_sweep

__all__ = ["SweepOptions", "run_sweep"]

register(
    Study(
        name="sweep",
        label="Sweep",
        purpose="One number over a range, or several conditions side by side: voltages, losses and loading at each",
        options=SweepOptions,
        run=SPLIT.run,
        split=SPLIT,
        desk="decide",
    )
)
