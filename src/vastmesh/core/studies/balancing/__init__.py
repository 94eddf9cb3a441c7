"""Phase balancing: another phase for loads and laterals, so that the phases carry alike."""

from __future__ import annotations

from ..base import Study, register
from ._model import Feeder
from ._options import BalancingOptions
from ._study import SPLIT, run_balancing

__all__ = ["BalancingOptions", "Feeder", "run_balancing"]

register(
    Study(
        name="balancing",
        label="Phase balancing",
        purpose="Which loads and laterals to move to another phase; the answer is a scheme",
        options=BalancingOptions,
        run=SPLIT.run,
        split=SPLIT,
        ends_with_best=True,
    )
)
