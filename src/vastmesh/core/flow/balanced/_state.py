"""What a balanced load flow is solved with: voltages, targets, nodal values, and how an attempt went."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from ...electrical import SparseLU, TwoPorts
from ...electrical.arrays import Bools, Floats, Ints
from .._ending import Ending
from ._kernel import largest_power


@dataclass
class State:
    """Voltages of the live nodes, in the order of the nodal matrix: angle in rad, magnitude per unit, (n,).

    ``at_limit``: 1 or -1 where machines stand at their upper or lower reactive limit, where that is known.
    """

    theta: Floats
    v: Floats
    at_limit: Ints | None = None

    def copy(self) -> State:
        return State(self.theta.copy(), self.v.copy(), self.at_limit)


@dataclass
class Targets:
    """What every live node shall inject, from loads and machines; arrays of shape (n,), per unit.

    Net injection at voltage V: p0 + p1 V + p2 V², likewise q; ``constant_p``, ``constant_q``: what of p0, q0 is
    demand of constant power. ``q_low``, ``q_high``: net injection at
    the reactive limits of the machines that hold the voltage there. ``clash``: nodes where
    machines or sources want different voltages or angles.
    """

    p0: Floats
    q0: Floats
    p1: Floats
    q1: Floats
    p2: Floats
    q2: Floats
    constant_p: Floats
    constant_q: Floats
    node_type: Ints
    voltage: Floats
    angle: Floats
    q_low: Floats
    q_high: Floats
    clash: Bools = field(default_factory=lambda: np.zeros(0, np.bool_))

    def with_own(self) -> Targets:
        """The same with polynomials of its own, to be altered."""
        return replace(self, **{f: getattr(self, f).copy() for f in ("p0", "q0", "p1", "q1", "p2", "q2")})

    def scaled(self, share: float) -> Targets:
        """A share of all demand and generation; limits and set-points stay."""
        fields = ("p0", "q0", "p1", "q1", "p2", "q2", "constant_p", "constant_q")
        return replace(self, **{f: getattr(self, f) * share for f in fields})

    @property
    def scale(self) -> float:
        """The largest power that any node shall inject, per unit."""
        return float(largest_power(self.p0, self.q0, self.p1, self.q1, self.p2, self.q2))


@dataclass
class Attempt:
    """One run of a method from one start; ``targets`` as they were met (demand at low voltage may have been eased).

    ``worst_node``, ``allowed``: where the mismatch is largest compared with what is allowed there, and that, per unit;
    ``rounded``: the mismatch could fall no further for rounding. ``doubtful``: it may be a lower one of two answers.
    """

    rung: str
    ending: Ending
    iterations: int
    history: list[float]
    state: State
    mismatch: Floats  # (2n,): active and reactive, interleaved
    at_limit: Ints  # (n,): 1 at the upper reactive limit, -1 at the lower, 0 free
    p: Floats
    q: Floats
    targets: Targets
    worst_node: int = 0
    allowed: float = 0.0
    rounded: bool = False
    doubtful: bool = False


@dataclass
class Nodal:
    """Everything that follows from impedances, ratios and shifts as they are now.

    ``two_ports``: ff, ft, tf, tt of all branches, (4, n_branch). ``g``, ``b``: parts of the nodal admittance on its
    pattern, (nnz,); ``by_rows``: the same in the order of rows. ``lead``, ``lift``: angle and ratio at no load of the node of
    the row before that of the column, (nnz,).
    """

    two_ports: np.ndarray
    g: Floats
    b: Floats
    by_rows: tuple[Floats, Floats]
    lead: Floats
    lift: Floats
    # Own susceptance of every node, (n,), and what is usual: how stiffly voltages are held, p.u.
    stiffness: Floats
    usual_stiffness: float
    # The most that rounding leaves of a mismatch at any node of a voltage up to twice its nominal one, p.u.
    rounding: float
    # Kept while impedances stay: of the flat start, by reference nodes and their angles, angle and size of voltage; of the
    # linear start, by reference nodes, the factors.
    flat: tuple[Ints, Floats, Floats, Floats] | None = None
    linear: tuple[Ints, SparseLU | None] | None = None

    @property
    def ports(self) -> TwoPorts:
        return TwoPorts(*self.two_ports)
