"""Feeders: a straight trunk on the deepest path, laterals packed above and below it.

Everything here is in whole columns and rows; the trunk of a block runs along its row 0.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field


@dataclass
class Tree:
    """A spanning tree. ``children``: per node; ``downward``: nodes reached through a transformer or a
    switch that is drawn as a drop; they stand below their parent and not beside it. ``reach``: columns
    from the middle of a station's bar to the first one clear of its end. ``ahead``: further columns before a node, for
    what hangs from it."""

    children: dict[int, list[int]]
    downward: set[int]
    reach: Callable[[int], int]
    ahead: Callable[[int], int] = lambda node: 0

    def order(self, root: int) -> list[int]:
        """Nodes from the root outwards."""
        found = [root]
        for node in found:
            found.extend(self.children.get(node, ()))
        return found


@dataclass
class Block:
    """Places of a subtree relative to its first node, and per row the first and last column in use."""

    place: dict[int, tuple[int, int]] = field(default_factory=dict)
    rows: dict[int, tuple[int, int]] = field(default_factory=dict)
    bars: set[int] = field(default_factory=set)

    def take(self, other: Block, column: int, row: int) -> None:
        """Put another block into this one, its first node at (column, row)."""
        for node, (c, r) in other.place.items():
            self.place[node] = (c + column, r + row)
        for r, (first, last) in other.rows.items():
            self._occupy(r + row, first + column, last + column)
        self.bars |= other.bars

    def put(self, node: int, column: int, row: int) -> None:
        self.place[node] = (column, row)
        self._occupy(row, column, column)

    def _occupy(self, row: int, first: int, last: int) -> None:
        old = self.rows.get(row, (first, last))
        self.rows[row] = (min(old[0], first), max(old[1], last))

    def room_for(self, other: Block, column: int, row: int) -> bool:
        """Whether the other block, put there, would keep clear of what is in use."""
        for r, (first, last) in other.rows.items():
            mine = self.rows.get(r + row)
            if mine and first + column <= mine[1] and last + column >= mine[0]:
                return False
        return True


_SMALL = 2  # columns


def lay_out(tree: Tree, root: int) -> Block:
    """Lay out the subtree of a root; a root with several branches becomes a bar with feeders below it."""
    order = tree.order(root)
    depth: dict[int, int] = {}
    for node in reversed(order):
        below = tree.children.get(node, [])
        depth[node] = 1 + max((depth[c] for c in below), default=0)
    blocks: dict[int, Block] = {}
    for node in reversed(order):
        is_station = node == root or node in tree.downward
        blocks[node] = _station(tree, node, blocks, depth) if is_station else _section(tree, node, blocks, depth)
        for child in tree.children.get(node, ()):
            del blocks[child]
    return blocks[root]


def _station(tree: Tree, node: int, blocks: dict[int, Block], depth: dict[int, int]) -> Block:
    """A bar with its feeders below, one under the other, the deepest lowest."""
    block = Block(bars={node})
    block.put(node, 0, 0)
    feeders = sorted((c for c in tree.children.get(node, ()) if c not in tree.downward), key=lambda c: depth[c])
    drops = [c for c in tree.children.get(node, ()) if c in tree.downward]
    lowest = 0
    for child in feeders:
        top = min(blocks[child].rows)
        row = lowest + 1 - top
        block.take(blocks[child], tree.reach(node) + tree.ahead(child), row)
        lowest = max(block.rows)
    column = 0 if not feeders else 1 + max(last for _, last in block.rows.values())
    for child in drops:  # transformers beside the feeders
        left = min(first for first, _ in blocks[child].rows.values())
        block.take(blocks[child], column - left, 2 - min(blocks[child].rows))
        column = 1 + max(last for _, last in block.rows.values())
    return block


def _section(tree: Tree, node: int, blocks: dict[int, Block], depth: dict[int, int]) -> Block:
    """A node of a feeder: the deepest branch goes on along the row, the others turn off it.

    Blocks are put in from the far end towards the supply, so a lateral that reaches far passes
    outside those beyond it and no two cross.
    """
    beside = [c for c in tree.children.get(node, ()) if c not in tree.downward]
    below = [c for c in tree.children.get(node, ()) if c in tree.downward]
    block = Block()
    if beside:
        trunk = max(beside, key=lambda c: depth[c])
        beside.remove(trunk)
        # A small station below takes its columns for itself, so that neighbouring stations do not interleave.
        reach = max((last for c in below for _, last in blocks[c].rows.values()), default=0)
        block.take(blocks[trunk], 1 + (reach if reach <= _SMALL else 0) + tree.ahead(trunk), 0)
    block.put(node, 0, 0)
    sides: dict[int, int] = defaultdict(int)
    for child in below:
        _fit(block, blocks[child], 0, (1,))
    for child in sorted(beside, key=lambda c: depth[c]):
        side = -1 if sides[-1] <= sides[1] else 1
        sides[side] += 1
        _fit(block, blocks[child], 1 + tree.ahead(child), (side, -side))
    return block


def _fit(block: Block, lateral: Block, column: int, sides: tuple[int, ...]) -> None:
    """Put a lateral on the nearest free row on a wanted side."""
    first, last = min(lateral.rows), max(lateral.rows)
    for distance in range(1, 10_000):
        for side in sides:
            row = distance - first if side > 0 else -distance - last
            if block.room_for(lateral, column, row):
                block.take(lateral, column, row)
                return
