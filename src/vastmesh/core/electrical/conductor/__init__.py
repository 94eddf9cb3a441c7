"""Equations in conductor coordinates: every phase, the neutral and earth, for the load flow per phase."""

from ._arrays import ABSENT, EARTH, MOTOR, NEUTRAL, PQ_MACHINE, PV_MACHINE, SLACK_MACHINE, ConductorArrays, Gap
from ._compile import compile_conductors, find_gaps
from ._lines import APART_M, LineKey, conductor_matrix, mutual_ohm_per_km, own_resistance
from ._patch import patch_conductors
from ._windings import two_winding_admittance

__all__ = [
    "ABSENT", "APART_M", "EARTH", "MOTOR", "NEUTRAL", "PQ_MACHINE", "PV_MACHINE", "SLACK_MACHINE", "ConductorArrays", "Gap",
    "LineKey", "compile_conductors", "conductor_matrix", "find_gaps", "mutual_ohm_per_km", "own_resistance", "patch_conductors",
    "two_winding_admittance",
]  # fmt: skip
