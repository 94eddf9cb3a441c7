"""Bodies of requests and responses: the contract from which the TypeScript client is generated."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

from ..core.network import Change, FieldSpec
from ..core.studies import Ending, Severity


class _Body(BaseModel):
    model_config = ConfigDict(extra="forbid")


class ProblemField(BaseModel):
    """One refused value."""

    element: str
    field: str
    value: Any = None
    allowed: str


class Problem(BaseModel):
    """RFC 9457 problem details; ``code`` is stable, ``errors`` names elements and fields."""

    type: str
    title: str
    status: int
    detail: str
    code: str
    errors: list[ProblemField] = []
    line: int | None = None
    changes_since: list[JournalLine] | None = None
    revision: int | None = None


class ProjectOut(BaseModel):
    id: str
    name: str
    created_at: str
    modified_at: str
    removed_at: str | None = None
    revision: int


class NewProject(_Body):
    name: Annotated[str, Field(min_length=1, max_length=120)]


class KindOut(BaseModel):
    """A kind of item with its fields: what the card, the tables and the help are built from."""

    kind: str
    label: str
    plural: str
    element: bool
    fields: list[FieldSpec]


class ShootOut(BaseModel):
    name: str
    label: str
    meaning: str


class LineTypeOut(BaseModel):
    name: str
    construction: str
    max_kv: float
    r_ohm_per_km: float
    x_ohm_per_km: float
    b_us_per_km: float
    rating_a: float


class Vocabulary(BaseModel):
    """All that the interface needs to know before it shows a network."""

    version: str
    kinds: list[KindOut]
    shoots: list[ShootOut]
    line_types: list[LineTypeOut]
    formats: dict[str, str]
    upload_limit_bytes: int


class ColumnOut(BaseModel):
    name: str
    label: str
    unit: str | None = None
    digits: int | None = None
    meaning: str = ""
    fixed: bool = False
    values: list[Any] | None = Field(default=None, description="Left out for fixed columns the client has already")


class TableOut(BaseModel):
    name: str
    label: str
    columns: list[ColumnOut]


class FindingOut(BaseModel):
    element: str
    kind: str
    quantity: str
    value: float | None = None
    unit: str | None = None
    limit: float | None = None
    limit_name: str
    severity: Severity
    direction: str
    excess: float
    text: str


class MismatchOut(BaseModel):
    bus: str
    active_mw: float
    reactive_mvar: float


class AccountOut(BaseModel):
    ending: Ending
    method: str
    iterations: int
    history: list[float]
    worst: list[MismatchOut]
    largest_mismatch_mva: float
    tolerance_mva: float
    explanation: str
    notes: list[str]


class LiveOut(BaseModel):
    """A live load flow: tables by columns, findings, totals and the account. ``tables`` is empty when it failed."""

    revision: int
    rows: str = Field(description="Token of what the rows stand for; hand it back to get only what changes")
    solve_ms: float
    account: AccountOut
    summary: dict[str, float | None]
    findings: list[FindingOut]
    tables: dict[str, TableOut]


class HistoryOut(BaseModel):
    """What can be undone and redone next, in words."""

    undo: str | None = None
    redo: str | None = None


class ChangedOut(BaseModel):
    """What a change did: items added or altered, ids removed, and the new live result."""

    revision: int
    changed: list[dict[str, Any]]
    removed: list[str]
    order: list[str] | None = Field(
        default=None, description="All ids in order, when an item was put back between others"
    )
    history: HistoryOut
    live: LiveOut
    select: str | None = None
    merged: bool = False


class OpenedOut(BaseModel):
    project: ProjectOut
    items: list[dict[str, Any]]
    history: HistoryOut
    live: LiveOut


class ChangeIn(_Body):
    """A group of changes to be applied as one, made on a revision of the network."""

    base_revision: Annotated[int, Field(ge=0)]
    label: Annotated[str, Field(min_length=1, max_length=200)]
    changes: Annotated[list[Change], Field(min_length=1, max_length=100_000)]


class RevisionIn(_Body):
    base_revision: Annotated[int, Field(ge=0)]


class GrowIn(RevisionIn):
    bus: str
    what: str


class RemoveIn(RevisionIn):
    ids: Annotated[list[str], Field(min_length=1, max_length=100_000)]


class TidyIn(RevisionIn):
    """Lay the whole sheet out anew."""


class PreviewIn(_Body):
    """Factors to try without keeping them; what is left out stays as in the condition."""

    demand_factor: Annotated[float, Field(ge=0, le=10)] | None = None
    generation_factor: Annotated[float, Field(ge=0, le=10)] | None = None


class JournalLine(BaseModel):
    revision: int
    at: str
    label: str
    kind: str
    items: list[str]


class RemarkOut(BaseModel):
    line: int | None = None
    text: str


class ReportOut(BaseModel):
    read: list[RemarkOut]
    assumed: list[RemarkOut]
    ignored: list[RemarkOut]


class ImportedOut(BaseModel):
    project: ProjectOut
    report: ReportOut


class StudyOut(BaseModel):
    """A study with the JSON schema of its options."""

    name: str
    label: str
    purpose: str
    options: dict[str, Any]


Problem.model_rebuild()
