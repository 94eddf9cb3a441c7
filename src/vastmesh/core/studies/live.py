"""The load flow that the settings of a network name, at hand for it."""

from __future__ import annotations

from collections.abc import Callable

from ..network import Condition, Network
from .load_flow import LiveLoadFlow, LoadFlowResult, live_options
from .unbalanced import LiveUnbalanced
from .unbalanced import live_options as per_phase_options


def live_for(network: Network) -> LiveLoadFlow | LiveUnbalanced:
    """Balanced or per phase, as the settings say."""
    return LiveUnbalanced(network) if network.settings.study == "per_phase" else LiveLoadFlow(network)


def solver_for(network: Network, *, automatic: bool) -> Callable[[Condition], LoadFlowResult]:
    """The same under one condition after another, each from the last one's answer; automatic control on or off."""
    values = {"automatic": automatic, "start": "last"}
    if network.settings.study == "per_phase":
        per_phase, how = LiveUnbalanced(network), per_phase_options(network.settings).model_copy(update=values)
        return lambda condition: per_phase.solve(condition, how)
    balanced, options = LiveLoadFlow(network), live_options(network.settings).model_copy(update=values)
    return lambda condition: balanced.solve(condition, options)
