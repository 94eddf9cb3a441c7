"""Sweep: the load flow over a range of one number, or over several conditions, as one run."""

from __future__ import annotations

from ...results import Result
from ..base import Inputs, Progress, Study, register
from ._study import SweepOptions, run_sweep

__all__ = ["SweepOptions", "run_sweep"]


def _run(inputs: Inputs, options: SweepOptions, progress: Progress) -> Result:
    return run_sweep(inputs.network, options, progress)


register(
    Study(
        name="sweep",
        label="Sweep",
        purpose="One number over a range, or several conditions side by side: voltages, losses and loading at each",
        options=SweepOptions,
        run=_run,
    )
)
