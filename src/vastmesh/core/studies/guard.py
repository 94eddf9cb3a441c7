"""A load flow that always answers: where the calculation itself breaks off, it says so and names what it breaks at."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable

import numpy as np

from ..electrical import compile_network
from ..electrical.conductor import compile_conductors
from ..network import Condition, Element, Network
from ..severity import Severity
from .base import Account, Ending, Finding
from .load_flow import LoadFlowResult

_log = logging.getLogger(__name__)
_MOST_SUSPECTS = 12


def guarded(
    solve: Callable[[Condition], LoadFlowResult], condition: Condition, network: Network, suspects: Iterable[str],
    afresh: Callable[[Network], Callable[[Condition], LoadFlowResult]],
) -> LoadFlowResult:  # fmt: skip
    """What ``solve`` gives, or a result without tables that tells why it gave nothing.

    ``suspects``: what has just been changed, which is tried first; ``afresh``: makes another solver for a network, with
    which suspects are tried out of service.
    """
    try:
        return solve(condition)
    except Exception as error:
        _log.exception("the load flow broke off")
        return _broken_off(error, _culprit(network, condition, list(suspects), afresh), network)


def _broken_off(error: Exception, culprit: str | None, network: Network) -> LoadFlowResult:
    name = network.items[culprit].name if culprit in network.items else None
    what = type(error).__name__
    text = (
        f"The calculation breaks off at {name} ({what}): look at its data, or take it out of service. Nothing is lost."
        if name
        else f"The calculation breaks off ({what}) and does not tell where. Undo the last change. Nothing is lost."
    )
    findings = [
        Finding(culprit or "", network.items[culprit].kind if culprit in network.items else "network", "calculation", None,
                None, None, "Model", Severity.BREACH, "none", 1e3, text)
    ]  # fmt: skip
    account = Account(Ending.FAILED, "Broken off", 0, explanation=text, breaks_at=culprit if name else None)
    return LoadFlowResult(account, {}, {}, findings, np.zeros(0, np.complex128))


def _culprit(
    network: Network, condition: Condition, suspects: list[str],
    afresh: Callable[[Network], Callable[[Condition], LoadFlowResult]],
) -> str | None:  # fmt: skip
    """The element without which it works: one of the suspects, else one that can't be compiled by itself."""
    for ident in suspects[:_MOST_SUSPECTS]:
        item = network.items.get(ident)
        if isinstance(item, Element) and item.in_service and _works(network, ident, condition, afresh):
            return ident
    seen = network.under(condition)
    for e in seen.elements():
        if e.kind != "bus" and not e.missing() and not _compiles(seen, e):
            return e.id
    return suspects[0] if len(suspects) == 1 and suspects[0] in network.items else None


def _works(
    network: Network, without: str, condition: Condition,
    afresh: Callable[[Network], Callable[[Condition], LoadFlowResult]],
) -> bool:  # fmt: skip
    twin = network.copy()
    twin.items[without] = twin.items[without].model_copy(update={"in_service": False})
    try:
        afresh(twin)(condition)
    except Exception:
        return False
    return True


def _compiles(network: Network, e: Element) -> bool:
    """Whether an element can be compiled with its buses and all that is no element."""
    own = {*e.buses(), e.id}
    alone = Network({i: x for i, x in network.items.items() if i in own or not isinstance(x, Element)})
    try:
        compile_network(alone)
        compile_conductors(alone)
    except Exception:
        return False
    return True
