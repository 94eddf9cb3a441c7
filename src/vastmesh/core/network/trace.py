"""Supply trace: what feeds an element, what is fed through it, and which feeder it belongs to.

Works on items, as they are switched: closed switches and everything in service joins its buses.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from .elements.bus import Bus
from .elements.line import Line
from .elements.source import Source
from .elements.switch import Switch
from .elements.transformer import Transformer
from .items import Element
from .network import Network

_LOW_VOLTAGE_KV = 1.0


@dataclass(frozen=True)
class Feeder:
    """All that one supply point feeds through one way out: named by the first element on it."""

    id: str
    name: str
    supply: str
    buses: tuple[str, ...]


@dataclass(frozen=True)
class Station:
    """Buses at one site, joined by equipment without length or by a substation; ``feeders``: ids of those that leave it.

    ``id``: its bus of the highest voltage.
    """

    id: str
    name: str
    buses: tuple[str, ...]
    feeders: tuple[str, ...]


@dataclass(frozen=True)
class Reach:
    """What lies behind an element, seen from its source."""

    elements: list[str]
    buses: list[str]
    demand_mw: float
    customers: int


@dataclass(frozen=True)
class After:
    """What a switch would do if it were thrown: buses that lose or gain supply, and the path by which they are fed."""

    loses: list[str]
    gains: list[str]
    path: list[str]
    customers: int
    demand_mw: float


@dataclass
class _Walk:
    parent: dict[str, tuple[str, str] | None] = field(default_factory=dict)
    order: list[str] = field(default_factory=list)


class Trace:
    """The supply of a network as it is switched; ``thrown`` names switches taken in the other position."""

    def __init__(self, network: Network, *, thrown: Iterable[str] = ()) -> None:
        self.network = network
        other = set(thrown)
        self._near: dict[str, list[tuple[str, str]]] = {}
        for item in network.items.values():
            if isinstance(item, Bus) and item.in_service:
                self._near.setdefault(item.id, [])
        for e in network.elements():
            ends = e.buses()
            open_ = isinstance(e, Switch) and e.closed == (e.id in other)
            if len(ends) < 2 or not e.in_service or open_:
                continue
            hub = ends[0]
            for end in ends[1:]:
                if hub in self._near and end in self._near:
                    self._near[hub].append((end, e.id))
                    self._near[end].append((hub, e.id))
        self.sources = [s.id for s in network.of(Source) if s.in_service and s.bus in self._near]
        self._walk = self._from(dict.fromkeys(_bus(network, s) for s in self.sources))

    def _from(self, roots: Iterable[str], without: str | None = None) -> _Walk:
        """Everything reached from some buses, breadth first, without one bus or element."""
        walk, queue = _Walk(), deque[str]()
        for r in roots:
            walk.parent[r] = None
            queue.append(r)
        while queue:
            here = queue.popleft()
            walk.order.append(here)
            for there, element in self._near[here]:
                if there not in walk.parent and without not in (there, element):
                    walk.parent[there] = (here, element)
                    queue.append(there)
        return walk

    def live(self, bus: str) -> bool:
        return bus in self._walk.parent

    @property
    def order(self) -> list[str]:
        """Live buses, the sources' first, each after the one it is reached from."""
        return self._walk.order

    def parent(self, bus: str) -> tuple[str, str] | None:
        """The bus before a live bus on the way from its source, and the element between; None at a source."""
        return self._walk.parent[bus]

    def dead(self) -> list[str]:
        """Buses in service without a supply, in order."""
        return [b for b in self._near if b not in self._walk.parent]

    def path(self, ident: str) -> list[str]:
        """Elements from an element back to the source that feeds it by the fewest branches, itself first."""
        item = self.network[ident]
        found = [ident]
        start = self._near_end(item) if isinstance(item, Element) else None
        if start is None:
            return found
        here = start
        if here != ident:
            found.append(here)
        while step := self._walk.parent.get(here):
            here, by = step
            found += [by, here] if by != ident else [here]
        supply = next((s for s in self.sources if _bus(self.network, s) == here), None)
        if supply and supply != ident:
            found.append(supply)
        return list(dict.fromkeys(found))

    def _near_end(self, item: Element) -> str | None:
        """The end of an element that is nearer to its source; None when it has no supply."""
        ends = [item.id] if isinstance(item, Bus) else [b for b in item.buses() if self.live(b)]
        ends = [b for b in ends if self.live(b)]
        return min(ends, key=lambda b: self._depth[b]) if ends else None

    @cached_property
    def _depth(self) -> dict[str, int]:
        depth: dict[str, int] = {}
        for b in self._walk.order:
            up = self._walk.parent[b]
            depth[b] = 0 if up is None else depth[up[0]] + 1
        return depth

    def fed(self, ident: str) -> Reach:
        """What would be without supply if the element were not there: elements, buses, demand, customers."""
        item = self.network[ident]
        if isinstance(item, Bus):
            kept = self._from([r for r in self._roots() if r != ident], without=ident)
            lost = [b for b in self._walk.order if b not in kept.parent]
        elif isinstance(item, Element) and len(item.buses()) > 1:
            kept = self._from(self._roots(), without=ident)
            lost = [b for b in self._walk.order if b not in kept.parent]
        elif isinstance(item, Source) and ident in self.sources:
            kept = self._from([r for r in self._roots() if r != item.bus])
            lost = [b for b in self._walk.order if b not in kept.parent]
        else:
            lost = []
        return self._reach(lost, ident)

    def _roots(self) -> list[str]:
        return list(dict.fromkeys(_bus(self.network, s) for s in self.sources))

    def _reach(self, buses: list[str], start: str) -> Reach:
        lost = set(buses)
        elements = [
            e for e in self.network.elements() if e.id != start and e.buses() and all(b in lost for b in e.buses())
        ]
        demand = [e for e in elements if e.in_service and hasattr(e, "power_mva")]
        return Reach(
            [e.id for e in elements], buses, sum(e.power_mva().real for e in demand),
            sum(getattr(e, "customers", 0) for e in elements if hasattr(e, "customers")),
        )  # fmt: skip

    def if_thrown(self, switch: str) -> After:
        """What would change if a switch were opened or closed."""
        other = Trace(self.network, thrown=[switch])
        loses = [b for b in self._near if self.live(b) and not other.live(b)]
        gains = [b for b in self._near if other.live(b) and not self.live(b)]
        item = self.network[switch]
        far = [b for b in item.buses() if other.live(b)] if isinstance(item, Switch) else []
        path = other.path(max(far, key=lambda b: other._depth[b])) if far else []
        reach = self._reach(loses or gains, switch)
        return After(loses, gains, path, reach.customers, reach.demand_mw)

    @cached_property
    def feeders(self) -> list[Feeder]:
        """Feeders in order: from every supply point above low voltage, each way out that alone feeds what is behind it.

        A supply point is a bus with a source, or the lower side of a transformer above 1 kV. What belongs to
        several ways out (a closed ring) is one feeder, named by the first of them.
        """
        points = self._supply_points()
        owner: dict[str, str] = {}
        found: dict[str, list[str]] = {}
        at: dict[str, str] = {}
        for bus in self._walk.order:
            up = self._walk.parent[bus]
            if up is None:
                continue
            here, by = up
            if here in points and by not in self._transformers:
                owner[bus] = by
                at.setdefault(by, here)
            elif bus in points and by in self._transformers:
                continue  # a supply point of its own: nothing upstream owns it
            elif here in owner:
                owner[bus] = owner[here]
            else:
                continue
            if bus not in points:
                found.setdefault(owner[bus], []).append(bus)
        merged = self._rings(owner, points)
        for first, second in merged:
            a, b = _root(merged, first), second
            if a != b and b in found and a in found:
                found[a] += found.pop(b)
        items = self.network.items
        self._starts = {i: at[i] for i in found}
        return [Feeder(i, self._feeder_name(i), items[at[i]].name, tuple(b)) for i, b in found.items()]

    @cached_property
    def stations(self) -> list[Station]:
        """Stations in order. What supplies further supply points is grid and not a feeder here: its buses are in stations."""
        points = self._supply_points()
        above = {t.hv_bus for t in self.network.of(Transformer) if t.lv_bus in points}
        feeders = [f for f in self.feeders if above.isdisjoint(f.buses)]
        taken = {b for f in feeders for b in f.buses}
        rest = {b.id: n for n, b in enumerate(b for b in self.network.of(Bus) if b.id not in taken)}
        pairs, site = list[tuple[int, int]](), dict[str, int]()
        for e in self.network.elements():
            if isinstance(e, Bus):
                if e.id in rest and e.substation:
                    pairs.append((site.setdefault(e.substation, rest[e.id]), rest[e.id]))
            elif not isinstance(e, Line):
                here = [rest[b] for b in e.buses() if b in rest]
                pairs += [(here[0], other) for other in here[1:]]
        a = np.array(pairs, np.int64).reshape(-1, 2)
        graph = coo_array((np.ones(len(a), np.int8), (a[:, 0], a[:, 1])), shape=(len(rest), len(rest)))
        label = connected_components(graph, directed=False)[1].tolist() if rest else []
        members: dict[int, list[Bus]] = {}
        for ident, n in rest.items():
            bus = self.network[ident]
            assert isinstance(bus, Bus)
            members.setdefault(label[n], []).append(bus)
        leaving: dict[int, list[str]] = {}
        for feeder in feeders:
            if (n := rest.get(self._starts[feeder.id], -1)) >= 0:
                leaving.setdefault(label[n], []).append(feeder.id)
        found = []
        for key, buses in members.items():
            hub = max(buses, key=lambda b: b.nominal_kv or 0.0)
            of = next((b.substation for b in buses if b.substation), None)
            name = self.network[of].name if of else hub.name
            found.append(Station(hub.id, name, tuple(b.id for b in buses), tuple(leaving.get(key, ()))))
        return found

    def _feeder_name(self, element: str) -> str:
        return self.network[element].name

    def _supply_points(self) -> set[str]:
        points = set(self._roots())
        for t in self.network.of(Transformer):
            low = self.network.items.get(t.lv_bus)
            if (
                t.in_service
                and isinstance(low, Bus)
                and (low.nominal_kv or 0) > _LOW_VOLTAGE_KV
                and self.live(t.lv_bus)
            ):
                points.add(t.lv_bus)
        return points

    @cached_property
    def _transformers(self) -> set[str]:
        return {e.id for e in self.network.elements() if "hv_bus" in type(e).terminals()}

    def _rings(self, owner: dict[str, str], points: set[str]) -> list[tuple[str, str]]:
        """Pairs of ways out that are joined further on."""
        pairs = []
        for bus, near in self._near.items():
            for other, by in near:
                a, b = owner.get(bus), owner.get(other)
                if a and b and a != b and bus not in points and other not in points and by not in self._transformers:
                    pairs.append((min(a, b), max(a, b)))
        return sorted(set(pairs))

    def feeder_of(self) -> dict[str, str]:
        """Feeder id of every bus that belongs to one."""
        return {b: f.id for f in self.feeders for b in f.buses}

    def loops(self) -> list[str]:
        """Elements that close a loop: a spanning tree of the live part does without them, switches first."""
        tree = {up[1] for up in self._walk.parent.values() if up}
        found = []
        for e in self.network.elements():
            joins = len(e.buses()) == 2 and e.in_service and not (isinstance(e, Switch) and not e.closed)
            if joins and e.id not in tree and all(self.live(b) for b in e.buses()):
                found.append(e.id)
        return found


