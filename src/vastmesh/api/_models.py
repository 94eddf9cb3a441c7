"""Bodies of requests and responses: the contract from which the TypeScript client is generated."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from ..core.flow import Ending
from ..core.network import Change, FieldSpec, GrowOptions
from ..core.severity import Severity
from ..core.studies.base import Desk


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
    listed: bool = Field(description="Has a table of its own among the data")
    removable: bool = Field(description="Can be removed from its card")
    alone: bool = Field(description="Is no equipment and can be made as it is, without naming anything")
    fields: list[FieldSpec]


class ShootOut(BaseModel):
    """Something that can be grown; ``at`` says where (bus, line, pair), ``asks`` which options are worth asking for."""

    name: str
    label: str
    meaning: str
    at: list[str]
    asks: list[str]
    strip: bool


class FamilyOut(BaseModel):
    """A family of catalogue types; ``shown``: the fields a list shows."""

    name: str
    label: str
    meaning: str
    shown: list[str]
    count: int


class TypeOut(BaseModel):
    """A catalogue type, or one of the network's own."""

    name: str
    family: str
    description: str
    series: str
    size: float
    basis: str
    values: dict[str, float | str]
    own: bool = False
    used: int = 0


class TypesOut(BaseModel):
    total: int
    types: list[TypeOut]


class Vocabulary(BaseModel):
    """All that the interface needs to know before it shows a network."""

    version: str
    kinds: list[KindOut]
    shoots: list[ShootOut]
    families: list[FamilyOut]
    formats: dict[str, str]
    upload_limit_bytes: int
    attachment_limit_bytes: int


class ColumnOut(BaseModel):
    name: str
    label: str
    unit: str | None = None
    digits: int | None = None
    meaning: str = ""
    fixed: bool = False
    view: str = Field(default="", description="Shown with this way of looking at results; always when blank")
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
    assumed: list[str] = []
    share_pct: float | None = None
    breaks_at: str | None = None


class LiveOut(BaseModel):
    """A live load flow: tables by columns, findings, totals and the account. ``tables`` is empty when it failed."""

    revision: int
    rows: str = Field(description="Token of what the rows stand for; hand it back to get only what changes")
    solve_ms: float
    account: AccountOut
    summary: dict[str, float | None]
    findings: list[FindingOut]
    tables: dict[str, TableOut]
    quantities: list[QuantityOut] = []
    totals: list[TotalOut] = []


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


class ProfilesOut(ChangedOut):
    """What an import of profiles did, and what was noticed on the way."""

    notes: list[str] = []


class OpenedOut(BaseModel):
    """``damage``: why the project can only be read, where stored rows of it are damaged."""

    project: ProjectOut
    damage: str | None = None
    items: list[dict[str, Any]]
    history: HistoryOut
    live: LiveOut


class ChangeIn(_Body):
    """A group of changes to be applied as one, made on a revision of the network."""

    base_revision: Annotated[int, Field(ge=0, le=2**62)]
    label: Annotated[str, Field(min_length=1, max_length=200)]
    changes: Annotated[list[Change], Field(min_length=1, max_length=100_000)]
    key: Annotated[str, Field(min_length=8, max_length=64)] | None = Field(
        default=None, description="Names this edit: sent again under the same key it is not done again"
    )


class RevisionIn(_Body):
    base_revision: Annotated[int, Field(ge=0, le=2**62)]


class GrowIn(RevisionIn):
    """``at``: a bus or a line; ``to``: the second bus, to grow between two."""

    at: str
    what: str
    to: str | None = None
    options: GrowOptions = Field(default_factory=GrowOptions)


class JoinIn(RevisionIn):
    """Make two buses one: everything at ``gone`` moves to ``kept``."""

    gone: str
    kept: str


class PasteIn(RevisionIn):
    """Items to copy, connected where they were or at the bus ``onto``."""

    items: Annotated[list[dict[str, Any]], Field(min_length=1, max_length=20_000)]
    onto: str | None = None
    times: Annotated[int, Field(ge=1, le=1000)] = 1


