from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property

from ..electrical.fault import fault_current_ka
from ..network import Bus, Change, Element, Network, Switch, Trace
from ..severity import Severity


@dataclass(frozen=True)
class Repair:
    """One way to mend it, offered by name; the changes are applied only when somebody chooses it."""

    label: str
    changes: list[Change]


@dataclass(frozen=True)
class Check:
    """Something about the model that needs a look: which element and field, what, how bad."""

    rule: str
    element: str
    severity: Severity
    text: str
    field: str | None = None
    repair: Repair | None = None


@dataclass
class Subject:
    """The network under check, with what several rules need computed once."""

    network: Network

    @cached_property
    def trace(self) -> Trace:
        return Trace(self.network)

    @cached_property
    def fault_ka(self) -> dict[str, float]:
        """Three-phase fault current at every bus of a switch with a breaking capacity."""
        at = [b for s in self.network.of(Switch) if s.breaking_ka for b in s.buses()]
        return fault_current_ka(self.network, at) if at else {}

    @cached_property
    def at_bus(self) -> dict[str, list[Element]]:
        """Equipment by the bus it is connected to; asking the network for each bus in turn would take far longer."""
        found: dict[str, list[Element]] = {b.id: [] for b in self.network.of(Bus)}
        for e in self.network.elements():
            for bus in dict.fromkeys(e.buses()):
                found[bus].append(e)
        return found

    def kv(self, bus: str) -> float | None:
        item = self.network.items.get(bus)
        return item.nominal_kv if isinstance(item, Bus) else None


Rule = Callable[[Subject], Iterator[Check]]
