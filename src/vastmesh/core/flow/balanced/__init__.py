"""The balanced AC load flow: its equations on fixed sparsity, their solution, and automatic control around it."""

from ._controls import MOST_ROUNDS, Banks, Control, Controls, Curves, Dispatch, Remote, Shifters, Taps, tap_order
from ._equations import LEAST_RATIO, MOST_RATIO
from ._follow import Path, Point
from ._kernel import REF, rectangular, spread
from ._linearise import Linearisation
from ._options import LoadFlowOptions
from ._problem import Problem, Solution
from ._reading import Ends, Reading, SwitchFlows, ends_by_element
from ._run import MOST_LEFT_MVA
from ._settle import settle, with_positions
from ._several import Several, solve_several
from ._state import Attempt, State
from ._switched import Switched, Switching
from ._without import After, Without

__all__ = [
    "LEAST_RATIO",
    "MOST_LEFT_MVA",
    "MOST_RATIO",
    "MOST_ROUNDS",
    "REF",
    "After",
    "Attempt",
    "Banks",
    "Control",
    "Controls",
    "Curves",
    "Dispatch",
    "Ends",
    "Linearisation",
    "LoadFlowOptions",
    "Path",
    "Point",
    "Problem",
    "Reading",
    "Remote",
    "Several",
    "Shifters",
    "Solution",
    "State",
    "SwitchFlows",
    "Switched",
    "Switching",
    "Taps",
    "Without",
    "ends_by_element",
    "rectangular",
    "settle",
    "solve_several",
    "spread",
    "tap_order",
    "with_positions",
]  # fmt: skip
