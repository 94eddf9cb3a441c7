"""What is kept: projects, their journals of changes, and snapshots, in one SQLite file."""

from ._errors import ProjectGone, StaleRevision, StoreError, UnknownProject
from ._journal import Entry, EntryKind, History
from ._store import ProjectInfo, Store

__all__ = [
    "Entry", "EntryKind", "History", "ProjectGone", "ProjectInfo", "StaleRevision", "Store", "StoreError",
    "UnknownProject",
]  # fmt: skip
