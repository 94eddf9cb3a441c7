"""From network to equations: per unit, stamps, topology, admittances, sparse factorisation."""

from .admittance import NodalPattern, TwoPorts, nodal_pattern, nodal_values, two_ports
from .arrays import FIXED, HOLDS_VOLTAGE, SLACK, NetArrays
from .blocks import BlockLU
from .compile import Kept, apply_condition, compile_network, factors, patch
from .sparse import SparseLU
from .topology import Topology, trace

__all__ = [
    "FIXED", "HOLDS_VOLTAGE", "SLACK", "BlockLU", "Kept", "NetArrays", "NodalPattern", "SparseLU", "Topology", "TwoPorts",
    "apply_condition", "compile_network", "factors", "nodal_pattern", "nodal_values", "patch", "trace", "two_ports",
]  # fmt: skip
