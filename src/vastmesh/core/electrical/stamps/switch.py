from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Switch
from ..arrays import Columns
from . import Context, column, stamp


@stamp(Switch)
def switch(switches: Sequence[Switch], ctx: Context) -> dict[str, Columns]:
    """Closed: both buses are one node. Open: nothing."""
    return {
        "switch": {
            "element": np.arange(len(switches)),
            "from": ctx.rows([e.from_bus for e in switches]), "to": ctx.rows([e.to_bus for e in switches]),
            "closed": np.fromiter((e.closed for e in switches), np.bool_, len(switches)),
            "rating_a": column(switches, "rating_a", blank=np.inf),
        }
    }  # fmt: skip