class SwapIn(RevisionIn):
    """Take the next size up (1) or down (-1) of each element's type."""

    ids: Annotated[list[str], Field(min_length=1, max_length=10_000)]
    step: Annotated[int, Field(ge=-20, le=20)]


class TableIn(RevisionIn):
    """Rows pasted from a spreadsheet: tab-separated, with headings."""

    kind: str
    text: Annotated[str, Field(max_length=20_000_000)]


class RemoveIn(RevisionIn):
    ids: Annotated[list[str], Field(min_length=1, max_length=100_000)]


class TidyIn(RevisionIn):
    """Lay out anew: the whole sheet, or only the buses named."""

    ids: Annotated[list[str], Field(min_length=1, max_length=100_000)] | None = None


class PreviewIn(_Body):
    """Factors to try without keeping them, elements to lose and switches to close; ``moment``: by the profiles then;
    ``year``: with the demand of it. What is
    left out stays as in
    the condition. ``tab``: whose screen it is for, so that what is asked about the live result there is about that; none
    ends the trial."""

    demand_factor: Annotated[float, Field(ge=0, le=10)] | None = None
    generation_factor: Annotated[float, Field(ge=0, le=10)] | None = None
    lost: Annotated[list[Annotated[str, Field(max_length=200)]], Field(max_length=1000)] = []
    closed: Annotated[list[Annotated[str, Field(max_length=200)]], Field(max_length=100)] = []
    moment: Annotated[str, Field(pattern=r"^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$")] | None = None
    year: Annotated[int, Field(ge=1900, le=2200)] | None = None
    tab: Annotated[str | None, Field(max_length=60)] = None


class FetchIn(_Body):
    """Where profiles are fetched from, and of which time."""

    base_revision: Annotated[int, Field(ge=0, le=2**62)]
    address: Annotated[str, Field(max_length=200)] = "http://127.0.0.1:8431"
    begins: Annotated[str, Field(pattern=r"^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$")] = "2025-01-01T00:00"
    days: Annotated[float, Field(gt=0, le=400)] = 31.0


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
    left_out: list[RemarkOut]
    assumed: list[RemarkOut]
    ignored: list[RemarkOut]


class PastedOut(ChangedOut):
    """What pasting did: the ids of the copies, and of what was left out because it leads elsewhere."""

    pasted: list[str]
    left_out: list[str]


class RepairOut(BaseModel):
    label: str
    changes: list[Change]


class CheckOut(BaseModel):
    """Something about the model that needs a look, with a repair where there is one."""

    rule: str
    element: str
    severity: Severity
    text: str
    field: str | None = None
    repair: RepairOut | None = None


class StepOut(BaseModel):
    symbol: str
    label: str
    formula: str
    inputs: str
    value: float | str
    unit: str
    source: str
    field: str | None = None


class MatrixOut(BaseModel):
    """A complex matrix: each entry is [real part, imaginary part]."""

    label: str
    unit: str
    names: list[str]
    rows: list[list[list[float]]]
    terms: list[str]


class WorkingOut(BaseModel):
    title: str
    steps: list[StepOut]
    matrices: list[MatrixOut]
    note: str


class AboutOut(BaseModel):
    """What can be said about an item beyond its data: worked calculations, and what uses it."""

    revision: int
    workings: list[WorkingOut]
    used_by: list[str]


class ThrowOut(BaseModel):
    """What would change if the switch were thrown."""

    loses: list[str]
    gains: list[str]
    path: list[str]
    customers: int
    demand_mw: float


class SupplyOut(BaseModel):
    """What feeds an element and what it feeds; ``path`` leads from it to its source."""

    live: bool
    path: list[str]
    feeder: str | None
    elements: int
    buses: list[str]
    loads: int
    demand_mw: float
    customers: int
    thrown: ThrowOut | None = None


class FeederOut(BaseModel):
    id: str
    name: str
    supply: str
    buses: list[str]


class StationOut(BaseModel):
    """Buses at one site that belong to no feeder; the feeders that leave it."""

    id: str
    name: str
    buses: list[str]
    feeders: list[str]


