"""What a network is: items, changes with inverses, conditions, limits, growing."""

from .changes import Add, Change, Remove, Update, conflicts, touched_fields
from .elements.bus import Bus
from .elements.generator import Generator
from .elements.groups import Area, Substation
from .elements.line import Line
from .elements.load import Load
from .elements.rules import Condition, Settings, VoltageLimits
from .elements.shunt import Shunt
from .elements.source import Source
from .elements.switch import Switch
from .elements.transformer import Transformer
from .fields import FieldSpec, FieldType, specs
from .grow import SHOOTS, Grown, Shoot, first_bus, free_id, grow
from .items import REGISTRY, Element, Item, Origin, make_item
from .network import SETTINGS_ID, Applied, Network, dump_item, removal, with_rules

__all__ = [
    "REGISTRY", "SETTINGS_ID", "SHOOTS", "Add", "Applied", "Area", "Bus", "Change", "Condition", "Element", "FieldSpec",
    "FieldType", "Generator", "Grown", "Item", "Line", "Load", "Network", "Origin", "Remove", "Settings", "Shoot", "Shunt",
    "Source", "Substation", "Switch", "Transformer", "Update", "VoltageLimits", "conflicts", "dump_item", "first_bus",
    "free_id", "grow", "make_item", "removal",
    "specs", "touched_fields", "with_rules",
]  # fmt: skip
