"""What a network is: items, changes with inverses, conditions, limits, growing."""

from .changes import Add, Change, Remove, Update, clashing, conflicts, touched_fields
from .copies import Pasted, clip, paste, root_of
from .elements._demand import Demand
from .elements._harmonics import Spectrum, own_ohm, resistance_factor, spectrum_values
from .elements._market import capability_of, cost_blocks_of, cost_lines_of, price_at, price_of
from .elements._neutral import neutral_ohm
from .elements._phases import PHASES, phases_of, tap_positions
from .elements._rows import rows_of
from .elements.bus import Bus
from .elements.current_limits import CurrentLimits
from .elements.electrode import Electrode
from .elements.filter import Filter
from .elements.generator import Generator
from .elements.geometry import LineGeometry
from .elements.groups import Area, Substation
from .elements.harmonic_levels import HarmonicLevels
from .elements.interface import Interface
from .elements.inverter import Inverter
from .elements.line import Line
from .elements.line_matrix import LineMatrix
from .elements.load import Load
from .elements.lumped import LumpedLoad
from .elements.motors import InductionMotor, SynchronousMotor
from .elements.outages import Outage, OutageRule
from .elements.plan import Plan, PlanStep
from .elements.protection import CurrentTransformer, Relay
from .elements.reactor import SeriesReactor
from .elements.regulator import Regulator
from .elements.reliability import CommonFailure, Growth, InterruptionCost
from .elements.remarks import Acknowledgement, Backdrop
from .elements.rules import Condition, Settings, VoltageLimits
from .elements.shunt import Shunt
from .elements.source import IDEAL, Source
from .elements.switch import Switch
from .elements.three_winding import ThreeWinding
from .elements.transformer import Transformer
from .elements.types import OwnType
from .fields import FieldSpec, FieldType, specs
from .grow import SHOOTS, Grown, GrowOptions, Shoot, first_bus, grow, join
from .items import (
    REGISTRY,
    Attachment,
    Element,
    Item,
    Origin,
    Role,
    catalogue_family,
    kinds_with,
    make_item,
    role_of,
    roles_of,
    stands_alone,
)
from .names import Namer
from .network import SETTINGS_ID, Applied, Network, dump_item, removal, with_rules
from .phasing import Unit, to_phases, turned_values, turning, unit_of, units
from .schemes import (
    Clash,
    Layered,
    Scheme,
    SchemeChange,
    Unfit,
    layered,
    merged,
    recorded,
    route,
    schemes_in_order,
    written,
)
from .trace import After, Feeder, ProfileNode, Reach, Trace, profile

__all__ = [
    "IDEAL",
    "PHASES",
    "REGISTRY",
    "SETTINGS_ID",
    "SHOOTS",
    "Acknowledgement",
    "Add",
    "After",
    "Applied",
    "Area",
    "Attachment",
    "Backdrop",
    "Bus",
    "Change",
    "Clash",
    "CommonFailure",
    "Condition",
    "CurrentLimits",
    "CurrentTransformer",
    "Demand",
    "Electrode",
    "Element",
    "Feeder",
    "FieldSpec",
    "FieldType",
    "Filter",
    "Generator",
    "GrowOptions",
    "Grown",
    "Growth",
    "HarmonicLevels",
    "InductionMotor",
    "Interface",
    "InterruptionCost",
    "Inverter",
    "Item",
    "Layered",
    "Line",
    "LineGeometry",
    "LineMatrix",
    "Load",
    "LumpedLoad",
    "Namer",
    "Network",
    "Origin",
    "Outage",
    "OutageRule",
    "OwnType",
    "Pasted",
    "Plan",
    "PlanStep",
    "ProfileNode",
    "Reach",
    "Regulator",
    "Relay",
    "Remove",
    "Role",
    "Scheme",
    "SchemeChange",
    "SeriesReactor",
    "Settings",
    "Shoot",
    "Shunt",
    "Source",
    "Spectrum",
    "Substation",
    "Switch",
    "SynchronousMotor",
    "ThreeWinding",
    "Trace",
    "Transformer",
    "Unfit",
    "Unit",
    "Update",
    "VoltageLimits",
    "capability_of",
    "catalogue_family",
    "clashing",
    "clip",
    "conflicts",
    "cost_blocks_of",
    "cost_lines_of",
    "dump_item",
    "first_bus",
    "grow",
    "join",
    "kinds_with",
    "layered",
    "make_item",
    "merged",
    "neutral_ohm",
    "own_ohm",
    "paste",
    "phases_of",
    "price_at",
    "price_of",
    "profile",
    "recorded",
    "removal",
    "resistance_factor",
    "role_of",
    "roles_of",
    "root_of",
    "route",
    "rows_of",
    "schemes_in_order",
    "specs",
    "spectrum_values",
    "stands_alone",
    "tap_positions",
    "to_phases",
    "touched_fields",
    "turned_values",
    "turning",
    "unit_of",
    "units",
    "with_rules",
    "written",
]  # fmt: skip
