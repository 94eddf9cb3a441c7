"""What every study shares: its declaration, its options, how it tells of its progress and how it is stopped."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from ..errors import FieldProblem, InvalidFields, VastMeshError
from ..network import Network
from ..results import Result

Progress = Callable[[float, str], None]


class StopRequested(VastMeshError):
    """Somebody wants a calculation to end: raised by its progress. One with something to show may answer with that."""

    code = "cancelled"

    def __str__(self) -> str:
        return "The run was cancelled; nothing of it is kept."


@dataclass(frozen=True)
class Study:
    """A kind of calculation, as the API and the command line list it."""

    name: str
    label: str
    purpose: str
    options: type[BaseModel]
    run: Callable[[Network, Any, Progress], Result]


STUDIES: dict[str, Study] = {}


def study_named(name: str) -> Study:
    """A study by its name. Raises :class:`InvalidFields` that lists those there are."""
    if name not in STUDIES:
        raise InvalidFields([FieldProblem("run", "study", name, "choose one of " + ", ".join(STUDIES))])
    return STUDIES[name]


def register(study: Study) -> Study:
    STUDIES[study.name] = study
    return study
