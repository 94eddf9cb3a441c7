"""The loop of a load flow, compiled: look at the voltages, judge them, step; as few calls from outside as can be.

What a method does between two looks is its own; Newton's method does it here.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...electrical.blocks import BACKWARD, Layout, eliminate, left_over, solve_one
from ._kernel import (
    ease_low_voltage,
    flow_at_nodes,
    largest_excess,
    mismatch,
    mismatch_and_jacobian,
    surely_met,
    switch_types,
    take_step,
)

_Any = NDArray[Any]

# Verdicts: met; another step; given up; the factors can't be trusted.
MET, GO_ON, GIVEN_UP, UNSOUND = 0, 1, 2, 3

HOPELESS = 1e8  # mismatch, in shares of what is injected at most, from which Newton does not come back
_LIMIT_CHECK = 0.2  # mismatch, likewise, below which reactive limits are looked at
_NEAR = 1e-4  # mismatch, likewise, below which it is worth asking whether it is met
_MOST_RETURNS = 3  # times a machine may come back from a limit before they are switched one by one
_FALLS = 3  # looks without a new smallest mismatch up to which it may fall yet
_STUCK = 1e3  # times what rounding leaves, up to which a mismatch that no longer falls is taken as met

# Places in the book of a run.
WORST, BEST, SINCE_BEST, LOOKS, SWITCHES, ONE_BY_ONE, FLOWS_KNOWN, NODE, ALLOWED, ROUNDED, BEFORE = range(11)


def new_book() -> NDArray[np.float64]:
    """Where a run stands before its first look."""
    book = np.zeros(11)
    book[WORST] = book[BEST] = book[BEFORE] = np.inf
    return book


class Grid(NamedTuple):
    """Nodal admittance by rows: pattern, places of the diagonal, values."""

    indptr: _Any
    indices: _Any
    diagonal: _Any
    g: _Any
    b: _Any


class Net(NamedTuple):
    """What nodes shall inject now, machines at their limits included, (n,), and which equations apply."""

    p0: _Any
    q0: _Any
    p1: _Any
    q1: _Any
    p2: _Any
    q2: _Any
    node_type: _Any


class Machines(NamedTuple):
    """Nodes with machines that hold a voltage, what is wanted there, and where they stand.

    ``q0``: what is wanted without what stands at limits.
    """

    held: _Any
    q0: _Any
    q_low: _Any
    q_high: _Any
    voltage: _Any
    stiffness: _Any
    at_limit: _Any
    returns: _Any


class Easing(NamedTuple):
    """Demand of constant power, and where it follows the voltage now, (n,)."""

    constant_p: _Any
    constant_q: _Any
    eased: _Any


class Branches(NamedTuple):
    """What it takes to see what flows at every node, by :func:`flow_at_nodes`, and room for that and its rounding."""

    frm: _Any
    to: _Any
    branches: _Any
    ports: _Any
    g: _Any
    b: _Any
    diagonal: _Any
    flow: _Any
    rounding: _Any


class Look(NamedTuple):
    """What a look fills: mismatch (2n,), Jacobian (4 nnz,), injections (n,)."""

    f: _Any
    jac: _Any
    p: _Any
    q: _Any


class Terms(NamedTuple):
    """``scale``: the largest power, p.u.; ``left``, ``share``: what may be left at a node, at most and of what flows there;
    ``rounding``: the most that rounding leaves at any; ``low``: voltage below which demand eases; ``patience``: looks without a
    new smallest mismatch; ``most``: looks in all, but for those that switching takes; ``limits``: whether reactive ones count."""

    scale: float
    left: float
    share: float
    rounding: float
    low: float
    patience: int
    most: int
    limits: bool


@njit(cache=True, nogil=True)
def evaluate(grid: Any, net: Any, machines: Any, easing: Any, look: Any, low: float, theta: Any, v: Any) -> float:
    """Fill mismatch and Jacobian; the largest mismatch."""
    if low > 0:
        ease_low_voltage(
            v, low, easing.constant_p, easing.constant_q, easing.eased, net.p0, machines.q0, net.q0, net.p2, net.q2
        )
    return float(
        mismatch_and_jacobian(
            grid.indptr, grid.indices, grid.diagonal, grid.g, grid.b, theta, v, net.p0, net.q0, net.p1, net.q1, net.p2, net.q2,
            net.node_type, look.f, look.jac, look.p, look.q,
        )
    )  # fmt: skip


@njit(cache=True, nogil=True)
def judge(
    grid: Any, net: Any, machines: Any, easing: Any, branches: Any, look: Any, terms: Any, book: Any, history: Any,
    theta: Any, v: Any,
) -> int:  # fmt: skip
    """Look at voltages, switch machines at limits, and say how it stands; mismatch and Jacobian are those for a next step."""
    scale = terms.scale
    # Newton's steps square the error: what was near is likely to be met now, and needs no Jacobian.
    likely = book[WORST] * book[WORST] < terms.left * scale and terms.low == 0
    if likely:
        worst = mismatch(
            grid.indptr, grid.indices, grid.g, grid.b, theta, v, net.p0, net.q0, net.p1, net.q1, net.p2, net.q2, net.node_type,
            look.f, look.p, look.q,
        )  # fmt: skip
    else:
        worst = evaluate(grid, net, machines, easing, look, terms.low, theta, v)
    switched = False
    if (
        terms.limits
        and worst < (_NEAR if book[ONE_BY_ONE] else _LIMIT_CHECK) * scale
        and book[SWITCHES] <= 20 + 6 * len(machines.held)
    ):
        switched = _switch(net, machines, look, scale, book, v)
    if switched:
        worst = evaluate(grid, net, machines, easing, look, terms.low, theta, v)
        book[BEST], book[SINCE_BEST] = np.inf, 0
    looks = int(book[LOOKS])
    history[looks] = worst
    book[WORST], book[LOOKS] = worst, looks + 1
    if not np.isfinite(worst) or worst > HOPELESS * max(scale, 1.0):
        return GIVEN_UP
    if worst < book[BEST]:
        book[BEST], book[SINCE_BEST] = worst, 0
    else:
        book[SINCE_BEST] += 1
    if worst <= _NEAR * scale and _met(grid, net, machines, branches, look, terms, book, worst, theta, v):
        return MET
    if likely and not switched:
        evaluate(grid, net, machines, easing, look, terms.low, theta, v)
    if book[SINCE_BEST] > terms.patience or looks + 1 > terms.most + book[SWITCHES] or looks + 1 == len(history):
        return GIVEN_UP
    return GO_ON


@njit(cache=True, nogil=True)
def _switch(net: Any, machines: Any, look: Any, scale: float, book: Any, v: Any) -> bool:
    """Let machines go that are past a reactive limit, take back those that should hold again; True if any."""
    count = switch_types(
        v, look.q, machines.held, machines.q0, net.q1, net.q2, machines.q_low, machines.q_high, machines.voltage,
        machines.stiffness, net.node_type, net.q0, machines.at_limit, machines.returns, 1e-9 * max(scale, 1.0),
        book[ONE_BY_ONE] > 0,
    )  # fmt: skip
    if count == 0:
        return False
    book[SWITCHES] += 1
    if not book[ONE_BY_ONE]:
        for i in machines.held:
            if machines.returns[i] >= _MOST_RETURNS:
                book[ONE_BY_ONE] = 1
    return True


@njit(cache=True, nogil=True)
def _met(
    grid: Any,
    net: Any,
    machines: Any,
    branches: Any,
    look: Any,
    terms: Any,
    book: Any,
    worst: float,
    theta: Any,
    v: Any,
) -> bool:
    """Whether what is left is allowed, or all that rounding lets be reached."""
    if worst <= terms.left and surely_met(
        look.f, net.node_type, look.p, look.q, v, machines.stiffness, grid.indptr, terms.left, terms.share
    ):
        book[ALLOWED] = terms.left
        return True
    if worst > max(terms.left, terms.rounding) and book[SINCE_BEST] <= _FALLS:
        return False
    if not book[FLOWS_KNOWN]:
        flow_at_nodes(
            branches.frm, branches.to, branches.branches, branches.ports, v, theta, branches.g, branches.b, branches.diagonal,
            branches.flow, branches.rounding,
        )  # fmt: skip
        book[FLOWS_KNOWN] = 1
    ratio, at = largest_excess(look.f, net.node_type, branches.flow, branches.rounding, terms.left, terms.share)
    rounding = branches.rounding[at]
    allowed = max(min(terms.share * branches.flow[at], terms.left), rounding)
    rounded = ratio > 1.0 and book[SINCE_BEST] > _FALLS and ratio * allowed / max(rounding, 1e-300) < _STUCK
    book[NODE], book[ALLOWED], book[ROUNDED] = at, allowed, rounded
    return bool(ratio <= 1.0 or rounded)


@njit(cache=True, nogil=True)
def newton_steps(
    layout: Layout, factors: Any, inverse: Any, step: Any, grid: Any, net: Any, machines: Any, easing: Any, branches: Any,
    look: Any, terms: Any, book: Any, history: Any, theta: Any, v: Any,
) -> int:  # fmt: skip
    """Newton's method from voltages, in place; the verdict. ``step``: room for a step, (2n,).

    ``UNSOUND``: no step was made from the last look, whose mismatch and Jacobian are filled.
    """
    while True:
        verdict = judge(grid, net, machines, easing, branches, look, terms, book, history, theta, v)
        if verdict != GO_ON:
            return int(verdict)
        if not eliminate(layout, look.jac, factors, inverse):
            return UNSOUND
        solve_one(layout, factors, inverse, look.f, step)
        # Pivots on the diagonal are trusted while the mismatch falls; where it does not, the step is held against the equations.
        falls = book[WORST] < 0.5 * book[BEFORE]
        if not falls and left_over(grid.indptr, grid.indices, look.jac, step, look.f) >= BACKWARD:
            return UNSOUND
        book[BEFORE] = book[WORST]
        take_step(theta, v, step, -1.0)
