"""Automatic control around a solution: what steps, switches or follows looks at every solved state, and what it
changes is solved again, until none moves.

One module a kind of controller. They act in a fixed order, the quick ones first, and one kind at a time; one that keeps
turning back is left where it is, and the account says so.
"""

from ._all import MOST_ROUNDS, Controls, tap_order
from ._banks import Banks
from ._base import Control
from ._curves import Curves
from ._machines import Dispatch, Remote
from ._shifters import Shifters
from ._taps import Taps

__all__ = [
    "MOST_ROUNDS",
    "Banks",
    "Control",
    "Controls",
    "Curves",
    "Dispatch",
    "Remote",
    "Shifters",
    "Taps",
    "tap_order",
]
