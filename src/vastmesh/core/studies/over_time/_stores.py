"""Storage over time: what is asked of it by its profile, cut to the energy that is there."""

from __future__ import annotations

import numpy as np

from ...electrical import NetArrays
from ...electrical.arrays import Floats, Ints
from ...network import Generator, Inverter, Network

_HOURS = 4.0  # of its rating, where a storage says nothing


class Stores:
    """All storage of a network: rows among injections, energy now and at most, p.u. hours, and the share that one way keeps.

    What is taken in, times that share, comes in; what is given takes what it is over that share. Both ways lose alike.
    """

    def __init__(self, network: Network, arrays: NetArrays) -> None:
        machine = arrays.tables["injection"]
        found: list[tuple[int, float, float, float]] = []
        self.ids: list[str] = []
        for k, e in enumerate(machine["element"].tolist()):
            item = network.items.get(arrays.element_id[e])
            if isinstance(item, Generator | Inverter) and item.energy == "storage":
                size = item.energy_mwh if item.energy_mwh is not None else _HOURS * (item.rated_mva or 0.0)
                first = size * item.energy_now_pct / 100
                found.append((k, size / arrays.base_mva, first / arrays.base_mva, (item.round_trip_pct / 100) ** 0.5))
                self.ids.append(item.id)
        columns: Floats = np.array(found, np.float64).reshape(-1, 4)
        self.rows: Ints = columns[:, 0].astype(np.int64)
        self.size: Floats = columns[:, 1]
        self.energy: Floats = columns[:, 2].copy()
        self.keeps: Floats = columns[:, 3]
        self.base_mva = arrays.base_mva
        n = len(self.rows)
        self.low: Floats = self.energy.copy()
        self.high: Floats = self.energy.copy()
        self.given: Floats = np.zeros(n)
        self.taken: Floats = np.zeros(n)
        self.cut: Floats = np.zeros(n)

    def __len__(self) -> int:
        return len(self.rows)

    def apply(self, powers: Floats, hours: float) -> None:
        """Cut the powers of machines, (steps, machines) in place, step by step: none gives what is not there or takes in what has
        no room; its energy after them."""
        for p in powers if len(self.rows) else ():
            wanted = p[self.rows]
            most, least = self.energy * self.keeps / hours, -(self.size - self.energy) / self.keeps / hours
            real = np.clip(wanted, least, most)
            self.cut += (np.abs(wanted - real) > 1e-12) * hours
            p[self.rows] = real
            self.energy = self.energy - np.where(real > 0, real / self.keeps, real * self.keeps) * hours
            self.given += np.maximum(real, 0) * hours
            self.taken += np.maximum(-real, 0) * hours
            self.low, self.high = np.minimum(self.low, self.energy), np.maximum(self.high, self.energy)
