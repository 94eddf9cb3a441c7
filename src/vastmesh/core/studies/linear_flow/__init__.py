"""Linear load flow: angles from active power, without losses or with losses taken from the AC solution."""

from __future__ import annotations

from ...results import Result
from ..base import Inputs, Progress, Study, register
from ._study import LinearFlowOptions, run_linear_flow

__all__ = ["LinearFlowOptions", "run_linear_flow"]


def _run(inputs: Inputs, options: LinearFlowOptions, progress: Progress) -> Result:
    result = run_linear_flow(inputs.network, options, inputs.condition)
    progress(1.0, "solved")
    return result


register(
    Study(
        name="linear_flow",
        label="Linear load flow",
        purpose="Active power from angles alone, without and with an estimate of losses, beside the AC result",
        options=LinearFlowOptions,
        run=_run,
        follows=True,
    )
)
