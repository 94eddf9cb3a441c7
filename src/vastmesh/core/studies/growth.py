"""A network in a later year: demand as its growth says, and schemes that are in service by then."""

from __future__ import annotations

from ..network import Bus, Demand, Growth, Network, Scheme, Update
from ..network.elements._demand import POWER


def factor_of(network: Network, item: Demand, year: int, share: float = 1.0) -> float:
    """How much of what is entered a load demands in a year: every growth that names its class or area counts, ``share`` times."""
    bus = network.items.get(item.bus)
    area = bus.area if isinstance(bus, Bus) else None
    found = 1.0
    for g in network.of(Growth):
        if g.demand_class in (None, item.demand_class) and g.area in (None, area):
            found *= g.factor(year)
    return float(found**share)


_SCALED = tuple(f for f in POWER if f != "power_factor")
_PHASES = tuple(f"{p}_{k}_{u}" for p, u in (("p", "mw"), ("q", "mvar")) for k in "abc")


def grown(network: Network, year: int, share: float = 1.0) -> Network:
    """A copy with the demand of a year; ``share``: how much of the growth there is, 1 as entered."""
    changes = []
    for e in network.elements():
        if isinstance(e, Demand) and (k := factor_of(network, e, year, share)) != 1.0:
            fields = [f for f in (*_SCALED, *_PHASES) if getattr(e, f) is not None]
            changes.append(Update(id=e.id, values={f: getattr(e, f) * k for f in fields}))
    found = network.copy()
    found.apply(changes)
    return found


def in_service(schemes: list[Scheme], year: int) -> list[str]:
    """Ids of schemes that are there in a year, in order; one without a year is there from the first."""
    return [s.id for s in schemes if s.year is None or s.year <= year]
