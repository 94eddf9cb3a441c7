from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..changes import Change, touched_fields
from ..fields import choice, quantity, reference
from ..items import Item


class SchemeChange(BaseModel):
    """One change of a scheme: what is changed, in words, and what it alone gains where a study has found it.

    ``group``: the element it moves with, where several changes make sense only together.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    change: Change
    label: Annotated[str, Field(max_length=200)] = ""
    on: bool = True
    gain: Annotated[str, Field(max_length=120)] = ""
    group: Annotated[str, Field(max_length=80)] = ""


class Scheme(Item):
    """A named, ordered set of changes on top of the present network, which it never overwrites."""

    label, plural = "Scheme", "Schemes"
    listed = removable = False

    kind: Literal["scheme"] = "scheme"
    state: Literal["idea", "proposed", "approved"] = choice("State", "How far it has come", default="idea")
    active: bool = choice("On", "Its changes count in what is shown and calculated", default=False)
    rank: int = quantity("Order", "Schemes are laid on each other in this order; of two that change one field the later "
                         "counts", unit="1", default=1, ge=1, le=10_000)  # fmt: skip
    cost_k: float | None = quantity("Cost", "Of carrying it out, in thousands", unit="k", ge=0, le=1e9)
    year: int | None = quantity("In service", "Year in which it is to be in service", unit="1", ge=1900, le=2200)
    yearly_cost_k: float | None = quantity("Yearly cost", "Of operating it, in thousands", unit="k", ge=0, le=1e9)
    life_years: int = quantity("Life", "Years it serves; what is left of it at the end counts as its residual value", unit="1",
                               default=40, ge=1, le=200, typical=True)  # fmt: skip
    needs: str | None = reference("Needs", "Scheme without which it cannot be carried out", to="scheme", default=None)
    note: Annotated[str, Field(max_length=4000)] = choice("Note", "Free text", default="")
    changes: Annotated[tuple[SchemeChange, ...], Field(max_length=20_000)] = choice(
        "Changes", "What it changes, in order", default=()
    )

    @model_validator(mode="after")
    def _of_the_network(self) -> Self:
        for c in self.changes:
            kinds = c.change.item.get("kind") if c.change.op == "add" else None
            if kinds in ("scheme", "settings"):
                raise ValueError("changes: a scheme changes the network, not schemes or settings")
        return self

    def counting(self) -> list[Change]:
        """The changes that are switched on, in order."""
        return [c.change for c in self.changes if c.on]

    def touches(self) -> dict[str, set[str]]:
        """Fields changed by element; ``*`` where it is added or removed."""
        found: dict[str, set[str]] = {}
        for change in self.counting():
            for ident, field in touched_fields(change):
                found.setdefault(ident, set()).add(field)
        return found
