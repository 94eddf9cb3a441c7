"""Equations in conductor coordinates: every phase, the neutral and earth, for the load flow per phase."""

from ._arrays import ABSENT, EARTH, MOTOR, NEUTRAL, PQ_MACHINE, PV_MACHINE, SLACK_MACHINE, ConductorArrays, Gap
from ._builder import AtOrder
from ._compile import compile_conductors, find_gaps
from ._lines import APART_M, LineKey, conductor_matrix, mutual_ohm_per_km, own_resistance
from ._patch import patch_conductors
from ._windings import two_winding_admittance
from .stamps.demand import MACHINE_X_OVER_R

__all__ = [
    "ABSENT",
    "APART_M",
    "EARTH",
    "MACHINE_X_OVER_R",
    "MOTOR",
    "NEUTRAL",
    "PQ_MACHINE",
    "PV_MACHINE",
    "SLACK_MACHINE",
    "AtOrder",
    "ConductorArrays",
    "Gap",
    "LineKey",
    "compile_conductors",
    "conductor_matrix",
    "find_gaps",
    "mutual_ohm_per_km",
    "own_resistance",
    "patch_conductors",
    "two_winding_admittance",
]  # fmt: skip
