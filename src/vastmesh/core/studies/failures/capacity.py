"""Whether the network can carry what is transferred: a load flow of the state that switching leads to."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from ...electrical.arrays import Bools
from ...network import Condition, Network
from ..variants import Stand, Variants
from .graph import Graph

_NEAR = 1e-4  # share of a limit, or p.u. of voltage, within which the exact load flow decides
_ROOM = 1e-3  # what is overloaded already may carry this much more


class Capacity:
    """``count``: load flows solved so far."""

    def __init__(self, network: Network, condition: Condition, graph: Graph, limit_set: str) -> None:
        self.graph = graph
        own = condition.model_copy(update={"limit_set": limit_set})
        self._variants = Variants(network, own)
        arrays = self._variants.arrays
        self._base: Stand | None = self._variants.state()
        ids, branch, switch = arrays.element_id, arrays.tables["branch"], arrays.tables["switch"]
        # Buses that only the compiler knows (the star point of three windings) go with the branches at them.
        place = np.array([graph.section.get(b, -1) for b in arrays.bus_id], np.int64)
        self._branch = np.column_stack([
            np.array([graph.section.get(ids[e], -1) for e in branch["element"].tolist()], np.int64),
            place[branch["from"]], place[branch["to"]],
        ])  # fmt: skip
        self._switch = np.column_stack([place[switch["from"]], place[switch["to"]]])
        self._closed: Bools = switch["closed"].astype(np.bool_)
        self._row = {ids[e]: k for k, e in enumerate(switch["element"].tolist())}
        self._place = place

    @property
    def known(self) -> bool:
        """Whether the network has a load flow to begin with."""
        return self._base is not None

    @property
    def count(self) -> int:
        return self._variants.count

    def keeps(self, dead: Collection[int], ties: Collection[int]) -> bool:
        """Whether limits are kept where they were kept before, and not exceeded further where they were not, with sections
        ``dead`` and the doors ``ties`` closed."""
        base = self._base
        if base is None:
            return False
        gone = np.zeros(self.graph.n + 1, np.bool_)  # the last stands for what is in no section
        gone[list(dead)] = True
        out = np.flatnonzero(gone[self._branch].any(axis=1))
        closed = self._closed & ~gone[self._switch].any(axis=1)
        for t in ties:
            closed[self._row[self.graph.doors[t].element]] = True
        quick = self._variants.switched(closed, out)
        if quick is not None and (sure := self._verdict(base, quick, gone)) is not None:
            return sure
        found = self._variants.state(closed, out)
        return found is not None and bool(self._verdict(base, found, gone, near=0.0))

    def _verdict(self, base: Stand, found: Stand, gone: Bools, near: float = _NEAR) -> bool | None:
        """Whether a state keeps what has to be kept; None where something is so ``near`` its limit that the difference between a
        switch and a branch of hardly any reactance could count."""
        wanted = ~gone[self._place] & base.live
        if bool(np.any(wanted & ~found.live)):
            return False
        size, before = np.abs(found.v), np.abs(base.v)
        now = found.live & wanted
        low, high = np.minimum(self._variants.low, before - 1e-4), np.maximum(self._variants.high, before + 1e-4)
        # By how much the worst limit is passed; negative where all are kept.
        worst = max(
            float(np.max(found.used / np.maximum(1.0, base.used * (1 + _ROOM)) - 1, initial=-1.0)),
            float(np.max((low - size)[now], initial=-1.0)), float(np.max((size - high)[now], initial=-1.0)),
        )  # fmt: skip
        return None if abs(worst) < near else worst <= 0
