"""Studies: one room each. Importing this package registers all of them."""

from . import (
    balancing,
    harmonics,
    linear_flow,
    load_flow,
    open_points,
    optimal_flow,
    outages,
    over_time,
    placing,
    reliability,
    sensitivities,
    sweep,
    transfer,
)
from .base import STUDIES, Answer, Inputs, Missing, Progress, Split, StopRequested, Study, study_named

__all__ = [
    "STUDIES",
    "Answer",
    "Inputs",
    "Missing",
    "Progress",
    "Split",
    "StopRequested",
    "Study",
    "balancing",
    "harmonics",
    "linear_flow",
    "load_flow",
    "open_points",
    "optimal_flow",
    "outages",
    "over_time",
    "placing",
    "reliability",
    "sensitivities",
    "study_named",
    "sweep",
    "transfer",
]
