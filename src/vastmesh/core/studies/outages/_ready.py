"""What all outages share: the solved network, what each branch and bus is allowed, and where it stands before."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...electrical import compile_network
from ...electrical.arrays import Bools, Complexes, Floats, Ints
from ...flow import Ending
from ...flow.balanced import After, Reading, Without
from ...network import Network
from ...results.state import live_options
from ..base import Inputs
from ..judge import SETS, Judge
from ..losses import Loss, losses
from ._options import OutagesOptions


@dataclass
class Seen:
    """What stands after one outage: current over what is allowed of branches and behind them of rated switches, (n_branch +
    n_rated,); voltage, NaN where dead, (n_bus,)."""

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
        self.losses: list[Loss] = losses(inputs.network, self.condition, options.asked())
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
        self.judge = Judge(self.network, self.arrays)
        self.amps, self.limits = self.judge.amps, self.judge.limits
        self.ids = self.judge.ids
        for without in self._without.values():
            without.asked = self.judge.switches
        self.base_switched: Floats = base.through_switches(self.judge.switches)
        self.demand: Floats = base.load_power.real
        self.live: Bools = np.isfinite(base.v.real)
        self.bus_in_view: Bools = self.judge.in_view
        before = After(Ending.CONVERGED, base.v, first.solution.ports, 0, switched=self.base_switched)
        self.base = self.seen(before, "normal", ())
        self.base_by_set = {s: self.judge.used(base.v, before.ports, before.switched, s) for s in SETS}

    def without(self, stage: str) -> Without:
        """Ready to lose elements, judged at a stage."""
        if stage not in self._without:
            options = live_options(self.inputs.network.settings)
            made = Without(self._arrays, self.condition, options, controls=stage == "after_control")
            if (judge := getattr(self, "judge", None)) is not None:
                made.asked = judge.switches
            self._without[stage] = made
        return self._without[stage]

    def seen(self, after: After, limit_set: str, members: tuple[str, ...]) -> Seen:
        used = self.judge.used(after.v, after.ports, after.switched, limit_set)
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
