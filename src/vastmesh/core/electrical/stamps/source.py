from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Source
from ..arrays import SLACK, Columns
from . import Context, column, stamp


@stamp(Source)
def source(sources: Sequence[Source], ctx: Context) -> dict[str, Columns]:
    """Holds voltage and angle at its bus; several on one bus share its power by their fault levels."""
    return {
        "injection": {
            "element": np.arange(len(sources)), "bus": ctx.rows([e.bus for e in sources]),
            "control": np.full(len(sources), SLACK), "p": column(sources, "scheduled_mw") / ctx.base_mva,
            "participation": column(sources, "participation"),
            "voltage": column(sources, "voltage_pu"), "angle": np.radians(column(sources, "angle_deg")),
            "q_min": np.full(len(sources), -np.inf), "q_max": np.full(len(sources), np.inf),
            "weight": column(sources, "fault_max_mva"), "group": np.full(len(sources), -1),
        }
    }  # fmt: skip
