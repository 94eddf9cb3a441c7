"""What is looked at before an optimal flow is solved: whether anything is live or may move, and what may be exceeded."""

from __future__ import annotations

import numpy as np

from ...electrical import FIXED
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Source
from ...results import Account, Result
from ._build import ANY_P, Case
from ._grid import Optimum, Soft
from ._options import OptimalFlowOptions


def nothing_live(label: str) -> Result:
    text = "No island has a source in service, so nothing is live. Add a source, or close the switch that leads to one."
    return Result(Account(Ending.NOTHING_TO_SOLVE, label, 0, explanation=text), {}, {})


def something_moves(case: Case, options: OptimalFlowOptions) -> None:
    """Raises :class:`InvalidFields` where nothing may move."""
    limits = case.limits
    own = np.array([not isinstance(case.network[i], Source) for i in case.plants.ident], np.bool_)
    several = int((~own).sum()) > 1 and options.active
    # What holds a voltage has the reactive power that this takes; only where voltages may move there is a choice.
    set_by_hand = case.arrays.tables["injection"]["control"][case.plants.row] == FIXED
    free = (limits.p_high > limits.p_low) | ((limits.q_high > limits.q_low) & set_by_hand)
    further = (
        any((b[0] < b[1]).any() for b in (limits.turn, limits.shift, limits.bank, limits.shed)) or options.openings
    )
    if not (options.voltages or several or free[own].any() or further):
        text = "nothing may move; let powers or voltages move, or let a plant be dispatched"
        raise InvalidFields([FieldProblem("options", "active", options.active, text)])


def without_end(case: Case, found: Optimum) -> str:
    """Which machines give or take as much as is taken for no bound at all, in words; blank where none does."""
    wide = [i for i, p in zip(case.plants.ident, found.p.tolist(), strict=True) if abs(p) > 0.9 * ANY_P]
    if not wide:
        return ""
    names = " and ".join(case.network[i].name for i in wide[:3])
    return (f"There is no least: {names} would go on for ever, as something is paid for power that nothing limits. Enter its "
            "most and least power, or a cost that is not below that of others.")  # fmt: skip


def soft_of(case: Case, options: OptimalFlowOptions) -> Soft | None:
    """Prices of exceeding a limit, where that may be: of a per unit of power or of voltage."""
    if options.limits == "hard":
        return None
    return Soft(v=options.voltage_price * 100, ends=options.overload_price * case.base)
