from __future__ import annotations

from ..network import Network
from ..severity import Severity
from ._rules import RULES
from ._subject import Check, Subject


def run_checks(network: Network, *, most: int = 2000) -> list[Check]:
    """All checks, breaches first; at most ``most`` of them."""
    subject = Subject(network)
    found = [c for rule in RULES for c in rule(subject)]
    found.sort(key=lambda c: c.severity is Severity.WATCH)
    return found[:most]
