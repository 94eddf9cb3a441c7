"""The running model check: what is missing, implausible or contradictory, where, and what would mend it."""

from ._rules import RULES
from ._run import run_checks
from ._subject import Check, Repair

__all__ = ["RULES", "Check", "Repair", "run_checks"]
