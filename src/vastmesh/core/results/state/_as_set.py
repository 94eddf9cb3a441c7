"""The load flow that the settings of a network name, at hand for it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ...flow.balanced import LoadFlowOptions
from ...flow.phases import UnbalancedOptions
from ...network import Condition, Network
from ...options import options_of
from ._result import LoadFlowResult
from .balanced import LiveLoadFlow, live_options
from .phases import LiveUnbalanced
from .phases import live_options as per_phase_options


def live_for(network: Network) -> LiveLoadFlow | LiveUnbalanced:
    """Balanced or per phase, as the settings say."""
    return LiveUnbalanced(network) if network.settings.study == "per_phase" else LiveLoadFlow(network)


def solve_as_set(network: Network, condition: Condition | None = None, **options: Any) -> LoadFlowResult:
    """Solve a network once from scratch, balanced or per phase as its settings say; ``options`` go before the settings.

    Raises :class:`InvalidFields` for an option that there is not, or a value that it can't have.
    """
    options = {"start": "linear" if network.settings.start == "last" else network.settings.start, **options}
    if network.settings.study == "per_phase":
        as_set = per_phase_options(network.settings).model_dump()
        return LiveUnbalanced(network).solve(condition, options_of(UnbalancedOptions, {**as_set, **options}))
    as_set = live_options(network.settings).model_dump()
    return LiveLoadFlow(network).solve(condition, options_of(LoadFlowOptions, {**as_set, **options}))


def solver_for(network: Network, *, automatic: bool) -> Callable[[Condition], LoadFlowResult]:
    """The same under one condition after another, each from the last one's answer; automatic control on or off."""
    values = {"automatic": automatic, "start": "last"}
    if network.settings.study == "per_phase":
        per_phase, how = LiveUnbalanced(network), per_phase_options(network.settings).model_copy(update=values)
        return lambda condition: per_phase.solve(condition, how)
    balanced, options = LiveLoadFlow(network), live_options(network.settings).model_copy(update=values)
    return lambda condition: balanced.solve(condition, options)
