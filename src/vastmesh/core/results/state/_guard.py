"""A load flow that always answers: where the calculation itself breaks off, it says so and names what it breaks at."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable

from ...electrical import compile_network
from ...electrical.conductor import compile_conductors
from ...flow import Ending
from ...network import Bus, Condition, Element, Network
from ...severity import Severity
from .. import Account, Finding
from ._result import LoadFlowResult

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
    return LoadFlowResult(account, {}, {}, findings)


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
    others = [e for e in seen.elements() if not isinstance(e, Bus) and not e.missing()]
    if _compiles(seen, []) and (found := _uncompilable(seen, others)):
        return found
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


def _uncompilable(network: Network, elements: list[Element]) -> str | None:
    """The first element that can't be compiled with the buses and what is no element, found by halves."""
    if _compiles(network, elements):
        return None
    if len(elements) == 1:
        return elements[0].id
    half = len(elements) // 2
    return _uncompilable(network, elements[:half]) or _uncompilable(network, elements[half:])


def _compiles(network: Network, elements: list[Element]) -> bool:
    alone = Network({i: x for i, x in network.items.items() if isinstance(x, Bus) or not isinstance(x, Element)})
    alone.items.update((e.id, e) for e in elements)
    try:
        compile_network(alone)
        compile_conductors(alone)
    except Exception:
        return False
    return True
