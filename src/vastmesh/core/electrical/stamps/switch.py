from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import CurrentTransformer, Switch
from ..arrays import Columns
from . import Context, stamp


def carries_a(e: Switch, transformers: Sequence[CurrentTransformer]) -> float | None:
    """What the bay may carry without end, A: the least of the switch and the current transformers at it."""
    given = [e.carries_a(), *(t.primary_a * t.continuous_x for t in transformers if t.primary_a)]
    return min((v for v in given if v is not None), default=None)


@stamp(Switch)
def switch(switches: Sequence[Switch], ctx: Context) -> dict[str, Columns]:
    """Closed: both buses are one node. Open: nothing."""
    return {
        "switch": {
            "element": np.arange(len(switches)),
            "from": ctx.rows([e.from_bus for e in switches]), "to": ctx.rows([e.to_bus for e in switches]),
            "closed": np.fromiter((e.closed for e in switches), np.bool_, len(switches)),
            "rating_a": np.fromiter((carries_a(e, ctx.at.get(e.id, ())) or np.inf for e in switches), np.float64,
                                    len(switches)),
        }
    }  # fmt: skip
