"""Every field of every kind blank, at its bounds and with each of its words: refused with a reason, or solved.

Whatever is accepted must compile, solve or say why not, in every study, and never raise: a project that holds it must open.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Iterator
from typing import Any

import pytest

from tests.helpers import bus, line, load, network, source, switch, transformer
from vastmesh.core.checks import run_checks
from vastmesh.core.errors import DataError
from vastmesh.core.network import REGISTRY, Network, Update, make_item, specs
from vastmesh.core.network.fields import FieldSpec
from vastmesh.core.results.state import LiveLoadFlow, LiveUnbalanced
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.workings import explain


def everything() -> Network:
    """One of every kind, small, solvable, balanced and per phase."""
    return network(
        {"kind": "settings", "id": "settings", "condition": "day"}, {"kind": "condition", "id": "day", "name": "Day"},
        {"kind": "area", "id": "area"}, {"kind": "substation", "id": "station"},
        {"kind": "voltage_limits", "id": "limits"},
        bus("h", 33.0, area="area", substation="station"), source("h"), bus("m", 11.0, conductors="ABCN"),
        bus("n", 11.0, conductors="ABCN"), bus("o", 11.0), bus("p", 11.0), bus("q", 11.0), bus("r", 11.0), bus("k", 6.0),
        transformer("h", "m", tap_step_pct=1.25, tap_min=-8, tap_max=8), switch("p", "q"),
        {"kind": "line_geometry", "id": "geometry", "r20_ohm_per_km": 0.2, "gmr_mm": 7.0, "diameter_mm": 20.0},
        {"kind": "line_matrix", "id": "matrix", "order": "ABC", "r_rows": "0.4; 0.1 0.4; 0.1 0.1 0.4",
         "x_rows": "0.8; 0.4 0.8; 0.4 0.4 0.8", "b_rows": "4; -1 4; -1 -1 4"},
        line("m", "n", conductors="ABCN"), line("m", "o", geometry="geometry", r_ohm_per_km=None, x_ohm_per_km=None),
        line("o", "p", matrix="matrix", r_ohm_per_km=None, x_ohm_per_km=None),
        {"kind": "three_winding", "id": "three", "hv_bus": "h", "mv_bus": "r", "lv_bus": "k", "hv_mva": 20.0, "mv_mva": 20.0,
         "lv_mva": 10.0, "hv_kv": 33.0, "mv_kv": 11.0, "lv_kv": 6.0, "z_hm_pct": 10.0, "z_ml_pct": 6.0, "z_hl_pct": 17.0},
        {"kind": "regulator", "id": "regulator", "from_bus": "o", "to_bus": "q", "automatic": False, "in_service": False},
        {"kind": "series_reactor", "id": "reactor", "from_bus": "n", "to_bus": "o", "x_ohm": 1.0, "in_service": False},
        load("n", 0.4, 0.1), {"kind": "lumped", "id": "lumped", "bus": "o", "active_power_mw": 0.3, "power_factor": 0.9},
        {"kind": "induction_motor", "id": "motor", "bus": "p", "rated_kw": 200.0},
        {"kind": "synchronous_motor", "id": "synchronous", "bus": "p", "rated_kw": 150.0},
        {"kind": "generator", "id": "generator", "bus": "q", "active_power_mw": 0.2, "control": "voltage", "rated_mva": 0.5,
         "q_min_mvar": -0.2, "q_max_mvar": 0.2},
        {"kind": "inverter", "id": "inverter", "bus": "n", "rated_mva": 0.3, "active_power_mw": 0.1,
         "spectrum": "Solar inverter, three-phase"},
        {"kind": "shunt", "id": "shunt", "bus": "q", "step_mvar": 0.1},
        {"kind": "filter", "id": "filter", "bus": "q", "step_mvar": 0.1, "tuned_order": 4.7},
        {"kind": "electrode", "id": "electrode", "bus": "n", "resistance_ohm": 10.0},
        {"kind": "current_transformer", "id": "ct", "at": "p|q", "primary_a": 200.0},
    )  # fmt: skip


BASE = everything()
STUDY_IN_TURN = ("linear_flow", "sensitivities", "distortion")
NOT_ELECTRICAL = ("identity", "place", "reliability", "dispatch", "years")
# What flows don't look at, and what does.
LOOKED_AT_BY: dict[str, tuple[str, dict[str, Any]]] = {
    "reliability": ("reliability", {}), "dispatch": ("optimal_flow", {"equations": "linear", "branches": "none"}),
}  # fmt: skip
KINDS = sorted({i.kind for i in BASE.items.values()})


def values_of(kind: str, field: str) -> Iterator[Any]:
    spec = specs(REGISTRY[kind])[field]
    yield None
    for bound, excluded, way in (
        (spec.minimum, spec.exclusive_minimum, 1.0),
        (spec.maximum, spec.exclusive_maximum, -1.0),
    ):
        if bound is not None:
            inside = math.nextafter(bound, bound + way * 10) if excluded else bound
            yield int(inside) if spec.type == "integer" else inside
    if spec.type in ("number", "integer"):
        yield 0
    yield from spec.choices or ()
    if spec.type == "yes_no":
        yield from (True, False)
    if field in ("conductors", "lv_conductors", "order"):
        yield from ("A", "AN", "ABC", "ABCN", "N", "BA")
    if spec.type == "reference" and not spec.terminal:
        yield "nowhere"


def first_with(field: str, spec: FieldSpec) -> str:
    """The first kind that has a field just like this one."""
    return next(k for k in KINDS if specs(REGISTRY[k]).get(field) == spec)


def test_the_network_has_every_kind_that_can_be_connected() -> None:
    connected = {k for k, c in REGISTRY.items() if getattr(c, "terminals", lambda: ())()}
    assert connected - set(KINDS) == set()
    assert LiveLoadFlow(BASE.copy()).solve().account.converged
    assert LiveUnbalanced(BASE.copy()).solve().account.converged


@pytest.mark.parametrize("kind", KINDS)
def test_every_value_is_refused_or_solved(kind: str) -> None:
    mine = [i.id for i in BASE.items.values() if i.kind == kind][:3]
    accepted = 0
    for ident in mine:
        for field, spec in specs(REGISTRY[kind]).items():
            # What an item is called and where it stands is kept, checked and told, but no study looks at it.
            electrical = spec.group not in NOT_ELECTRICAL
            if not electrical and (ident != mine[0] or first_with(field, spec) != kind):
                continue  # alike for all of a kind, and for all kinds that inherit it
            for value in values_of(kind, field):
                net = BASE.copy()
                live = LiveLoadFlow(net) if electrical else None
                before = {ident: net[ident]}
                try:
                    net.apply([Update(id=ident, values={field: value})])
                except DataError:
                    continue
                accepted += 1
                said = f"{ident}.{field} = {value!r}"
                try:
                    if live is not None:
                        live.changed([ident], before)
                        for result in (live.solve(), LiveUnbalanced(net).solve()):
                            assert result.account.converged or result.account.explanation, said
                        study = STUDIES[STUDY_IN_TURN[accepted % 3]]
                        study.run(Inputs(net), study.options(), lambda a, b: None)
                    elif spec.group in LOOKED_AT_BY:
                        name, options = LOOKED_AT_BY[spec.group]
                        with contextlib.suppress(DataError):  # refused with a reason
                            STUDIES[name].run(Inputs(net), STUDIES[name].options(**options), lambda a, b: None)
                    run_checks(net)
                    explain(net, ident)
                    Network.from_items(net.to_items())
                except Exception as error:
                    raise AssertionError(f"{said}: {error!r}") from error
    assert accepted
    assert make_item(BASE.to_items()[0])
