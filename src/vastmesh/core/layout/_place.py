"""Placing buses: stations and meshed parts first, then what hangs from them as trees."""

from __future__ import annotations

from collections import deque
from collections.abc import Collection, Sequence
from math import ceil

import numpy as np
from scipy.sparse import coo_array

from ..network import Bus, Change, Network, Role, Switch, ThreeWinding, Transformer, Update
from ._mesh import mesh_positions
from ._tree import Block, Tree, lay_out

COLUMN, ROW = 90.0, 100.0  # sheet units between neighbouring nodes of a feeder, and between its rows
_EDGE = 300.0  # sheet units for one edge of a meshed part
_CLEAR, _NEAR = 70.0, 40.0
_NARROW, _NARROW_WAYS = 76.0, 5
# What hangs below a node, as the sheet draws it: sheet units from one to the next, and beside a branch that goes straight down.
_PITCH, _ASIDE = 22.0, 20.0


def place(network: Network, *, anew: bool = False, loose: Collection[str] = ()) -> list[Change]:
    """Changes that give every bus without a position one (all of them, when ``anew``; the ``loose`` ones as well).

    Placed buses stay where they are; what hangs from them is laid out from there.
    """
    return _Placing(network, anew, frozenset(loose)).run()


def copies_beside(
    network: Network,
    spots: Sequence[tuple[float, float]],
    times: int,
    start: tuple[float, float] = (0.0, 0.0),
    *,
    down: bool = False,
) -> list[tuple[float, float]]:
    """Shifts for copies of a group of buses, clear of every bus there is: side by side, or one below the other.

    ``spots``: positions of the group; ``start``: a first shift (from one supply point to another, say).
    """
    if not spots:
        return [(0.0, 0.0)] * times
    axis = 1 if down else 0
    extent = max(s[axis] for s in spots) - min(s[axis] for s in spots)
    step = ROW if down else COLUMN
    taken = {(round((b.x or 0) / COLUMN), round((b.y or 0) / ROW)) for b in network.of(Bus) if b.x is not None}
    shifts: list[tuple[float, float]] = []
    dx, dy = start
    for _ in range(times):
        for _ in range(400):
            cells = {(round((x + dx) / COLUMN), round((y + dy) / ROW)) for x, y in spots}
            if not cells & taken:
                break
            dx, dy = (dx, dy + step) if down else (dx + step, dy)
        taken |= cells
        shifts.append((dx, dy))
        by = ceil((extent + step) / 10) * 10
        dx, dy = (dx, dy + by) if down else (dx + by, dy)
    return shifts


