"""Quantities are declared once: each names a column that is there, its unit and digits, and the columns that stand for it."""

from __future__ import annotations

import pytest

from vastmesh.cli import demo_network
from vastmesh.core.results import Column, Quantity, Table, quantities_in
from vastmesh.core.results.state import LoadFlowResult, run_load_flow, run_unbalanced


@pytest.fixture(scope="module", params=[run_load_flow, run_unbalanced], ids=["balanced", "per phase"])
def result(request: pytest.FixtureRequest) -> LoadFlowResult:
    found: LoadFlowResult = request.param(demo_network()[0])
    return found


def test_what_is_declared_is_there_with_its_unit(result: LoadFlowResult) -> None:
    assert {q.name for q in result.quantities} >= {"voltage_pu", "loading_pct", "active_loss_mw", "active_power_mw"}
    for q in result.quantities:
        column = next(c for c in result.tables[q.table].columns if c.name == q.name)
        assert (column.unit or None) == q.unit, q
        assert column.digits is not None


def test_per_phase_a_quantity_has_what_stands_for_it_in_every_way() -> None:
    result = run_unbalanced(demo_network()[0])
    for q in result.quantities:
        for way, names in q.parts.items():
            columns = {c.name: c for c in result.tables[q.table].columns}
            for name in names:
                assert columns[name].view == way
                assert columns[name].unit == q.unit


def test_columns_of_figures_are_quantities_even_where_nobody_declares_them() -> None:
    table = Table("t", "T", [
        Column("id", "Id", ["a"]), Column("name", "Name", ["A"]), Column("length", "Length", [1.0], "km", 1, fixed=True),
        Column("light", "Light", [2.0], "lm", 0, "How bright"), Column("dark", "Dark", [0.0], None, 0),
    ])  # fmt: skip
    own = Quantity("dark", "Darkness", "t", None, 0, scale="around_zero")
    found = quantities_in({"t": table}, [own])
    assert [(q.name, q.label, q.scale) for q in found] == [
        ("dark", "Darkness", "around_zero"),
        ("light", "Light", "growing"),
    ]
    assert found[1].meaning == "How bright"
