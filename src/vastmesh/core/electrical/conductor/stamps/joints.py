"""What joins conductors without or with little impedance: switches and electrodes."""

from __future__ import annotations

from collections.abc import Sequence
from math import isclose

import numpy as np

from ....network import Electrode, Switch
from ...stamps.switch import carries_a
from .._arrays import NEUTRAL, Gap
from .._builder import NUMBER, Builder
from . import stamp


@stamp(Switch)
def switch(switches: Sequence[Switch], b: Builder) -> None:
    """Closed: each conductor it has is one node on both sides. Open: nothing."""
    for i, e in enumerate(switches):
        amps = carries_a(e, b.at.get(e.id, ())) or np.inf
        b.rating[b.offset + i] = (amps, amps)
        kv = [b.bus_kv[b.bus_row[bus]] for bus in e.buses()]
        if not e.closed or not isclose(kv[0], kv[1], rel_tol=1e-3):
            continue
        if "N" not in e.conductors and all(b.has(bus, "N") for bus in e.buses()):
            b.gaps.append(Gap(e.id, "conductors", "has no neutral pole between two buses that have one: it is broken there",
                              breach=False))  # fmt: skip
        for c in b.present(e.id, e.conductors, e.from_bus, e.to_bus):
            b.joined.append((b.key(e.from_bus, c), b.key(e.to_bus, c)))
            b.switched.append((b.offset + i, NUMBER[c], b.key(e.from_bus, c), b.key(e.to_bus, c)))


@stamp(Electrode)
def electrode(electrodes: Sequence[Electrode], b: Builder) -> None:
    """From the neutral to earth."""
    for i, e in enumerate(electrodes):
        if not b.has(e.bus, "N"):
            b.gaps.append(Gap(e.id, "bus", "earths a neutral, but its bus has none"))
            continue
        z = b.ohm(complex(e.resistance_ohm or 0.0, e.reactance_ohm))
        b.linear(np.array([i]), (0,), (NEUTRAL,), np.array([[b.key(e.bus, "N")]]), np.array([[[1 / z]]]))
