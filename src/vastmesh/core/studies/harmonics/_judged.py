"""Voltages held against their levels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...electrical.arrays import Floats
from ...network import Network
from ...results import Finding
from ...severity import Severity
from ._limits import level_of, limit_pct, total_pct
from ._options import DistortionOptions

WATCH = 0.8  # of a level


def level_findings(
    network: Network, ids: Sequence[str], kv: Floats, options: DistortionOptions, orders: list[int], volts: Floats,
    total: Floats, whose: list[list[str | None]],
) -> list[Finding]:  # fmt: skip
    """The worst bus of each order and voltage level; how many more there are stands beside it.

    ``volts``: per cent, (n_order, n_bus); ``whose``: the element that does most, by order and bus, None where nobody is told.
    """
    words = "planning level" if options.limits == "planning" else "compatibility level"
    levels = np.array([level_of(float(v), options.limits) for v in kv])
    made = []
    for level in dict.fromkeys(levels.tolist()):
        here = np.flatnonzero(levels == level)
        judged = [(f"order {h}", f"order_{h}_pct", volts[k], limit_pct(level, h)) for k, h in enumerate(orders)]
        for n_what, (what, quantity, values, limit) in enumerate(
            [*judged, ("total distortion", "thd_pct", total, total_pct(level))]
        ):
            n = int(here[values[here].argmax()])
            value = float(values[n])
            if value <= WATCH * limit:
                continue
            severity = Severity.BREACH if value > limit else Severity.WATCH
            more = int((values[here] > (limit if severity is Severity.BREACH else WATCH * limit)).sum()) - 1
            beside = f", and {more} more bus{'es' if more > 1 else ''}" if more else ""
            k = n_what if n_what < len(orders) else int(volts[:, n].argmax())
            most = whose[k][n]
            by = f"; most of it from {network[most].name}" if most is not None else ""
            text = f"{what} {value:.2f} %; at most {limit:.3g} % ({words}, {level} voltage){by}{beside}"
            made.append(Finding(ids[n], "distortion", quantity, value, "%", limit, words.capitalize(),
                                severity, "above", value / limit - 1, text))  # fmt: skip
    return made
