"""A network in a later year: demand as its growth says, and what is in service by then."""

from __future__ import annotations

from .changes import Update
from .elements._demand import POWER, Demand
from .elements.bus import Bus
from .elements.reliability import Growth
from .network import Network


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


def values_in(network: Network, year: int, share: float = 1.0) -> dict[str, dict[str, float]]:
    """Power figures of every load that grows, in a year, by id and field."""
    found = {}
    for e in network.elements():
        if isinstance(e, Demand) and (k := factor_of(network, e, year, share)) != 1.0:
            fields = [f for f in (*_SCALED, *_PHASES) if getattr(e, f) is not None]
            found[e.id] = {f: float(getattr(e, f)) * k for f in fields}
    return found


def states_in(network: Network, year: int) -> dict[str, bool]:
    """Whether what comes or goes by then is in service in a year, by id; only what is otherwise now."""
    return {e.id: s for e in network.elements() if (s := e.stands_in(year)) != e.in_service}


def grown(network: Network, year: int, share: float = 1.0) -> Network:
    """A copy with the demand of a year, with what is connected by then and without what has reached the end of its life;
    ``share``: how much of the growth there is, 1 as entered."""
    found = network.copy()
    values: dict[str, dict[str, float | bool]] = {i: dict(v) for i, v in values_in(network, year, share).items()}
    for ident, state in states_in(network, year).items():
        values.setdefault(ident, {})["in_service"] = state
    found.apply([Update(id=i, values=dict(v)) for i, v in values.items()])
    return found
