"""Sensitivities at the present solution: voltages, losses and flows by injected power."""

from __future__ import annotations

from ...results import Result
from ..base import Inputs, Progress, Study, register
from ._study import SensitivityOptions, run_sensitivities

__all__ = ["SensitivityOptions", "run_sensitivities"]


def _run(inputs: Inputs, options: SensitivityOptions, progress: Progress) -> Result:
    result = run_sensitivities(inputs.network, options, inputs.condition)
    progress(1.0, "solved")
    return result


register(
    Study(
        name="sensitivities",
        label="Sensitivities",
        purpose="What one more MW or Mvar at a bus does to voltages, losses and flows",
        options=SensitivityOptions,
        run=_run,
        follows=True,
    )
)