class FeedersOut(BaseModel):
    revision: int
    feeders: list[FeederOut]
    stations: list[StationOut]


class ProfileOut(BaseModel):
    """A tree of buses with distances, by columns: each bus with the bus before it and the element between."""

    revision: int
    start: str
    name: str
    bus: list[str]
    parent: list[str | None]
    element: list[str | None]
    distance_km: list[float]


class ImportedOut(BaseModel):
    project: ProjectOut
    report: ReportOut


class StudyOut(BaseModel):
    """A study with the fields of its options and their JSON schema."""

    name: str
    label: str
    purpose: str
    live: bool
    follows: bool
    explains: bool
    desk: Desk
    causes: bool
    fields: list[FieldSpec]
    options: dict[str, Any]


class SiftIn(_Body):
    """``table``: a result table, or ``data:`` and a kind; ``pinned``: a kept run for ``pinned.`` columns."""

    table: Annotated[str, Field(max_length=60)]
    text: Annotated[str, Field(max_length=4000)]
    pinned: str | None = None


class SiftOut(BaseModel):
    """Row numbers of the table that fit, in order, and the columns the line speaks of."""

    revision: int
    rows: list[int]
    mentions: list[str]
    took_ms: float


class ColumnHint(BaseModel):
    name: str
    label: str
    unit: str | None = None
    meaning: str = ""


class SiftHelp(BaseModel):
    """What a sift line can speak of."""

    columns: list[ColumnHint]
    functions: dict[str, str]


class ExportIn(_Body):
    """Tables to export; of the first one, the rows and columns given. All result tables when none is named. ``units``: which
    unit becomes which in CSV and XLSX; the columns of Parquet name theirs and keep them."""

    tables: Annotated[list[str], Field(max_length=40)] = []
    form: str = "csv"
    rows: Annotated[list[int], Field(max_length=1_000_000)] | None = None
    columns: Annotated[list[str], Field(max_length=200)] | None = None
    units: Annotated[dict[str, str], Field(max_length=40)] = {}


class AxisOut(BaseModel):
    """``linked``: pointing on one such axis marks the place on the others; ``per``: what one of it is here."""

    label: str
    unit: str | None = None
    digits: int | None = None
    linked: str | None = None
    per: float = 1.0


class SeriesOut(BaseModel):
    """A curve, bars or points; ``elements``: what stands behind each point, by id."""

    name: str
    label: str
    x: list[float | str | None]
    y: list[float | str | None]
    drawn: str = "line"
    elements: list[str | None] = []
    labels: list[str] = []
    z: list[float | None] = []


class BoundOut(BaseModel):
    """A limit drawn across a plot."""

    label: str
    value: float
    across: str = "y"


class FigureOut(BaseModel):
    """A declared plot."""

    name: str
    label: str
    x: AxisOut
    y: AxisOut
    series: list[SeriesOut]
    bounds: list[BoundOut] = []
    z: AxisOut | None = None


class QuantityOut(BaseModel):
    """What a column means and how it can be shown on the sheet."""

    name: str
    label: str
    table: str
    unit: str | None = None
    digits: int | None = None
    meaning: str = ""
    scale: str
    sums: bool = False
    parts: dict[str, list[str]] = {}
    short: str = ""
    lens: bool = False
    band: list[float] = []
    far: str = Field(default="", description="Column of the other end of a branch")
    each: dict[str, list[str]] = Field(
        default={}, description="Columns drawn side by side, by way of looking at results"
    )
    along: bool = Field(default=False, description="Drawn along a feeder, and held side by side of schemes")


class TotalOut(BaseModel):
    """What a figure of the summary is called. ``short``: in a strip of the most telling ones."""

    name: str
    label: str
    unit: str | None = None
    digits: int = 2
    short: str = ""
    overview: bool = False


class StudyResultOut(BaseModel):
    """A study's result; ``statement`` says in a line what was assumed."""

    account: AccountOut
    summary: dict[str, float | None]
    findings: list[FindingOut]
    tables: dict[str, TableOut]
    statement: str = ""
    scheme: list[dict[str, Any]] = Field(default=[], description="Changes of a scheme that the study hands over")
    figures: list[FigureOut] = []
    quantities: list[QuantityOut] = []
    totals: list[TotalOut] = []


