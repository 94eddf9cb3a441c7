from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..fields import choice
from ..items import Item


class PlanStep(BaseModel):
    """A scheme and the year from which it is in service."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    scheme: Annotated[str, Field(min_length=1, max_length=80)]
    year: Annotated[int, Field(ge=1900, le=2200)]


class Plan(Item):
    """Schemes with years: one way to go on."""

    label, plural = "Plan", "Plans"

    kind: Literal["plan"] = "plan"
    steps: Annotated[tuple[PlanStep, ...], Field(max_length=200)] = choice(
        "Schemes", "Ids of schemes with the year from which each is in service", default=()
    )
    note: Annotated[str, Field(max_length=4000)] = choice("Note", "Free text", default="")

    @model_validator(mode="after")
    def _each_once(self) -> Self:
        seen: set[str] = set()
        for s in self.steps:
            if s.scheme in seen:
                raise ValueError(f"steps: {s.scheme} is there twice; name each scheme once")
            seen.add(s.scheme)
        return self

    def by(self, year: int) -> tuple[str, ...]:
        """Schemes in service in a year, by id."""
        return tuple(s.scheme for s in self.steps if s.year <= year)
