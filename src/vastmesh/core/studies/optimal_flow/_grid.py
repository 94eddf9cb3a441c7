"""The arrays of an optimal flow: a live network with what may move in it, what must hold, what it costs, and what was found."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from ...electrical.arrays import Complexes, Floats, Ints
from ..rows import Rows

_NONE_I = np.zeros(0, np.int64)
_NONE_F = np.zeros(0)


@dataclass(frozen=True)
class Moving:
    """What may move beside machines. Turns: branches (positions in ``Grid.frm``) whose ratio at an end (0 from, 1 to) and whose
    further shift may move; as ports and admittances stand they are at 1 and 0. Banks: nodes and admittance of a step; what is on
    now is not in the admittances. Sheds: nodes and demand (6, n_shed), as ``Grid.load``, of loads that may be shed in part."""

    turn_branch: Ints = field(default_factory=lambda: _NONE_I)
    turn_side: Ints = field(default_factory=lambda: _NONE_I)
    bank_at: Ints = field(default_factory=lambda: _NONE_I)
    bank_y: Complexes = field(default_factory=lambda: np.zeros(0, complex))
    shed_at: Ints = field(default_factory=lambda: _NONE_I)
    shed_load: Floats = field(default_factory=lambda: np.zeros((6, 0)))


@dataclass(frozen=True)
class Grid:
    """A live network: nodes with the admittance matrix in coordinates (``row``, ``col``, ``y``; branches whose turns may move are
    left out), branches with two-ports (4, n_branch) between nodes ``frm`` and ``to``, machines at nodes ``at``; demand ``load``
    (6, n): p0, q0, p1, q1, p2, q2 of p0 + p1 V + p2 V². Per unit."""

    n: int
    row: Ints
    col: Ints
    y: Complexes
    frm: Ints
    to: Ints
    ports: Complexes
    at: Ints
    load: Floats
    moving: Moving = field(default_factory=Moving)


@dataclass(frozen=True)
class Layout:
    """Places of the unknowns of a state: angles and voltages of nodes, powers of machines, turns and shifts of branches, steps of
    banks, shares shed of loads, and further ones."""

    n: int
    m: int
    turns: int = 0
    banks: int = 0
    sheds: int = 0
    further: int = 0

    @property
    def cuts(self) -> Ints:
        sizes = [self.n, self.n, self.m, self.m, self.turns, self.turns, self.banks, self.sheds, self.further]
        return np.cumsum([0, *sizes])

    def place(self, name: str) -> slice:
        k = NAMES.index(name)
        cuts = self.cuts
        return slice(int(cuts[k]), int(cuts[k + 1]))

    @property
    def size(self) -> int:
        return int(self.cuts[-1])


NAMES = ("theta", "v", "p", "q", "turn", "shift", "bank", "shed", "further")


@dataclass(frozen=True)
class Interfaces:
    """Active power through named sets of branches, taken into them at their from ends: set, branch and sign of each member;
    bounds of each set, per unit."""

    which: Ints = field(default_factory=lambda: _NONE_I)
    branch: Ints = field(default_factory=lambda: _NONE_I)
    sign: Floats = field(default_factory=lambda: _NONE_F)
    low: Floats = field(default_factory=lambda: _NONE_F)
    high: Floats = field(default_factory=lambda: _NONE_F)


@dataclass(frozen=True)
class Limits:
    """Bounds per unit: voltages of nodes, powers of machines, low and high; ``angle``: fixed angles, NaN where free, rad; of
    branch ends the most current, or power where ``power``, inf where none; ``rated``: most apparent power of machines, inf where
    unknown; ``turn``, ``shift``, ``bank``, ``shed``, ``further``: (2, ...) low and high; ``rows``: further linear ones."""

    v_low: Floats
    v_high: Floats
    p_low: Floats
    p_high: Floats
    q_low: Floats
    q_high: Floats
    angle: Floats
    most_from: Floats
    most_to: Floats
    rated: Floats
    power: bool
    turn: Floats = field(default_factory=lambda: np.zeros((2, 0)))
    shift: Floats = field(default_factory=lambda: np.zeros((2, 0)))
    bank: Floats = field(default_factory=lambda: np.zeros((2, 0)))
    shed: Floats = field(default_factory=lambda: np.zeros((2, 0)))
    further: Floats = field(default_factory=lambda: np.zeros((2, 0)))
    rows: Rows = field(default_factory=Rows)
    interfaces: Interfaces = field(default_factory=Interfaces)


@dataclass(frozen=True)
class Cost:
    """Of a state: ``linear`` x + ``square`` x² over all its unknowns, ``losses`` times the losses, ``fixed``; all times its
    ``weight`` (hours)."""

    linear: Floats
    square: Floats
    losses: float = 0.0
    fixed: float = 0.0
    weight: float = 1.0


@dataclass(frozen=True)
class Soft:
    """Price of exceeding by one per unit: a limit of voltage, of a branch end; inf: it must hold. ``all``: every limit may be
    exceeded, and only the sum of what is exceeded counts, each at its ``price`` (1 where None) and up to ``most`` (any where
    None), in the order of ``Optimum.slack``, of one state."""

    v: float = np.inf
    ends: float = np.inf
    all: bool = False
    # What the equations are not made of.
    price: Floats | None = field(default=None, repr=False, compare=False)
    most: Floats | None = field(default=None, repr=False, compare=False)


@dataclass(frozen=True)
class State:
    """One state of the network in a problem of one or several."""

    grid: Grid
    limits: Limits
    cost: Cost
    start: Floats

    @property
    def layout(self) -> Layout:
        g, mv = self.grid, self.grid.moving
        return Layout(
            g.n, len(g.at), len(mv.turn_branch), len(mv.bank_at), len(mv.shed_at), self.limits.further.shape[1]
        )


@dataclass(frozen=True)
class Optimum:
    """What was found in a state. Multipliers: of the balance of active and reactive power at nodes (what one more per unit of
    demand costs), of everything else positive at its upper bound and negative at its lower. ``ending``: the solver's word;
    ``over``: what is exceeded: name of a bound, place in it, and by how much, per unit. ``value``: of all states together."""

    ending: str
    iterations: int
    value: float
    theta: Floats
    v: Floats
    p: Floats
    q: Floats
    price_p: Floats
    price_q: Floats
    at_v: Floats
    at_p: Floats
    at_q: Floats
    at_from: Floats
    at_to: Floats
    over: tuple[tuple[str, int, float], ...] = ()
    turn: Floats = field(default_factory=lambda: _NONE_F)
    shift: Floats = field(default_factory=lambda: _NONE_F)
    bank: Floats = field(default_factory=lambda: _NONE_F)
    shed: Floats = field(default_factory=lambda: _NONE_F)
    further: Floats = field(default_factory=lambda: _NONE_F)
    at_moving: Floats = field(default_factory=lambda: _NONE_F)  # of turns, shifts, banks, sheds, in this order
    at_rows: Floats = field(default_factory=lambda: _NONE_F)
    at_interfaces: Floats = field(default_factory=lambda: _NONE_F)
    at_coupling: Floats = field(default_factory=lambda: _NONE_F)
    slack: Floats = field(default_factory=lambda: _NONE_F)  # what every limit that may be exceeded is exceeded by
    at_slack: Floats = field(default_factory=lambda: _NONE_F)  # what one less of each would save, at most its price
    trace: tuple[tuple[float, float], ...] = ()  # objective and largest violation by iteration

    @property
    def unknowns(self) -> Floats:
        """All unknowns, in the order of the layout."""
        return np.concatenate(
            [self.theta, self.v, self.p, self.q, self.turn, self.shift, self.bank, self.shed, self.further]
        )

    @property
    def found(self) -> bool:
        return self.ending in ("Solve_Succeeded", "Solved_To_Acceptable_Level")


def settled(grid: Grid, found: Optimum) -> Grid:
    """The network as the optimum leaves it: turns, banks and demand where they are, nothing left that moves."""
    mv = grid.moving
    ports, row, col, y, load = grid.ports.copy(), [grid.row], [grid.col], [grid.y], grid.load
    if len(mv.turn_branch):
        k = mv.turn_branch
        moved = turned(ports[:, k], mv.turn_side, found.turn, found.shift)
        ports[:, k] = moved
        f, t = grid.frm[k], grid.to[k]
        row += [f, f, t, t]
        col += [f, t, f, t]
        y += list(moved)
    if len(mv.bank_at):
        row.append(mv.bank_at)
        col.append(mv.bank_at)
        y.append(mv.bank_y * found.bank)
    if len(mv.shed_at):
        load = load.copy()
        for part in range(6):
            np.add.at(load[part], mv.shed_at, mv.shed_load[part] * (1 - found.shed))
    return replace(grid, row=np.concatenate(row), col=np.concatenate(col), y=np.concatenate(y), ports=ports, load=load,
                   moving=Moving())  # fmt: skip


def turned(ports: Complexes, side: Ints, turn: Floats, shift: Floats) -> Complexes:
    """Two-ports (4, n) whose turns at an end are ``turn`` times what they were, and whose angle is shifted further, rad."""
    a = np.where(side == 0, turn, 1.0) * np.exp(1j * shift)
    b = np.where(side == 1, turn, 1.0)
    return np.array([ports[0] / np.abs(a) ** 2, ports[1] / (np.conj(a) * b), ports[2] / (a * b), ports[3] / b**2])
