"""Equipment types, typical data and name-plate arithmetic, free of manufacturers."""

from . import _conductors, _lines, _transformers, _devices, _spectra, _electrodes  # noqa: F401, I001  each registers its family
from ._conductors import at_temperature, overhead_rating_a
from ._electrodes import rod_ohm, strip_ohm
from ._filters import (
    TUNED,
    TYPICAL_QUALITY,
    FilterCircuit,
    FilterKind,
    circuit_impedance,
    design_filter,
    filter_of_parts,
)
from ._lines import cable_rating_a, typical_line_type
from ._nameplate import (
    COOLING,
    SQRT3,
    MotorCircuit,
    earthing_a,
    earthing_ohm,
    motor_circuit,
    r_and_x,
    reactive,
    source_from_ohm,
    source_impedance_ohm,
    typical_x_over_r,
    zero_sequence_share,
)
from ._search import neighbour, search
from ._types import FAMILIES, EquipmentType, Family, Value, find_type, types_of
from ._typical import standard_rating, typical_transformer

__all__ = [
    "COOLING", "FAMILIES", "SQRT3", "TUNED", "TYPICAL_QUALITY", "EquipmentType", "Family", "FilterCircuit", "FilterKind",
    "MotorCircuit", "Value", "at_temperature", "cable_rating_a", "circuit_impedance", "design_filter",
    "earthing_a", "earthing_ohm", "filter_of_parts", "find_type", "motor_circuit", "neighbour", "overhead_rating_a", "r_and_x", "reactive",
    "rod_ohm", "search", "source_from_ohm", "source_impedance_ohm", "standard_rating", "strip_ohm", "types_of", "typical_line_type",
    "typical_transformer", "typical_x_over_r", "zero_sequence_share",
]  # fmt: skip