def _root(pairs: list[tuple[str, str]], ident: str) -> str:
    for a, b in pairs:
        if b == ident and a != ident:
            return _root(pairs, a)
    return ident


def _bus(network: Network, source: str) -> str:
    item = network[source]
    assert isinstance(item, Source)
    return item.bus


@dataclass(frozen=True)
class ProfileNode:
    """A bus on a profile: how it is reached, and how far it is from the start, km. ``level``: branches from the start."""

    bus: str
    parent: str | None
    element: str | None
    distance_km: float
    level: int


def profile(trace: Trace, start: str, within: Iterable[str] | None = None) -> list[ProfileNode]:
    """Everything fed through a bus as a tree with distances, the start first; lines have length, the rest none.

    ``within``: keep to these buses and the start (one feeder, say). A dead start gives an empty profile; in meshed
    parts every bus is reached by the fewest branches from its source. Raises :class:`UnknownElement`.
    """
    network = trace.network
    network[start]
    if not trace.live(start):
        return []
    allowed = set(within) if within is not None else None
    found: dict[str, ProfileNode] = {start: ProfileNode(start, None, None, 0.0, 0)}
    for bus in trace.order:
        up = trace.parent(bus)
        if up is None or up[0] not in found or bus == start or (allowed is not None and bus not in allowed):
            continue
        before = found[up[0]]
        length = getattr(network[up[1]], "length_km", None) or 0.0
        found[bus] = ProfileNode(bus, up[0], up[1], before.distance_km + length, before.level + 1)
    return list(found.values())
