"""What every study shares: its declaration, its options, how it tells of its progress and how it is stopped."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from ..errors import FieldProblem, InvalidFields, VastMeshError
from ..network import Condition, Network
from ..results import Result
from ..workings import Working

Progress = Callable[[float, str], None]


class StopRequested(VastMeshError):
    """Somebody wants a calculation to end: raised by its progress. One with something to show may answer with that."""

    code = "cancelled"

    def __str__(self) -> str:
        return "The run was cancelled; nothing of it is kept."


@dataclass(frozen=True)
class Inputs:
    """What a study is made of: plain data that can be sent to another process.

    ``network``: as it stands, schemes that are on included; ``condition``: the one in use unless another is named;
    ``schemes``: which are on, by id; ``revision``: of the network.
    """

    network: Network
    condition: Condition | None = None
    schemes: tuple[str, ...] = ()
    revision: int = 0

    @property
    def under(self) -> Condition:
        """The condition that counts."""
        return self.condition or self.network.condition


Explain = Callable[[Network, Result, Condition, str], list[Working]]


@dataclass(frozen=True)
class Study:
    """A kind of calculation, as the API and the command line list it.

    ``live``: solved after every edit by itself. ``follows``: quick enough to follow the edits while its runs take less
    than half a second. ``explain``: how the figures of its result at an element came about.
    """

    name: str
    label: str
    purpose: str
    options: type[BaseModel]
    run: Callable[[Inputs, Any, Progress], Result]
    live: bool = False
    follows: bool = False
    explain: Explain | None = None


STUDIES: dict[str, Study] = {}


def study_named(name: str) -> Study:
    """A study by its name. Raises :class:`InvalidFields` that lists those there are."""
    if name not in STUDIES:
        raise InvalidFields([FieldProblem("run", "study", name, "choose one of " + ", ".join(STUDIES))])
    return STUDIES[name]


def register(study: Study) -> Study:
    STUDIES[study.name] = study
    return study
