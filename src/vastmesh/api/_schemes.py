"""Routes of schemes, comparison of cases, and other phases."""

from __future__ import annotations

import asyncio
from dataclasses import asdict
from typing import Any

from fastapi import APIRouter, Response
from fastapi.concurrency import run_in_threadpool

from ..core.errors import FieldProblem, InvalidFields
from ..core.network import Network, dump_item, to_phases, unit_of
from ..core.results.state import Case, CaseComparison, SolvedCase, compare_cases, lay_case
from ..core.studies import Inputs
from ..core.studies.load_flow import CASE
from ..runner import Runner
from . import _models as m
from . import _render
from ._jobs import Jobs
from ._routes import One, Rows, _json
from ._sessions import LiveSession

_MANY = 2_000  # items, from which two load flows are no trifle

schemes = APIRouter(prefix="/api", responses={s: {"model": m.Problem} for s in (404, 409, 410, 413, 422)})


@schemes.get(
    "/projects/{project_id}/layers",
    summary="What the schemes that are on change, where they clash and what does not fit",
)
def layers(one: One) -> m.LayersOut:
    with one.lock:
        found = one.layers
        gone = [one.base[i] for i in found.by if i not in found.network and i in one.base]
        return m.LayersOut(
            revision=one.revision, by=found.by, added=found.added, removed=[dump_item(i) for i in gone],
            clashes=[m.ClashOut(**asdict(c)) for c in found.clashes], unfit=[m.UnfitOut(**asdict(u)) for u in found.unfit],
        )  # fmt: skip


@schemes.post("/projects/{project_id}/merge", summary="Put a scheme's changes into the present network",
              responses=_json(m.ChangedOut))  # fmt: skip
def merge(body: m.MergeIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.merge(body.base_revision, body.scheme)))


@schemes.post("/projects/{project_id}/cases", summary="Two combinations of schemes and conditions side by side",
              responses=_json(m.CasesOut))  # fmt: skip
async def cases(body: m.CasesIn, one: One, jobs: Jobs) -> Response:
    found = await solved_cases(body, one, jobs)
    return await run_in_threadpool(lambda: _render.Json(_cases(found, pictures=body.pictures)))


async def solved_cases(body: m.CasesIn, one: LiveSession, jobs: Runner) -> CaseComparison:
    """Both sides solved and compared; large ones beside the service, where they hold nobody's edit up. Raises
    :class:`InvalidFields` for a name that is not there."""
    pair = Case(**body.before.model_dump()), Case(**body.after.model_dump())
    base, revision = await run_in_threadpool(_present, one, pair)
    solved = None
    if len(base.items) > _MANY:
        inputs = Inputs(base, revision=revision)
        before, after = await asyncio.gather(*(jobs.aside(CASE, inputs, case, one.project_id) for case in pair))
        solved = before, after
    return await run_in_threadpool(compare_cases, base, *pair, solved)


def _present(one: LiveSession, pair: tuple[Case, Case]) -> tuple[Network, int]:
    """The present network and its revision. Raises :class:`InvalidFields` for a name that is not there."""
    with one.lock:
        base, revision = one.base.copy(), one.revision
    for case in pair:
        lay_case(base, case)
    return base, revision


def _cases(found: CaseComparison, *, pictures: bool) -> dict[str, Any]:
    return {
        "before": _side(found.before, pictures=pictures), "after": _side(found.after, pictures=pictures),
        "data": _render.table(found.data, with_fixed=True), "summary": _render.table(found.summary, with_fixed=True),
        "results": {n: _render.table(t, with_fixed=True) for n, t in found.results.items()},
        "findings_gained": [asdict(f) for f in found.gained], "findings_lost": [asdict(f) for f in found.lost],
    }  # fmt: skip


def _side(case: SolvedCase, *, pictures: bool) -> dict[str, Any]:
    """One side; with its network and result where a picture is to be drawn of it."""
    return {
        "title": case.title, "cost_k": case.cost_k, "years": case.years, "converged": case.result.account.converged,
        "explanation": case.result.account.explanation, "items": case.network.to_items() if pictures else [],
        "result": _render.study(case.result) if pictures else None,
    }  # fmt: skip


@schemes.post("/projects/{project_id}/phases", summary="Connect a load, a plant or a lateral to other phases",
              responses=_json(m.ChangedOut))  # fmt: skip
def phases(body: m.PhasesIn, one: One, rows: Rows = None) -> Response:
    with one.lock:
        changes = to_phases(one.network, body.ident, body.phases)
        if not changes:
            text = "it is connected there already"
            raise InvalidFields([FieldProblem(body.ident, "conductors", body.phases, text)])
        label = f"Move {one.network[body.ident].name} to {body.phases}"
        return _render.Json(_render.outcome(one.change(body.base_revision, label, changes), rows))


@schemes.get("/projects/{project_id}/phases/{ident:path}", summary="Phases that a load, a plant or a lateral can take")
def choices(ident: str, one: One) -> m.PhaseChoicesOut:
    with one.lock:
        unit = unit_of(one.network, ident)
        if unit is None:
            return m.PhaseChoicesOut(ident=ident, unit=None, now="", choices=[], elements=0)
        found = dict.fromkeys(unit.after(k) for k in range(len(unit.choices)))
        return m.PhaseChoicesOut(
            ident=ident, unit=unit.ident, now=unit.phases, choices=list(found), elements=len(unit.elements)
        )
