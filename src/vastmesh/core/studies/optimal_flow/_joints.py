"""Closed switches that have a rating as branches over which next to nothing drops, so that their currents can be held."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...electrical import NetArrays, trace
from ...electrical.arrays import ONES

_DROP = 1e-6  # p.u. at the largest rating


def with_rated_switches(arrays: NetArrays) -> NetArrays:
    """Rated closed switches, and closed ones beside them that would short-circuit their ends, as branches of one reactance: equal
    ones in parallel share equally, as in the load flow."""
    switch = arrays.tables["switch"]
    node = trace(arrays).node
    joined = switch["closed"] & (node[switch["from"]] == node[switch["to"]])
    rated = joined & np.isfinite(switch["rating_a"]) & (switch["rating_a"] > 0)
    if not rated.any():
        return arrays
    chosen = np.flatnonzero(joined & np.isin(node[switch["from"]], node[switch["from"][rated]]))
    most = (switch["rating_a"] / arrays.base_current_a()[switch["from"]])[rated].max()
    amps = np.where(rated, switch["rating_a"], np.nan)[chosen]
    given = {"element": switch["element"][chosen], "from": switch["from"][chosen], "to": switch["to"][chosen],
             "x": np.full(len(chosen), _DROP / most), "rating_from_a": amps, "rating_to_a": amps}  # fmt: skip
    branch = {}
    for name, column in arrays.tables["branch"].items():
        blank = np.full(len(chosen), 1 if name in ONES else np.nan if name == "rating_mva" else 0)
        branch[name] = np.concatenate([column, np.asarray(given.get(name, blank), column.dtype)])
    closed = switch["closed"].copy()
    closed[chosen] = False
    return replace(arrays, tables={**arrays.tables, "branch": branch, "switch": {**switch, "closed": closed}})
