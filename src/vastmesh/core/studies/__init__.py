"""Studies: one room each. Importing this package registers all of them."""

from . import balancing, linear_flow, load_flow, sensitivities, sweep
from .base import STUDIES, Progress, StopRequested, Study, study_named

__all__ = [
    "STUDIES",
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
