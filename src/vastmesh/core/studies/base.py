"""What every study shares: tables with units, findings, and how a calculation ended."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ValidationError

from ..errors import FieldProblem, InvalidFields, VastMeshError
from ..network import Network
from ..severity import Severity

Progress = Callable[[float, str], None]


class StopRequested(VastMeshError):
    """Somebody wants a calculation to end: raised by its progress. One with something to show may answer with that."""

    code = "cancelled"

    def __str__(self) -> str:
        return "The run was cancelled; nothing of it is kept."


class Ending(StrEnum):
    """How an iterative calculation ended."""

    CONVERGED = "converged"
    ITERATION_LIMIT = "iteration_limit"
    SINGULAR = "singular"
    NOTHING_TO_SOLVE = "nothing_to_solve"
    FAILED = "failed"  # the calculation itself broke off


@dataclass(frozen=True)
class Column:
    """One column of a result table; ``digits`` is how many decimals mean something.

    ``fixed``: it says what the row is and not how it came out, so it stays while only results change.
    ``view``: the way of looking at it (phases, sequences, line) with which it is shown; always when blank.
    """

    name: str
    label: str
    values: Sequence[Any] | NDArray[Any]
    unit: str | None = None
    digits: int | None = None
    meaning: str = ""
    fixed: bool = False
    view: str = ""


@dataclass(frozen=True)
class Table:
    """Columns of equal length; the first one holds the id of the element of each row."""

    name: str
    label: str
    columns: list[Column]

    def __getitem__(self, name: str) -> Any:
        return next(c.values for c in self.columns if c.name == name)

    def __len__(self) -> int:
        return len(self.columns[0].values)

    def records(self) -> list[dict[str, Any]]:
        """One plain record per row; numbers that do not exist are None."""
        lists = [_plain(c.values) for c in self.columns]
        names = [c.name for c in self.columns]
        return [dict(zip(names, row, strict=True)) for row in zip(*lists, strict=True)]


def _plain(values: Sequence[Any] | NDArray[Any]) -> list[Any]:
    if not isinstance(values, np.ndarray):
        return list(values)
    if values.dtype.kind != "f":
        return list(values.tolist())
    return [v if np.isfinite(v) else None for v in values.tolist()]


@dataclass(frozen=True)
class Finding:
    """Something outside a limit: what, where, how far, which limit.

    ``excess`` orders findings of different kinds: the distance past the limit as a share of what is
    allowed (5 % below the lowest voltage weighs like 5 % overload).
    """

    element: str
    kind: str
    quantity: str
    value: float | None
    unit: str | None
    limit: float | None
    limit_name: str
    severity: Severity
    direction: str
    excess: float
    text: str


@dataclass(frozen=True)
class MismatchAt:
    """A bus where the equations are not met, and by how much."""

    bus: str
    active_mw: float
    reactive_mvar: float


@dataclass(frozen=True)
class Account:
    """How a calculation went, in the same form whatever the study; ``assumed``: what it took for granted here.

    ``share_pct``, ``breaks_at``: where there is no solution, the share of demand and generation up to which there is one,
    and the bus at which it breaks.
    """

    ending: Ending
    method: str
    iterations: int
    history: list[float] = field(default_factory=list)
    worst: list[MismatchAt] = field(default_factory=list)
    largest_mismatch_mva: float = 0.0
    tolerance_mva: float = 0.0
    explanation: str = ""
    notes: list[str] = field(default_factory=list)
    assumed: list[str] = field(default_factory=list)
    share_pct: float | None = None
    breaks_at: str | None = None

    @property
    def converged(self) -> bool:
        return self.ending is Ending.CONVERGED


class Result(Protocol):
    """What a study publishes."""

    @property
    def account(self) -> Account: ...
    @property
    def tables(self) -> dict[str, Table]: ...
    @property
    def summary(self) -> dict[str, float | None]: ...
    @property
    def findings(self) -> list[Finding]: ...


@dataclass(frozen=True)
class Study:
    """A kind of calculation, as the API and the command line list it."""

    name: str
    label: str
    purpose: str
    options: type[BaseModel]
    run: Callable[[Network, Any, Progress], Result]


STUDIES: dict[str, Study] = {}
OptionsT = TypeVar("OptionsT", bound=BaseModel)


def options_of(model: type[OptionsT], values: Mapping[str, Any]) -> OptionsT:
    """Options from plain values. Raises :class:`InvalidFields` that names option, value and what is allowed."""
    try:
        return model.model_validate(dict(values))
    except ValidationError as error:
        known = ", ".join(model.model_fields)
        problems = []
        for e in error.errors():
            where = ".".join(map(str, e["loc"])) or "options"
            allowed = (
                f"the options are {known}" if e["type"] == "extra_forbidden" else e["msg"].removeprefix("Value error, ")
            )
            problems.append(FieldProblem("options", where, e.get("input"), allowed))
        raise InvalidFields(problems) from None


def study_named(name: str) -> Study:
    """A study by its name. Raises :class:`InvalidFields` that lists those there are."""
    if name not in STUDIES:
        raise InvalidFields([FieldProblem("run", "study", name, "choose one of " + ", ".join(STUDIES))])
    return STUDIES[name]


def register(study: Study) -> Study:
    STUDIES[study.name] = study
    return study
