"""What is kept: projects, their journals of changes, snapshots, files and runs, in one SQLite file."""

from ._errors import ProjectGone, StaleRevision, StoreError, UnknownProject, UnknownRun
from ._journal import Entry, EntryKind, History
from ._store import ProjectInfo, Run, RunInfo, Store

__all__ = [
    "Entry", "EntryKind", "History", "ProjectGone", "ProjectInfo", "Run", "RunInfo", "StaleRevision", "Store",
    "StoreError", "UnknownProject", "UnknownRun",
]  # fmt: skip