class ResultOut(StudyResultOut):
    """A result under its address, with what it is of; ``out_of_date``: the network has moved on since."""

    address: str
    study: str
    label: str
    revision: int
    out_of_date: bool
    partial: bool = Field(default=False, description="Only what there is so far of a job that comes apart")
    condition: str
    options: dict[str, Any]


class RunIn(_Body):
    """A study to run on the network as it stands; kept under a name when one is given."""

    study: str
    options: dict[str, Any] = {}
    keep: Annotated[str, Field(min_length=1, max_length=120)] | None = None
    note: Annotated[str, Field(max_length=4000)] = ""
    slot: Annotated[
        str, Field(max_length=60, description="The view that asks, where several ask for the same study")
    ] = ""
    tab: Annotated[str, Field(max_length=60, description="Whose screen it is for")] = ""


class JobLineOut(BaseModel):
    """A job as it stands. ``parts``: of which it consists, 0 when it is one piece; ``missing``: that have no answer;
    ``partial``: its result is what there is so far; ``kept``: the run it was kept as; ``slot``, ``tab``: the view that asked, and
    on whose screen."""

    id: str
    project: str
    study: str
    label: str
    slot: str
    tab: str
    revision: int
    condition: str
    options: dict[str, Any]
    schemes: list[str]
    state: Literal["waiting", "running", "joining", "finished", "cancelled", "failed", "interrupted"]
    fraction: float
    doing: str
    left_s: float | None = None
    parts: int
    parts_done: int
    missing: int
    at: str
    started_at: str | None
    ended_at: str | None
    took_s: float
    who: str
    ran_on: str
    keep: str | None
    note: str
    kept: str | None
    code: str | None
    problem: str | None
    has_result: bool
    partial: bool


class JobOut(JobLineOut):
    """A job with its log, and its result when it has finished; ``problem`` when it has not."""

    log: str = ""
    result: StudyResultOut | None = None


class KeepIn(_Body):
    """Keep what is on the screen."""

    name: Annotated[str, Field(min_length=1, max_length=120)]
    note: Annotated[str, Field(max_length=4000)] = ""


class DescribeIn(_Body):
    name: Annotated[str, Field(min_length=1, max_length=120)] | None = None
    note: Annotated[str, Field(max_length=4000)] | None = None


class RunInfoOut(BaseModel):
    id: str
    at: str
    study: str
    name: str
    note: str
    revision: int
    condition: str


class RunOut(BaseModel):
    """A kept run in full."""

    run: RunInfoOut
    options: dict[str, Any]
    condition: dict[str, Any]
    result: StudyResultOut


class RunPictureOut(BaseModel):
    """The network as it stood when a run was made, with the run's result: to be looked at, not edited."""

    run: RunInfoOut
    items: list[dict[str, Any]]
    result: StudyResultOut


class CompareIn(_Body):
    """Two results by their addresses (``live``, ``run-ID``, ``job-ID``); one quantity of one table, the
    first that both have when none is named."""

    before: Annotated[str, Field(max_length=80)]
    after: Annotated[str, Field(max_length=80)] = "live"
    tab: Annotated[str | None, Field(max_length=60)] = None
    table: Annotated[str, Field(max_length=60)] = ""
    quantity: Annotated[str, Field(max_length=80)] = ""


class CompareOut(BaseModel):
    """Rows that both have, the largest change first; ``only_before``, ``only_after``: elements that one lacks."""

    table: TableOut
    only_before: list[str]
    only_after: list[str]
    findings_gained: list[FindingOut]
    findings_lost: list[FindingOut]
    before: dict[str, float | None]
    after: dict[str, float | None]
    chosen: str
    quantities: list[QuantityOut] = []


class ProposalOut(BaseModel):
    label: str
    effect: str
    changes: list[Change]


