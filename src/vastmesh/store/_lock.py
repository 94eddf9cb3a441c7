"""One service for each folder of data: a second one would show old values under new revisions."""

from __future__ import annotations

import os
from pathlib import Path
from types import TracebackType
from typing import IO

from ._errors import StoreError

try:
    import fcntl
except ImportError:  # there is no such lock on this system; one goes without
    fcntl = None  # type: ignore[assignment]

LOCK_NAME = "in-use"


class FolderInUse(StoreError):
    code = "folder-in-use"

    def __init__(self, folder: Path, process: str) -> None:
        super().__init__(folder, process)
        self.folder, self.process = folder, process

    def __str__(self) -> str:
        by = f" (process {self.process})" if self.process else ""
        return (
            f"The folder {str(self.folder)!r} is in use by another Vast Mesh{by}. End that one, or choose another folder "
            "with --data."
        )


class FolderLock:
    """Holds a folder of data until it is released or the process ends, however it ends.

    Raises :class:`FolderInUse` when another process holds it.
    """

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / LOCK_NAME
        self._file: IO[str] = path.open("a+", encoding="ascii")
        if fcntl is None:
            return
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._file.seek(0)
            process = self._file.read(20).strip()
            self._file.close()
            raise FolderInUse(folder, process if process.isdigit() else "") from None
        self._file.truncate(0)
        self._file.write(str(os.getpid()))
        self._file.flush()

    def release(self) -> None:
        self._file.close()

    def __enter__(self) -> FolderLock:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.release()


__all__ = ["FolderInUse", "FolderLock"]
