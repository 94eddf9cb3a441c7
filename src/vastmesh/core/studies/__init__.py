"""Studies: one room each. Importing this package registers all of them."""

from . import balancing, linear_flow, load_flow, sensitivities, sweep
from .base import STUDIES, Inputs, Progress, StopRequested, Study, study_named

__all__ = [
    "STUDIES",
    "Inputs",
    "Progress",
    "StopRequested",
    "Study",
    "balancing",
    "linear_flow",
    "load_flow",
    "sensitivities",
    "study_named",
    "sweep",
]
