"""What is kept: projects, their journals of changes, snapshots, files and runs, in one SQLite file."""

from ._errors import (
    BeyondRepair,
    DamagedRow,
    ProjectGone,
    ReadOnly,
    StaleRevision,
    StoreError,
    StoreUnusable,
    UnknownProject,
    UnknownRun,
    in_words,
)
from ._jobs import UNDER_WAY, JobBook, JobRecord, utc_now
from ._journal import Entry, EntryKind, History
from ._lock import FolderInUse, FolderLock
from ._store import FILE_NAME, Loaded, ProjectInfo, Run, RunInfo, Store

__all__ = [
    "FILE_NAME", "UNDER_WAY", "BeyondRepair", "DamagedRow", "Entry", "EntryKind", "FolderInUse", "FolderLock", "History",
    "JobBook", "JobRecord", "Loaded",
    "ProjectGone", "ProjectInfo", "ReadOnly", "Run", "RunInfo", "StaleRevision", "Store", "StoreError",
    "StoreUnusable", "UnknownProject", "UnknownRun", "in_words", "utc_now",
]  # fmt: skip
