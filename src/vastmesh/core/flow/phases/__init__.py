"""The load flow per phase in conductor coordinates."""

from ._controls import PhaseControls
from ._options import MOST_ITERATIONS, UnbalancedOptions
from ._problem import Attempt, Demands, Problem
from ._reading import SEQUENCES, Admittances, Reading, deviation, percent

__all__ = [
    "MOST_ITERATIONS", "SEQUENCES", "Admittances", "Attempt", "Demands", "PhaseControls", "Problem", "Reading",
    "UnbalancedOptions", "deviation", "percent",
]  # fmt: skip
