"""Every error the core raises.

VastMeshError
├── DataError              something entered is not allowed
│   ├── InvalidFields      one or more fields of one or more elements
│   ├── UnknownElement     an id that is not in the network
│   ├── DuplicateElement   an id that is already taken
│   ├── StillReferenced    removing what others are connected to
│   └── UnreadableFile     a file that can't be read; carries line and field
└── NumericalError         a calculation that could not be carried out
    └── SingularMatrix
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


class VastMeshError(Exception):
    """Base of all errors; ``code`` is stable and used by the interface and the help."""

    code = "error"


class DataError(VastMeshError):
    code = "data"


@dataclass(frozen=True)
class FieldProblem:
    """One refused value: which element and field, what was given, and what is allowed."""

    element: str
    field: str
    value: Any
    allowed: str

    def __str__(self) -> str:
        shown = repr(self.value) if isinstance(self.value, str) else self.value
        shown = str(shown) if len(str(shown)) <= 80 else f"{str(shown)[:77]}..."
        return f"{self.element}, {self.field}: {shown} is not allowed; {self.allowed}"


_MOST_IN_WORDS = 20


class InvalidFields(DataError):
    """One or more values were refused; nothing was changed."""

    code = "invalid-fields"

    def __init__(self, problems: list[FieldProblem]) -> None:
        super().__init__(problems)
        self.problems = problems

    def __str__(self) -> str:
        more = len(self.problems) - _MOST_IN_WORDS
        told = ". ".join(str(p) for p in self.problems[:_MOST_IN_WORDS]) + "."
        return f"{told} And {more} more." if more > 0 else told


class UnknownElement(DataError):
    code = "unknown-element"

    def __init__(self, element: str, wanted_by: str = "") -> None:
        super().__init__(element, wanted_by)
        self.element, self.wanted_by = element, wanted_by

    def __str__(self) -> str:
        by = f", which {self.wanted_by} refers to" if self.wanted_by else ""
        return f"There is no element with the id {self.element!r}{by}. Check the id, or add it first."


class DuplicateElement(DataError):
    code = "duplicate-element"

    def __init__(self, element: str) -> None:
        super().__init__(element)
        self.element = element

    def __str__(self) -> str:
        return f"The id {self.element!r} is already taken. Choose another one."


class StillReferenced(DataError):
    code = "still-referenced"

    def __init__(self, element: str, referrers: list[str]) -> None:
        super().__init__(element, referrers)
        self.element, self.referrers = element, referrers

    def __str__(self) -> str:
        few = ", ".join(self.referrers[:5]) + (" ..." if len(self.referrers) > 5 else "")
        return f"{self.element} can't be removed alone: {few} would lose what they refer to. Remove them too."


class UnreadableFile(DataError):
    code = "unreadable-file"

    def __init__(self, reason: str, line: int | None = None, field: str = "") -> None:
        super().__init__(reason, line, field)
        self.reason, self.line, self.field = reason, line, field

    def __str__(self) -> str:
        where = f"line {self.line}" if self.line is not None else ""
        where += (", " if where else "") + f"field {self.field}" if self.field else ""
        return f"The file can't be read ({where}): {self.reason}" if where else f"The file can't be read: {self.reason}"


class NumericalError(VastMeshError):
    code = "numerical"


class SingularMatrix(NumericalError):
    code = "singular-matrix"

    def __init__(self, what: str = "") -> None:
        super().__init__(what)
        self.what = what

    def __str__(self) -> str:
        return f"The equations have no unique solution{': ' + self.what if self.what else ''}."