class _Placing:
    def __init__(self, network: Network, anew: bool, loose: frozenset[str]) -> None:
        self.network = network
        self.buses = network.of(Bus)
        self.row = {b.id: i for i, b in enumerate(self.buses)}
        self.kept = {} if anew else {
            i: (b.x, b.y) for i, b in enumerate(self.buses)
            if b.x is not None and b.y is not None and b.id not in loose
        }  # fmt: skip
        self.edges: list[tuple[int, int, bool]] = []
        for e in network.elements():
            ends = e.buses()
            if len(ends) >= 2 and not (isinstance(e, Switch) and not e.closed):
                down = isinstance(e, Transformer | ThreeWinding)
                self.edges += [(self.row[ends[0]], self.row[end], down) for end in ends[1:]]
        self.hanging = [0] * len(self.buses)
        for e in network.elements():
            if len(ends := e.buses()) == 1 and e.role is not Role.GENERATION:
                self.hanging[self.row[ends[0]]] += 1
        self.neighbours: list[list[tuple[int, bool]]] = [[] for _ in self.buses]
        for a, b, drop in self.edges:
            self.neighbours[a].append((b, drop))
            self.neighbours[b].append((a, drop))
        self.position: dict[int, tuple[float, float]] = dict(self.kept)
        self.bars: set[int] = set()
        self.hung: set[int] = set()

    def run(self) -> list[Change]:
        if len(self.kept) == len(self.buses):
            return []
        roots = self._roots()
        children, downward = self._trees(roots)
        stations = downward | set(roots)
        self.hung = {c for p, found in children.items() if p not in stations for c in found if c in downward}
        blocks = {r: lay_out(Tree(children, downward, self._clear_of_bar, self._ahead), r) for r in roots}
        if not self.kept:
            self._place_roots(roots, blocks)
        else:
            self._place_new_roots([r for r in roots if r not in self.kept], blocks)
        for root in roots:
            self._spread(root, blocks[root])
        return self._changes()

    def _roots(self) -> list[int]:
        """Buses that trees hang from: those with a place, or the meshed part, or one a component."""
        seen = set(self.kept) or self._two_core()
        roots = list(seen)
        fed = {self.row[b] for e in self.network.elements() if e.kind == "source" for b in e.buses()}
        # A component without any gets its source bus, else the one with the highest voltage and most branches.
        order = sorted(
            range(len(self.buses)),
            key=lambda i: (i not in fed, -(self.buses[i].nominal_kv or 0), -len(self.neighbours[i])),
        )
        reached = self._reach(seen)
        for i in order:
            if i not in reached:
                roots.append(i)
                reached |= self._reach({i})
        return roots

    def _reach(self, start: set[int]) -> set[int]:
        found, queue = set(start), deque(start)
        while queue:
            for other, _ in self.neighbours[queue.popleft()]:
                if other not in found:
                    found.add(other)
                    queue.append(other)
        return found

    def _two_core(self) -> set[int]:
        """What is left after cutting off dead ends again and again: the meshed part."""
        links = [{b for b, _ in near} for near in self.neighbours]
        queue = deque(i for i, near in enumerate(links) if len(near) <= 1)
        gone: set[int] = set()
        while queue:
            i = queue.popleft()
            if i in gone:
                continue
            gone.add(i)
            for other in links[i]:
                links[other].discard(i)
                if len(links[other]) <= 1 and other not in gone:
                    queue.append(other)
        return set(range(len(self.buses))) - gone

    def _trees(self, roots: list[int]) -> tuple[dict[int, list[int]], set[int]]:
        """A spanning tree below every root, breadth first so that paths are short."""
        children: dict[int, list[int]] = {}
        downward: set[int] = set()
        seen, queue = set(roots), deque(roots)
        while queue:
            i = queue.popleft()
            for other, drop in self.neighbours[i]:
                if other not in seen:
                    seen.add(other)
                    children.setdefault(i, []).append(other)
                    queue.append(other)
                    if drop:
                        downward.add(other)
        return children, downward

    def _place_roots(self, roots: list[int], blocks: dict[int, Block]) -> None:
        number = {r: k for k, r in enumerate(roots)}
        pairs = [(number[a], number[b]) for a, b, _ in self.edges if a in number and b in number]
        n = len(roots)
        frm = np.array([p[0] for p in pairs], np.int64)
        to = np.array([p[1] for p in pairs], np.int64)
        graph = coo_array((np.ones(2 * len(pairs)), (np.r_[frm, to], np.r_[to, frm])), shape=(n, n)).tocsr()
        found = mesh_positions(graph) * [_EDGE, _EDGE * 0.6]
        found = np.round(found / 20) * 20
        # Rows of roots, each moved down clear of the blocks of those above and right clear of those before.
        sizes = [_extent(blocks[r]) for r in roots]
        order = sorted(range(n), key=lambda k: (round(found[k, 1] / _EDGE), found[k, 0]))
        line, floor, lowest, right = None, 0.0, 0.0, -np.inf
        for k in order:
            this = round(found[k, 1] / _EDGE)
            left_, right_, up, down = sizes[k]
            if this != line:
                line, floor, right = this, max(lowest + ROW, found[k, 1]), -np.inf
            x = max(float(found[k, 0]), right + left_ + COLUMN)
            y = max(floor, float(found[k, 1])) + up
            right, lowest = x + right_, max(lowest, y + down)
            self.position[roots[k]] = (round(x / 10) * 10, round(y / 10) * 10)
        self.bars |= {r for r in roots if blocks[r].bars or len(self.neighbours[r]) > 1}

    def _place_new_roots(self, fresh: list[int], blocks: dict[int, Block]) -> None:
        """Unconnected newcomers go below everything that has a place."""
        x = min(p[0] for p in self.kept.values())
        y = max(p[1] for p in self.kept.values()) + 2 * ROW
        for r in fresh:
            _, _, up, down = _extent(blocks[r])
            self.position[r] = (x, y + up)
            y += up + down + 2 * ROW

    def _spread(self, root: int, block: Block) -> None:
        x0, y0 = self.position[root]
        found = {n: (x0 + c * COLUMN, y0 + r * ROW) for n, (c, r) in block.place.items() if n != root}
        if root in self.kept:
            down = self._clear_shift(found)
            found = {n: (x, y + down) for n, (x, y) in found.items()}
        self.position.update(found)
        self.bars |= block.bars

    def _clear_shift(self, found: dict[int, tuple[float, float]]) -> float:
        """By how much newcomers move down (or up) so that none stands where a bus stands already."""
        taken = [p for i, p in self.position.items() if i not in found]
        for k in range(200):
            down = ROW * ((k + 1) // 2) * (1 if k % 2 else -1)
            if not any(abs(x - u) < _NEAR and abs(y + down - v) < _NEAR for x, y in found.values() for u, v in taken):
                return down
        return 0.0

    def _clear_of_bar(self, i: int) -> int:
        """Columns from the middle of a station's bar to the first clear of it, so that drops stand under the bar."""
        return ceil((self._bar(i) / 2 + COLUMN / 2) / COLUMN)

    def _ahead(self, i: int) -> int:
        """Further columns before a node of a feeder: what hangs from it stands in a row to its left."""
        low = self.hanging[i]
        aside = _ASIDE if len(self.neighbours[i]) > 2 else 0.0
        return max(0, ceil((_PITCH * (low - 1) + aside + _PITCH - COLUMN) / COLUMN)) if low else 0

    def _bar(self, i: int) -> float:
        """Length of a station's bar: as drawn, or with room for its branches."""
        if i in self.kept:
            return self.buses[i].bar or 36.0
        ways = len(self.neighbours[i])
        # Stations below neighbouring nodes of a feeder stand side by side: their bars keep to one column.
        most = _NARROW if i in self.hung and ways <= _NARROW_WAYS else 300.0
        return min(60.0 + 40.0 * max(ways - 1, 1), most)

    def _changes(self) -> list[Change]:
        changes: list[Change] = []
        for i, bus in enumerate(self.buses):
            if i in self.kept:
                continue
            x, y = self.position[i]
            station = i in self.bars
            bar = self._bar(i) if station else 36.0
            changes.append(Update(id=bus.id, values={"x": x, "y": y, "bar": bar, "upright": not station}))
        return changes


def _extent(block: Block) -> tuple[float, float, float, float]:
    """How far a block reaches left, right, up and down of its first node, in sheet units."""
    left = -min(first for first, _ in block.rows.values()) * COLUMN
    right = max(last for _, last in block.rows.values()) * COLUMN
    return left, right, -min(block.rows) * ROW, max(block.rows) * ROW


def free_spot(
    network: Network,
    x: float,
    y: float,
    ways: list[tuple[float, float]],
    further: Sequence[tuple[float, float, float]] = (),
) -> tuple[float, float]:
    """The first of some places around (x, y), then further along the last way, that keeps clear of all buses.

    ``further``: places about to be taken as well: x, y and half the length of a lying bar.
    """
    taken = [(b.x, b.y, (b.bar or 36.0) / 2 * (not b.upright)) for b in network.of(Bus)
             if b.x is not None and b.y is not None]  # fmt: skip
    taken += list(further)

    def clear(px: float, py: float) -> bool:
        return all(abs(px - bx) > _CLEAR - 20 + half or abs(py - by) > _CLEAR for bx, by, half in taken)

    for dx, dy in ways:
        if clear(x + dx, y + dy):
            return x + dx, y + dy
    dx, dy = ways[-1]
    for k in range(2, 200):
        if clear(x + dx, y + dy * k):
            return x + dx, y + dy * k
    return x + dx, y + dy
