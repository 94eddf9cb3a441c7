"""Routes of the per-phase work: schemes, comparison of cases, other phases, phasors."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from fastapi import APIRouter, Response

from ..core.errors import FieldProblem, InvalidFields
from ..core.network import Bus, Element, to_phases, units
from ..core.studies.schemes import Case, CaseComparison, SolvedCase, compare_cases
from . import _models as m
from . import _render
from ._routes import One, _json

schemes = APIRouter(prefix="/api", responses={s: {"model": m.Problem} for s in (404, 409, 410, 413, 422)})
_CONDUCTORS = ("A", "B", "C", "N")


@schemes.get(
    "/projects/{project_id}/layers",
    summary="What the schemes that are on change, where they clash and what does not fit",
)
def layers(one: One) -> m.LayersOut:
    with one.lock:
        found = one.layers
        return m.LayersOut(
            revision=one.revision, by=found.by, added=found.added,
            clashes=[m.ClashOut(**asdict(c)) for c in found.clashes], unfit=[m.UnfitOut(**asdict(u)) for u in found.unfit],
        )  # fmt: skip


@schemes.post("/projects/{project_id}/merge", summary="Put a scheme's changes into the present network",
              responses=_json(m.ChangedOut))  # fmt: skip
def merge(body: m.MergeIn, one: One) -> Response:
    return _render.Json(_render.outcome(one.merge(body.base_revision, body.scheme)))


@schemes.post("/projects/{project_id}/cases", summary="Two combinations of schemes and conditions side by side",
              responses=_json(m.CasesOut))  # fmt: skip
def cases(body: m.CasesIn, one: One) -> Response:
    with one.lock:
        base = one.base.copy()
    found = compare_cases(base, Case(**body.before.model_dump()), Case(**body.after.model_dump()))
    return _render.Json(_cases(found, pictures=body.pictures))


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
def phases(body: m.PhasesIn, one: One) -> Response:
    with one.lock:
        changes = to_phases(one.network, body.ident, body.phases)
        if not changes:
            text = "it is connected there already"
            raise InvalidFields([FieldProblem(body.ident, "conductors", body.phases, text)])
        label = f"Move {one.network[body.ident].name} to {body.phases}"
        return _render.Json(_render.outcome(one.change(body.base_revision, label, changes)))


@schemes.get("/projects/{project_id}/phases/{ident:path}", summary="Phases that a load, a plant or a lateral can take")
def choices(ident: str, one: One) -> m.PhaseChoicesOut:
    with one.lock:
        item = one.network[ident]
        if not isinstance(item, Element) or isinstance(item, Bus):
            return m.PhaseChoicesOut(ident=ident, unit=None, now="", choices=[], elements=0)
        near = set(item.buses())
        unit = next((u for u in units(one.network, near) if ident in u.elements), None) or next(
            (u for u in units(one.network) if ident in u.elements), None
        )
        if unit is None:
            return m.PhaseChoicesOut(ident=ident, unit=None, now="", choices=[], elements=0)
        found = dict.fromkeys(unit.after(k) for k in range(len(unit.choices)))
        return m.PhaseChoicesOut(
            ident=ident, unit=unit.ident, now=unit.phases, choices=list(found), elements=len(unit.elements)
        )


@schemes.get("/projects/{project_id}/phasors", summary="Voltages and currents of every conductor at chosen elements")
def phasors(ids: str, one: One) -> m.PhasorsOut:
    """``ids``: buses and branches, parted by line feeds; at most 60."""
    wanted = [i for i in ids.split("\n") if i][:60]
    with one.lock:
        reading = one.phasors()
        items = {i: one.network.items.get(i) for i in wanted}
        revision = one.revision
    if reading is None:
        return m.PhasorsOut(revision=revision, tiles=[])
    a = reading.arrays
    bus_row, element = {b: i for i, b in enumerate(a.bus_id)}, {e: i for i, e in enumerate(a.element_id)}
    tiles = []
    for ident, item in items.items():
        if isinstance(item, Bus) and ident in bus_row:
            row = bus_row[ident]
            volts = np.r_[reading.to_neutral[row], reading.bus_v[row, 3]]
            tiles.append(_tile(ident, item.name, "voltage", "V", volts, float(a.phase_v[row])))
        elif isinstance(item, Element) and ident in element:
            two = len(item.buses()) > 1
            flows = reading.switch_flows
            if ident in flows:
                amps = flows[ident]
            else:
                amps = (
                    reading.element_current[element[ident], 0]
                    if two
                    else reading.injection_phase_current[element[ident]]
                )
            rated = float(a.rating[element[ident]])
            tiles.append(_tile(ident, item.name, "current", "A", amps, rated if np.isfinite(rated) else None))
    return m.PhasorsOut(revision=revision, tiles=tiles)


def _tile(ident: str, name: str, what: str, unit: str, values: np.ndarray, nominal: float | None) -> m.PhasorTile:
    arrows = [
        m.Phasor(conductor=c, size=float(abs(v)), angle_deg=float(np.degrees(np.angle(v))))
        for c, v in zip(_CONDUCTORS, values, strict=True)
        if np.isfinite(v.real) and (what == "voltage" or abs(v) > 1e-6)
    ]
    return m.PhasorTile(id=ident, name=name, what=what, unit=unit, nominal=nominal, arrows=arrows)
