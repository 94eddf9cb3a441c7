"""The load flow that the settings of a network name, at hand for it."""

from __future__ import annotations

from ..network import Network
from .load_flow import LiveLoadFlow
from .unbalanced import LiveUnbalanced


def live_for(network: Network) -> LiveLoadFlow | LiveUnbalanced:
    """Balanced or per phase, as the settings say."""
    return LiveUnbalanced(network) if network.settings.study == "per_phase" else LiveLoadFlow(network)
