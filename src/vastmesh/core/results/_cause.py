"""Why something is outside its limit, and what was tried and helps."""

from __future__ import annotations

from dataclasses import dataclass

from ..network import Change


@dataclass(frozen=True)
class Proposal:
    """Changes that help; ``effect`` says what they did when they were tried."""

    label: str
    effect: str
    changes: list[Change]


@dataclass(frozen=True)
class Cause:
    """The cause in a sentence, the elements it names, and what would help, the most helpful first. ``uneven``: the branch
    whose phases are loaded least alike, where balancing what it feeds would help."""

    text: str
    elements: list[str]
    proposals: list[Proposal]
    uneven: str | None = None
