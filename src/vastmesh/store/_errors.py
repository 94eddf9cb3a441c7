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
