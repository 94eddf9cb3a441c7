"""Phase balancing: another phase for loads and laterals, so that the phases carry alike."""

from __future__ import annotations

from ...results import Result
from ..base import Inputs, Progress, Study, register
from ._model import Feeder
from ._options import BalancingOptions
from ._study import run_balancing

__all__ = ["BalancingOptions", "Feeder", "run_balancing"]


def _run(inputs: Inputs, options: BalancingOptions, progress: Progress) -> Result:
    return run_balancing(inputs.network, options, progress)


register(
    Study(
        name="balancing",
        label="Phase balancing",
        purpose="Which loads and laterals to move to another phase; the answer is a scheme",
        options=BalancingOptions,
        run=_run,
        ends_with_best=True,
    )
)
