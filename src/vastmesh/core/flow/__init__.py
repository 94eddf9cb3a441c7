"""From compiled arrays to a solution: balanced and per phase, with automatic control. No study, no table."""

from ._ending import Ending

__all__ = ["Ending"]
