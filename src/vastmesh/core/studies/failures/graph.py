"""A network as protection and switching see it: sections that nothing can part, and the doors between them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np
from numba import njit
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from ...electrical.arrays import Bools, Ints
from ...network import Bus, Element, Network, Role, Source, Switch, Transformer

AUTOMATIC, REMOTE, MANUAL = 0, 1, 2
_WAYS = {"automatic": AUTOMATIC, "remote": REMOTE, "manual": MANUAL}
_CLEARS = ("breaker", "recloser", "fuse")


@dataclass(frozen=True)
class Rules:
    """What stands where nothing is entered. ``breakers_from_kv``: breakers at both ends of every branch from this nominal
    voltage up; ``fails_pct``, ``fuse_fails_pct``: share of the times that what clears faults, or has to close, does not;
    that a fuse does not."""

    breakers_from_kv: float = 20.0
    fails_pct: float = 0.0
    fuse_fails_pct: float = 0.0


@dataclass
class Door:
    """Where two sections can be parted. ``element``: whose it is; ``name``: as told; ``terminal``: of a branch, blank of a
    switch.
    ``node``, ``bus``: what it lies between; ``way``: how it is operated."""

    element: str
    name: str
    gear: str
    node: str
    bus: str
    closed: bool = True
    clears: bool = False
    recloses: bool = False
    way: int = MANUAL
    fails: float = 0.0
    tells: bool = False


@dataclass
class Graph:
    """``section``: of every bus, branch and source, by id; ``members``: of every section; ``a``, ``b``: sections that each door
    joins, (n_door,); ``fed``: sections with a source. ``zone``, ``remote``: which sections only what clears faults, or only what
    needs nobody on site, can part from others, (n_section,)."""

    section: dict[str, int]
    members: list[list[str]]
    doors: list[Door]
    a: Ints
    b: Ints
    fed: Ints
    closed: Bools
    zone: Ints
    remote: Ints
    at: list[list[int]] = field(default_factory=list)
    _cuts: dict[str, Cuts] = field(default_factory=dict)

    @property
    def n(self) -> int:
        return len(self.members)

    def other(self, door: int, section: int) -> int:
        return int(self.b[door] if self.a[door] == section else self.a[door])

    def cuts(self, by: str) -> Cuts:
        """What falls away with each zone, each remote section or each section."""
        if by not in self._cuts:
            label = {"zone": self.zone, "remote": self.remote, "section": np.arange(self.n)}[by]
            self._cuts[by] = Cuts(label, self.a[self.closed], self.b[self.closed], self.fed)
        return self._cuts[by]


class Cuts:
    """Which sections lose supply when some are taken away. ``label``: group of every section; groups go whole."""

    def __init__(self, label: Ints, a: Ints, b: Ints, fed: Ints) -> None:
        self.label = np.asarray(label)
        self.n = int(self.label.max(initial=-1)) + 1
        la, lb = self.label[a], self.label[b]
        kept = la != lb
        root = np.unique(self.label[fed])
        frm = np.concatenate([la[kept], np.full(len(root), self.n)])
        to = np.concatenate([lb[kept], root])
        self.start, self.next = _adjacency(self.n + 1, frm, to)
        self.parent, order = _separators(self.n + 1, self.start, self.next, self.n)
        # Groups in the order of a walk through the tree of separators: what hangs on a group stands behind it in one piece.
        self.first, self.last, self.walk = _intervals(self.n + 1, self.parent, order, self.n)
        by_group = np.argsort(self.label, kind="stable")
        count = np.bincount(self.label, minlength=self.n)
        self._from = np.concatenate([[0], np.cumsum(count)])
        self._sections = by_group
        self.supplied: Bools = (self.parent >= 0)[self.label]

    def sections(self, groups: Ints) -> Ints:
        """Sections of groups, in ascending order."""
        if len(groups) == 1:
            return np.asarray(self._sections[self._from[groups[0]] : self._from[groups[0] + 1]])
        parts = [self._sections[self._from[g] : self._from[g + 1]] for g in groups.tolist()]
        return np.sort(np.concatenate(parts)) if parts else np.zeros(0, np.int64)

    def lost(self, sections: Iterable[int]) -> Ints:
        """Sections without supply, those named included, when their groups are taken away."""
        groups = sorted({int(self.label[s]) for s in sections})
        if len(groups) == 1:
            g = groups[0]
            if self.parent[g] < 0:
                return self.sections(np.array([g]))
            return self.sections(self.walk[self.first[g] : self.last[g]])
        banned = np.zeros(self.n + 1, np.bool_)
        banned[groups] = True
        reached = _reach(self.n + 1, self.start, self.next, self.n, banned)
        gone = ~reached[: self.n] & (self.parent[: self.n] >= 0)
        gone[groups] = True
        return self.sections(np.flatnonzero(gone))


def graph_of(network: Network, rules: Rules) -> Graph:
    """Sections and doors of a network as it is switched; what is out of service is left out."""
    live = [e for e in network.elements() if e.in_service]
    # Workers join their answers by the number of a section: it follows from the network's order alone, never from that of a set.
    buses = dict.fromkeys(e.id for e in live if isinstance(e, Bus))
    nodes, joints, doors = list(buses), [], []
    for e in live:
        if isinstance(e, Bus):
            continue
        ends = e.buses()
        if any(b not in buses for b in ends):
            continue
        if isinstance(e, Switch):
            doors.append(_switch(e, rules))
        elif isinstance(e, Source) or e.role is Role.BRANCH:
            nodes.append(e.id)
            for terminal, bus in zip(type(e).terminals(), ends, strict=True):
                door = _gear(network, e, terminal, bus, rules)
                if door is None:
                    joints.append((e.id, bus))
                else:
                    doors.append(door)
    number = {ident: k for k, ident in enumerate(nodes)}
    label = _joined(len(nodes), [(number[a], number[b]) for a, b in joints])
    members: list[list[str]] = [[] for _ in range(int(label.max(initial=-1)) + 1)]
    for ident, k in zip(nodes, label.tolist(), strict=True):
        members[k].append(ident)
    section = {ident: int(k) for ident, k in zip(nodes, label.tolist(), strict=True)}
    a = np.array([section[d.node] for d in doors], np.int64)
    b = np.array([section[d.bus] for d in doors], np.int64)
    closed = np.array([d.closed for d in doors], np.bool_)
    clears = np.array([d.clears for d in doors], np.bool_)
    by_hand = np.array([d.way == MANUAL for d in doors], np.bool_)
    fed = np.array(sorted({section[e.id] for e in live if isinstance(e, Source) and e.id in section}), np.int64)

    def groups(kept: Bools) -> Ints:
        return _joined(len(members), np.column_stack([a[kept], b[kept]]).tolist())

    found = Graph(section, members, doors, a, b, fed, closed, groups(closed & ~clears), groups(closed & by_hand))
    found.at = [[] for _ in members]
    for k, (i, j) in enumerate(zip(a.tolist(), b.tolist(), strict=True)):
        found.at[i].append(k)
        if j != i:
            found.at[j].append(k)
    return found


def _switch(e: Switch, rules: Rules) -> Door:
    clears = e.device == "fuse" or (e.device == "breaker" and e.clears)
    way = e.operated or ("remote" if e.device == "breaker" else "manual")
    usual = rules.fuse_fails_pct if e.device == "fuse" else rules.fails_pct
    fails = usual if e.fails_pct is None else e.fails_pct
    return Door(e.id, e.name, e.device, e.from_bus, e.to_bus, e.closed, clears, e.recloses and e.device == "breaker",
                MANUAL if e.device == "fuse" else _WAYS[way], fails / 100, e.indicator or way != "manual")  # fmt: skip


def _gear(network: Network, e: Element, terminal: str, bus: str, rules: Rules) -> Door | None:
    end = terminal.removesuffix("_bus")
    there = network[bus]
    assert isinstance(there, Bus)
    kv = there.nominal_kv or 0.0
    given = getattr(e, f"{end}_gear", None)
    if given is None:
        if kv >= rules.breakers_from_kv or (there.substation and kv >= 1):
            given = "breaker"
        elif isinstance(e, Transformer) and end == "hv":
            given = "fuse"
        elif isinstance(e, Source):
            given = "breaker"
    if given is None or given == "none":
        return None
    clears = given in _CLEARS
    way = MANUAL if given in ("fuse", "disconnector") else REMOTE
    name = f"{given if given != 'remote' else 'remote switch'} of {e.name} at {there.name}"
    fails = rules.fuse_fails_pct if given == "fuse" else rules.fails_pct if clears else 0.0
    return Door(e.id, name, given, e.id, bus, True, clears, given == "recloser", way, fails / 100, way == REMOTE)


def _joined(n: int, pairs: list[tuple[int, int]] | list[list[int]]) -> Ints:
    """Number of the component of each of n things that pairs join."""
    if not n:
        return np.zeros(0, np.int64)
    at = np.array(pairs, np.int64).reshape(-1, 2)
    _, label = connected_components(coo_array((np.ones(len(at)), (at[:, 0], at[:, 1])), shape=(n, n)), directed=False)
    return np.asarray(label, np.int64)


def _adjacency(n: int, a: Ints, b: Ints) -> tuple[Ints, Ints]:
    frm, to = np.concatenate([a, b]), np.concatenate([b, a])
    order = np.argsort(frm, kind="stable")
    start = np.concatenate([[0], np.cumsum(np.bincount(frm, minlength=n))]).astype(np.int64)
    return start, np.asarray(to[order], np.int64)


@njit(cache=True)
def _separators(n: int, start: Ints, nxt: Ints, root: int) -> tuple[Ints, Ints]:
    """The nearest node that parts each node from the root, -1 where none reaches it (the root parts itself); and the nodes in the
    order in which a depth-first walk first meets them.

    Blocks of a graph by the lowest node that each subtree reaches (Hopcroft and Tarjan 1973): all nodes of a block but its
    highest are parted from the root by that one.
    """
    seen = np.full(n, -1, np.int64)
    low = np.zeros(n, np.int64)
    parent = np.full(n, -1, np.int64)
    up = np.full(n, -1, np.int64)
    at = start[:-1].copy()
    order = np.empty(n, np.int64)
    path = np.empty(n, np.int64)
    block = np.empty(n, np.int64)
    count, depth, held = 0, 0, 0
    path[0] = root
    seen[root] = 0
    order[0] = root
    count = 1
    parent[root] = root
    while depth >= 0:
        v = path[depth]
        if at[v] < start[v + 1]:
            w = nxt[at[v]]
            at[v] += 1
            if seen[w] < 0:
                seen[w] = count
                low[w] = count
                order[count] = w
                count += 1
                up[w] = v
                depth += 1
                path[depth] = w
                block[held] = w
                held += 1
            elif seen[w] < low[v]:
                low[v] = seen[w]
        else:
            depth -= 1
            if depth >= 0:
                u = path[depth]
                if low[v] >= seen[u]:
                    while True:
                        held -= 1
                        w = block[held]
                        parent[w] = u
                        if w == v:
                            break
                elif low[v] < low[u]:
                    low[u] = low[v]
    return parent, order[:count]


@njit(cache=True)
def _intervals(n: int, parent: Ints, order: Ints, root: int) -> tuple[Ints, Ints, Ints]:
    """Places of every node's subtree in a walk through a tree: first, behind the last, and the nodes in that order."""
    size = np.zeros(n, np.int64)
    for k in range(len(order) - 1, -1, -1):
        v = order[k]
        size[v] += 1
        if v != root:
            size[parent[v]] += size[v]
    first = np.zeros(n, np.int64)
    free = np.zeros(n, np.int64)
    walk = np.empty(len(order), np.int64)
    first[root] = 0
    free[root] = 1
    walk[0] = root
    # A node is met after the one that parts it from the root, as every way to it leads through that.
    for k in range(1, len(order)):
        v = order[k]
        p = parent[v]
        first[v] = free[p]
        free[p] += size[v]
        free[v] = first[v] + 1
        walk[first[v]] = v
    return first, first + size, walk


@njit(cache=True)
def _reach(n: int, start: Ints, nxt: Ints, root: int, banned: Bools) -> Bools:
    reached = np.zeros(n, np.bool_)
    queue = np.empty(n, np.int64)
    queue[0] = root
    reached[root] = True
    head, tail = 0, 1
    while head < tail:
        v = queue[head]
        head += 1
        for k in range(start[v], start[v + 1]):
            w = nxt[k]
            if not reached[w] and not banned[w]:
                reached[w] = True
                queue[tail] = w
                tail += 1
    return reached
