"""Voltages held against their levels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...electrical.arrays import Floats
from ...network import Network
from ...results import Finding
from ...severity import Severity
from ._limits import levels_of, named
from ._options import DistortionOptions

WATCH = 0.8  # of a level


def level_findings(
    network: Network, ids: Sequence[str], kv: Floats, options: DistortionOptions, orders: list[float], volts: Floats,
    total: Floats, whose: list[list[str | None]],
) -> list[Finding]:  # fmt: skip
    """The worst bus of each order and voltage level; how many more there are stands beside it.

    ``volts``: per cent, (n_order, n_bus); ``whose``: the element that does most, by order and bus, None where nobody is told.
    """
    words = f"{options.limits} level"
    levels = levels_of(network, [float(v) for v in kv], options.limits)
    made = []
    for level in dict.fromkeys(levels):
        here = np.array([n for n, other in enumerate(levels) if other == level], np.int64)
        judged = [(f"order {h:g}", f"order_{named(h)}_pct", volts[k], level.limit_pct(h)) for k, h in enumerate(orders)]
        for n_what, (what, quantity, values, limit) in enumerate(
            [*judged, ("total distortion", "thd_pct", total, level.total_pct)]
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
            text = f"{what} {value:.2f} %; at most {limit:.3g} % ({level.name}){by}{beside}"
            made.append(Finding(ids[n], "distortion", quantity, value, "%", limit, words.capitalize(),
                                severity, "above", value / limit - 1, text))  # fmt: skip
    return made
