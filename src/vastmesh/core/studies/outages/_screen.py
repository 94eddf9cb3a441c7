"""What linear factors say of an outage before it is solved: which comes first, and by choice what is left out."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.linalg import splu

from ...electrical.arrays import Floats
from ..losses import Loss
from ._ready import Ready

_MOST_FACTORS = 4_000_000  # outages times branches, up to which factors are worked out only to put outages in order
_UNTOLD, _CUTS_OFF = 2.0, 0.95  # how urgent is what factors don't speak of, and what is cut off: of what is allowed
_NEAR = 0.02  # p.u.: a voltage this near a limit before the outage rules out leaving it out


class Screen:
    """Distribution factors of the loss of single branches, from series reactances and flows of active power.

    An outage is harmless where every branch stays below its limit less the margin, where nothing is cut off, and where reactive
    power and voltages before it leave room. Everything else is solved. Source: Wood, Wollenberg, "Power Generation, Operation
    and Control", chapter 7.
    """

    def __init__(self, ready: Ready) -> None:
        self.ready = ready
        without = next(iter(ready._without.values()))
        p, arrays = without.problem, ready.arrays
        b = arrays.tables["branch"]
        live = p.pattern.live_branch
        self._f, self._t, self._live = p.branch_from, p.branch_to, live
        x = b["x"][live] * b["ratio_from"][live] * b["ratio_to"][live]
        r = b["r"][live]
        size = np.where(np.abs(x) > 0.2 * np.abs(r), x, 5 * np.hypot(r, x))
        self._b = 1 / np.where(np.abs(size) > 1e-9, size, 1e-9)
        n = p.n
        refs = without.solution.targets.node_type == 2
        rows, cols = np.r_[self._f, self._t, self._f, self._t], np.r_[self._f, self._t, self._t, self._f]
        values = np.r_[self._b, self._b, -self._b, -self._b]
        keep = ~(refs[rows] | refs[cols])
        held = np.flatnonzero(refs)
        matrix = coo_array(
            (np.r_[values[keep], np.ones(len(held))], (np.r_[rows[keep], held], np.r_[cols[keep], held])), shape=(n, n)
        ).tocsc()
        self._lu, self._refs, self._n = splu(matrix), refs, n
        v = np.where(np.isfinite(ready.base_v), ready.base_v, 0)
        ports = without.solution.ports
        into = v[b["from"]] * np.conj(ports.ff * v[b["from"]] + ports.ft * v[b["to"]])
        self._p, self._q = into.real[live], into.imag[live]
        self._place = {int(row): k for k, row in enumerate(live.tolist())}
        self._of: dict[str, list[int]] = {}
        for row, ident in enumerate(ready.ids):
            if row in self._place:
                self._of.setdefault(ident, []).append(self._place[row])
        volts = np.abs(ready.base_v)
        low, high = (getattr(ready.limits["normal"], side) for side in ("low", "high"))
        view = ready.bus_in_view & np.isfinite(volts)
        # What switches carry is not told by linear factors: where some have ratings nothing is passed over.
        self._roomy = not len(ready.judge.switches) and bool(
            np.all(volts[view] > low[view] + _NEAR) and np.all(volts[view] < high[view] - _NEAR)
        )
        self._bridges = without.bridges

    def harmless(self, loss: Loss) -> bool:
        """Whether everything stays well within its limits after a loss, by linear factors; False says nothing."""
        if len(loss.members) != 1 or not self._roomy or loss.stage != "just_after":
            return False
        places = self._of.get(loss.members[0], [])
        if len(places) != 1 or self._bridges.behind(places[0]) is not None:
            return False
        worst = self._worst_after(places[0], loss.limit_set)
        return worst is not None and worst <= 1 - self.ready.options.margin_pct / 100

    def urgency(self, loss: Loss) -> float:
        """How bad it is likely to be: the highest loading after it as a share of what is allowed, by linear factors; of very many
        outages, how loaded is what is lost."""
        places = self._of.get(loss.members[0], []) if len(loss.members) == 1 else []
        if len(places) != 1:
            return _UNTOLD
        if self._bridges.behind(places[0]) is not None:
            return _CUTS_OFF
        if len(self.ready.losses) * len(self._live) > _MOST_FACTORS:
            return float(self.ready.base_by_set[loss.limit_set][self._live[places[0]]])
        worst = self._worst_after(places[0], loss.limit_set)
        return _UNTOLD if worst is None else worst

    def _worst_after(self, k: int, limit_set: str) -> float | None:
        """The highest loading after the loss of a live branch, as a share of what is allowed; None where it can't be told."""
        moved = self._moved(k)
        if moved is None:
            return None
        share = self.ready.base_by_set[limit_set][self._live]
        carried = np.hypot(self._p, self._q)
        after = np.hypot(self._p + moved, np.abs(self._q) + np.abs(moved / max(abs(self._p[k]), 1e-9) * self._q[k]))
        after[k] = 0.0
        with np.errstate(divide="ignore", invalid="ignore"):
            used = np.where(share > 0, after * share / carried, 0.0)
        return float(np.max(np.nan_to_num(used, nan=0.0, posinf=np.inf), initial=0.0))

    def _sent(self, k: int) -> Floats:
        """What every live branch takes of 1 p.u. sent between the ends of one, before it is lost."""
        rhs = np.zeros(self._n)
        rhs[self._f[k]] += 1
        rhs[self._t[k]] -= 1
        rhs[self._refs] = 0
        theta = self._lu.solve(rhs)
        return np.asarray(self._b * (theta[self._f] - theta[self._t]))

    def _moved(self, k: int) -> Floats | None:
        """Change of the active power of every live branch by the loss of one; None where it can't be told."""
        flow = self._sent(k)
        own = 1 - flow[k]
        if own < 1e-6:
            return None
        found = flow / own * self._p[k]
        found[k] = -self._p[k]
        return np.asarray(found)

    def shares(self, ident: str, lost: str) -> tuple[float, float, float, float, int] | None:
        """Of 1 p.u. sent between the ends of a lost branch what another and what itself takes, both their active powers before,
        p.u., and the row of the other; None where that can't be told."""
        mine, other = self._of.get(lost, []), self._of.get(ident, [])
        if len(mine) != 1 or not other:
            return None
        k, m = mine[0], other[0]
        flow = self._sent(k)
        if 1 - flow[k] < 1e-6:
            return None
        return float(flow[m]), float(flow[k]), float(self._p[m]), float(self._p[k]), int(self._live[m])