class CauseOut(BaseModel):
    """Why a finding is there, and what was tried and helps. ``uneven``: the branch behind which phases should be balanced."""

    revision: int
    text: str
    elements: list[str]
    proposals: list[ProposalOut]
    uneven: str | None = None


class SummariesOut(BaseModel):
    revision: int
    tables: dict[str, TableOut]


class PlaceIn(RevisionIn):
    """``map``: places on the map from the schematic, ``schematic``: the other way round, ``lengths``: line lengths from
    their routes."""

    what: str
    anew: bool = False
    ids: Annotated[list[str], Field(max_length=100_000)] | None = None


class PictureIn(_Body):
    """An SVG of the sheet to be set as PDF."""

    svg: Annotated[str, Field(max_length=60_000_000)]
    paper: str = "A4"
    title: Annotated[str, Field(max_length=200)] = ""
    lines: Annotated[list[Annotated[str, Field(max_length=400)]], Field(max_length=10)] = []
    mm_per_unit: Annotated[float, Field(gt=0.001, le=10)] | None = None


Problem.model_rebuild()


# Schemes, cases and phases


class ClashOut(BaseModel):
    """A field that two schemes set; the later one counts."""

    element: str
    field: str
    earlier: str
    later: str


class UnfitOut(BaseModel):
    """A change of a scheme that does not fit the network as it stands; ``number`` is its place in the scheme."""

    scheme: str
    number: int
    element: str
    text: str


class LayersOut(BaseModel):
    """``by``: element -> schemes that change it; ``added``: element -> scheme that adds it; ``removed``: items of the
    present network that a scheme takes out."""

    revision: int
    by: dict[str, list[str]]
    added: dict[str, str]
    removed: list[dict[str, Any]]
    clashes: list[ClashOut]
    unfit: list[UnfitOut]


class MergeIn(RevisionIn):
    """Put a scheme's changes into the present network."""

    scheme: str


class CaseIn(_Body):
    """One side of a comparison: the schemes that are on, and the condition (the one in use when blank)."""

    schemes: Annotated[list[str], Field(max_length=1000)] = []
    condition: str | None = None


class CasesIn(_Body):
    before: CaseIn
    after: CaseIn
    pictures: Annotated[bool, Field(description="With the networks and results of both sides")] = False


class CaseOut(BaseModel):
    title: str
    cost_k: float | None = None
    years: list[int]
    converged: bool
    explanation: str
    items: list[dict[str, Any]]
    result: StudyResultOut | None = None


class CasesOut(BaseModel):
    """``results``: before, after and change by table and quantity, the largest change first."""

    before: CaseOut
    after: CaseOut
    data: TableOut
    summary: TableOut
    results: dict[str, TableOut]
    findings_gained: list[FindingOut]
    findings_lost: list[FindingOut]


class DocumentPart(_Body):
    """A result by its address, all of its tables or those named; held against the one at ``before``; or two cases."""

    address: Annotated[str | None, Field(max_length=80)] = None
    before: Annotated[str | None, Field(max_length=80)] = None
    tables: Annotated[list[Annotated[str, Field(max_length=80)]], Field(max_length=40)] = []
    cases: CasesIn | None = None


class DocumentIn(_Body):
    """Results to be put on paper: in order, each with what was asked, the answer, plots, findings and tables."""

    parts: Annotated[list[DocumentPart], Field(min_length=1, max_length=40)]
    title: Annotated[str, Field(max_length=200)] = ""
    form: Literal["pdf", "html"] = "pdf"
    rows: Annotated[int, Field(ge=1, le=2000, description="Of each table, the first ones")] = 25
    tab: Annotated[str | None, Field(max_length=60)] = None


class PhasesIn(RevisionIn):
    """``phases``: such as A, BC or BCA (where the phases of a three-phase load go)."""

    ident: str
    phases: Annotated[str, Field(pattern=r"^[ABC]{1,3}$")]


class PhaseChoicesOut(BaseModel):
    """``unit``: what moves as a whole (the element itself, or the lateral it hangs on); None when nothing can."""

    ident: str
    unit: str | None = None
    now: str
    choices: list[str]
    elements: int
