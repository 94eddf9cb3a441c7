from __future__ import annotations

from ..core.errors import VastMeshError


class StoreError(VastMeshError):
    code = "store"


class UnknownProject(StoreError):
    code = "unknown-project"

    def __init__(self, project: str) -> None:
        super().__init__(project)
        self.project = project

    def __str__(self) -> str:
        return f"There is no project with the id {self.project!r}. The list of projects shows those there are."


class ProjectGone(UnknownProject):
    code = "project-removed"

    def __str__(self) -> str:
        return f"The project {self.project!r} has been removed. It can be restored from the list of removed projects."


class BeyondRepair(StoreError):
    code = "beyond-repair"

    def __init__(self, project: str, why: str) -> None:
        super().__init__(project, why)
        self.project, self.why = project, why

    def __str__(self) -> str:
        return f"Nothing of this project can be read: {self.why}. A backup may have it whole; it is left as it is."


class DamagedRow(StoreError):
    code = "damaged-row"

    def __init__(self, revision: int, why: str) -> None:
        super().__init__(revision, why)
        self.revision, self.why = revision, why

    def __str__(self) -> str:
        return f"What was stored for revision {self.revision} can't be read ({self.why}). Open the project again to repair it."


class ReadOnly(StoreError):
    code = "read-only"

    def __init__(self, revision: int, newest: int, why: str) -> None:
        super().__init__(revision, newest, why)
        self.revision, self.newest, self.why = revision, newest, why

    def __str__(self) -> str:
        shown = (
            f"What is shown is revision {self.revision} of {self.newest}"
            if self.revision != self.newest
            else "It is whole"
        )
        return (
            f"This project is open for reading only: {self.why}. {shown}. Export it, or repair it to go on from here."
        )


class UnknownRun(StoreError):
    code = "unknown-run"

    def __init__(self, run: str) -> None:
        super().__init__(run)
        self.run = run

    def __str__(self) -> str:
        return f"There is no run with the id {self.run!r}. The list of runs shows those that are kept."


class StaleRevision(StoreError):
    code = "stale-revision"

    def __init__(self, expected: int, actual: int) -> None:
        super().__init__(expected, actual)
        self.expected, self.actual = expected, actual

    def __str__(self) -> str:
        return f"The project stands at revision {self.actual}, the change was meant for {self.expected}."


class StoreUnusable(StoreError):
    """The database can't be read or written: ``reason`` is one of locked, full, read-only, damaged, newer, unusable."""

    code = "store-unusable"

    def __init__(self, reason: str, what: str) -> None:
        super().__init__(reason, what)
        self.reason, self.what = reason, what

    def __str__(self) -> str:
        return _WORDS[self.reason].format(what=self.what)


_WORDS = {
    "locked": "{what} is locked by another program. Nothing was kept; try again in a moment.",
    "full": "The disk that {what} is on is full. Nothing was kept; make room, then try again.",
    "read-only": "{what} may not be written. Give this program the right to write it, or choose another folder.",
    "damaged": "{what} is damaged or not a database of this program. Put a backup in its place; it is left as it is.",
    "newer": "{what} was written by a newer version of this program. Start that version; nothing was changed.",
    "unusable": "{what} can't be used by the database just now. Nothing was kept; the log tells more.",
}
_SIGNS = (
    ("locked", ("database is locked", "database table is locked")),
    ("full", ("disk is full", "database or disk is full")),
    ("read-only", ("readonly", "read-only", "unable to open")),
    ("damaged", ("malformed", "not a database", "file is encrypted", "disk i/o error")),
    ("newer", ("can't locate revision",)),
)


def in_words(error: Exception, what: str) -> StoreUnusable:
    """What an error of the database means for whoever reads it."""
    text = str(error).lower()
    return StoreUnusable(next((reason for reason, signs in _SIGNS if any(s in text for s in signs)), "unusable"), what)
