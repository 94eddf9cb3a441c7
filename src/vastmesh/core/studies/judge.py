"""What every branch and bus is allowed under a set of limits, and how much of it is used."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, get_args

import numpy as np
from numba import njit

from ..electrical import NetArrays, TwoPorts
from ..electrical.arrays import Bools, Complexes, Floats, Ints
from ..network import Network
from ..network.limit_sets import LimitSet
from ..results import loading_allowed, voltage_bands

SETS: tuple[str, ...] = get_args(LimitSet)


@dataclass
class Limits:
    """Highest current at both ends of every branch, p.u., inf where none, (n_branch,), and of every rated switch; voltage band,
    p.u., (n_bus,), NaN of what is no bus."""

    most_from: Floats
    most_to: Floats
    low: Floats
    high: Floats
    most_switch: Floats


class Judge:
    """Limits of a network by set. ``ids``: what carries current and is judged: the element of every branch row, ``branch_ids``,
    and behind them the closed switches that have a rating, rows ``switches``; ``in_view``: what is a bus, (n_bus,)."""

    def __init__(self, network: Network, arrays: NetArrays) -> None:
        self.network, self.arrays = network, arrays
        self.branch_ids = [arrays.element_id[e] for e in arrays.tables["branch"]["element"].tolist()]
        self.amps = arrays.base_current_a()
        table = arrays.tables["switch"]
        rated = np.isfinite(table["rating_a"]) & (table["rating_a"] > 0)
        self.switches: Ints = np.flatnonzero(rated & table["closed"])
        self.ids = [*self.branch_ids, *(arrays.element_id[e] for e in table["element"][self.switches].tolist())]
        self.limits = {s: self._limits(s) for s in SETS}
        self.in_view: Bools = np.isfinite(self.limits["normal"].low)

    def _limits(self, limit_set: str) -> Limits:
        b, network = self.arrays.tables["branch"], self.network
        every = np.array([loading_allowed(network.settings, network[i], limit_set) for i in self.ids])
        share, own = every[: len(self.branch_ids)], every[len(self.branch_ids) :]
        ends = [share * b[f"rating_{end}_a"] / self.amps[b[end]] for end in ("from", "to")]
        frm, to = (np.where(np.isfinite(m) & (m > 0), m, np.inf) for m in ends)
        bands = voltage_bands(self.network, limit_set, self.arrays.bus_id, self.arrays.bus_kv)
        table = self.arrays.tables["switch"]
        switch = own * table["rating_a"][self.switches] / self.amps[table["from"][self.switches]]
        return Limits(frm, to, bands[:, 0], bands[:, 1], switch)

    def used(self, v: Complexes, ports: TwoPorts, switched: Floats, limit_set: str) -> Floats:
        """Current over what is allowed of everything judged, (len(ids),), at voltages with NaN where dead and with so much, p.u.,
        through the rated switches; zero where no limit is known or nothing flows."""
        b, limits = self.arrays.tables["branch"], self.limits[limit_set]
        v0 = np.where(np.isfinite(v.real), v, 0)
        kept = np.ones(len(ports.ff), np.bool_)
        carried, _ = used(ports, b["from"], b["to"], v0, kept, limits.most_from, limits.most_to)
        return np.asarray(np.r_[carried, switched / limits.most_switch])


def used(
    ports: TwoPorts, frm: Ints, to: Ints, v: Complexes, kept: Bools, most_from: Floats, most_to: Floats
) -> tuple[Floats, float]:
    """Current over what is allowed at the end where that is most, zero where not ``kept``, (n_branch,), and losses, p.u., at
    voltages of buses, p.u., (n_bus,)."""
    found = np.empty(len(frm))
    lost = _used(ports.ff, ports.ft, ports.tf, ports.tt, frm, to, v, kept, most_from, most_to, found)
    return found, float(lost)


@njit(cache=True, nogil=True)
def _used(
    ff: Any, ft: Any, tf: Any, tt: Any, frm: Any, to: Any, v: Any, kept: Any, most_from: Any, most_to: Any, found: Any
) -> float:
    losses = 0.0
    for k in range(len(frm)):
        found[k] = 0.0
        if kept[k]:
            a, b = v[frm[k]], v[to[k]]
            out, back = ff[k] * a + ft[k] * b, tf[k] * a + tt[k] * b
            found[k] = max(abs(out) / most_from[k], abs(back) / most_to[k])
            losses += (a * out.conjugate() + b * back.conjugate()).real
    return losses
