"""What all outages share: the solved network, what each branch and bus is allowed, and where it stands before."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...electrical import compile_network
from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...flow import Ending
from ...flow.balanced import After, Reading, Without
from ...network import Network
from ...results import loading_allowed, voltage_bands
from ...results.state import live_options
from ..base import Inputs
from ._list import Loss, losses
from ._options import OutagesOptions

_SETS = ("normal", "emergency")


@dataclass
class Limits:
    """Highest current at both ends of every branch, p.u., inf where none, (n_branch,); voltage band, p.u., (n_bus,)."""

    most_from: Floats
    most_to: Floats
    low: Floats
    high: Floats


@dataclass
class Seen:
    """What stands after one outage: current over what is allowed, (n_branch,); voltage, NaN where dead, (n_bus,)."""

    used: Floats
    volts: Floats
    lost_mw: float
    dead: Bools


class Ready:
    """Made once in every process."""

    def __init__(self, inputs: Inputs, options: OutagesOptions) -> None:
        self.inputs, self.options = inputs, options
        self.condition = inputs.under
        self.network: Network = inputs.network.under(self.condition)
        self.losses: list[Loss] = losses(inputs.network, self.condition, options)
        self._arrays = compile_network(self.network)
        self._without: dict[str, Without] = {}
        first = self.without(self.losses[0].stage if self.losses else options.stage)
        self.arrays = first.arrays
        self.solved = first.base is not None
        self.ending: Ending = first.solution.attempt.ending
        if first.base is None:
            return
        base: Reading = first.base
        self.base_v: Complexes = base.v
        branch = self.arrays.tables["branch"]
        self.ids = [self.arrays.element_id[e] for e in branch["element"].tolist()]
        self.amps = self.arrays.base_current_a()
        self.limits = {s: self._limits(s) for s in _SETS}
        self.demand: Floats = base.load_power.real
        self.live: Bools = np.isfinite(base.v.real)
        self.bus_in_view: Bools = np.isfinite(self.limits["normal"].low)
        self.base = self.seen(After(Ending.CONVERGED, base.v, first.solution.ports, 0), "normal", ())
        self.base_by_set = {s: self.used(base.v, first.solution.ports, s) for s in _SETS}

    def without(self, stage: str) -> Without:
        """Ready to lose elements, judged at a stage."""
        if stage not in self._without:
            options = live_options(self.inputs.network.settings)
            self._without[stage] = Without(self._arrays, self.condition, options, controls=stage == "after_control")
        return self._without[stage]

    def _limits(self, limit_set: str) -> Limits:
        b = self.arrays.tables["branch"]
        share = np.array([loading_allowed(self.network[i], limit_set) for i in self.ids])
        ends = [share * b[f"rating_{end}_a"] / self.amps[b[end]] for end in ("from", "to")]
        frm, to = (np.where(np.isfinite(m) & (m > 0), m, np.inf) for m in ends)
        bands = voltage_bands(self.network, limit_set, self.arrays.bus_id, self.arrays.bus_kv)
        return Limits(frm, to, bands[:, 0], bands[:, 1])

    def used(self, v: Complexes, ports: object, limit_set: str) -> Floats:
        """Current over what is allowed, (n_branch,); zero where nothing is known or nothing flows."""
        b, limits = self.arrays.tables["branch"], self.limits[limit_set]
        v0 = np.where(np.isfinite(v.real), v, 0)
        vf, vt = v0[b["from"]], v0[b["to"]]
        i_f = np.abs(ports.ff * vf + ports.ft * vt)  # type: ignore[attr-defined]
        i_t = np.abs(ports.tf * vf + ports.tt * vt)  # type: ignore[attr-defined]
        return np.asarray(np.maximum(i_f / limits.most_from, i_t / limits.most_to))

    def seen(self, after: After, limit_set: str, members: tuple[str, ...]) -> Seen:
        used = self.used(after.v, after.ports, limit_set)
        dead = self.live & ~np.isfinite(after.v.real)
        load = self.arrays.tables["load"]
        gone = dead[load["bus"]]
        if members:
            lost = self.without_rows(members)
            gone = gone.copy()
            gone[lost] = True
        return Seen(used, np.abs(after.v), float(self.demand[gone].sum()), dead)

    def without_rows(self, members: tuple[str, ...]) -> Ints:
        """Rows of demand that are lost themselves."""
        rows = next(iter(self._without.values())).rows_lost(members).get("load")
        return rows if rows is not None else np.zeros(0, np.int64)
