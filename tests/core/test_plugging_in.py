"""A new kind of element plugs in by its model, its stamps and its shoot: nothing else knows it, and everything shows it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np
import pytest

from tests.helpers import bus, column, network, source
from vastmesh.core.checks import run_checks
from vastmesh.core.electrical.arrays import Columns
from vastmesh.core.electrical.conductor import stamps as per_phase
from vastmesh.core.electrical.conductor._builder import Builder
from vastmesh.core.electrical.stamps import STAMPS, Context, stamp
from vastmesh.core.electrical.stamps import column as field_column
from vastmesh.core.network import REGISTRY, SHOOTS, Element, Network, Role, grow, role_of, specs
from vastmesh.core.network.fields import quantity, reference
from vastmesh.core.network.grow import Shoot
from vastmesh.core.results.state import run_load_flow, run_unbalanced
from vastmesh.exchange import element_table, read_document, write_document


def made_up() -> type[Element]:
    """A resistance across a bus."""

    class Kettle(Element):
        label, plural = "Kettle", "Kettles"
        role = Role.SHUNT
        kind: Literal["kettle"] = "kettle"
        bus: str = reference("Bus", "Where it is plugged in", to="bus", terminal=True)
        heat_mw: float | None = quantity("Heat", "Power at nominal voltage", unit="MW", ge=0, required=True)

    return Kettle


@pytest.fixture
def kettle() -> Iterator[None]:
    kind = made_up()

    @stamp(kind)
    def rows(kettles: Sequence[Element], ctx: Context) -> dict[str, Columns]:
        return {"shunt": {
            "element": np.arange(len(kettles)), "bus": ctx.rows([k.buses()[0] for k in kettles]),
            "y": field_column(kettles, "heat_mw") / ctx.base_mva + 0j,
        }}  # fmt: skip

    @per_phase.stamp(kind)
    def legs(kettles: Sequence[Element], b: Builder) -> None:
        for i, k in enumerate(kettles):
            volts = b.phase_v[b.bus_row[k.buses()[0]]]
            for n, c in enumerate(b.present(k.id, "ABC", k.buses()[0])):
                y = k.heat_mw * 1e6 / 3 / volts**2  # type: ignore[attr-defined]
                b.between(i, 0, n, b.key(k.buses()[0], c), b.earth_key, y)

    SHOOTS["kettle"] = Shoot(
        "kettle", "Kettle", "Something hot", lambda g: g.hang("kettle", f"Kettle {g.bus.name}", {"heat_mw": 1.0})
    )
    yield
    del REGISTRY["kettle"], STAMPS["kettle"], per_phase.STAMPS["kettle"], SHOOTS["kettle"]


@pytest.fixture
def nothing_known() -> Iterator[None]:
    made_up()
    yield
    del REGISTRY["kettle"]


def boiling(**values: float) -> Network:
    return network(bus("a"), source("a", voltage_pu=1.1), {"kind": "kettle", "id": "k", "bus": "a", **values})


@pytest.mark.usefixtures("kettle")
def test_a_new_kind_is_validated_solved_and_listed() -> None:
    net = boiling(heat_mw=2.0)
    for solve in (run_load_flow, run_unbalanced):
        result = solve(net)
        assert column(result, "injections", "active_power_mw")["k"] == pytest.approx(2.0 * 1.1**2, rel=1e-6)
        assert result.summary["shunt_mw"] == pytest.approx(2.0 * 1.1**2, rel=1e-6)
        gap = solve(boiling())
        assert [f.text for f in gap.findings if f.element == "k"] == ["left out: heat missing"]
    assert [c.text for c in run_checks(boiling()) if c.element == "k"]


@pytest.mark.usefixtures("kettle")
def test_it_is_grown_kept_in_files_and_stands_in_tables_and_card() -> None:
    net = boiling(heat_mw=2.0)
    plan = grow(net, "a", "kettle")
    net.apply(plan.changes)
    assert net[plan.select].origins == {"heat_mw": "typical"}  # type: ignore[attr-defined]
    table = element_table(net, "kettle")
    assert len(table) == 2
    assert "heat_mw" in [c.name for c in table.columns]
    again = read_document(write_document(net, "Hot"))
    assert again.network.to_items() == net.to_items()
    assert specs(type(net["k"]))["heat_mw"].label == "Heat"
    assert role_of("kettle") is Role.SHUNT


@pytest.mark.usefixtures("nothing_known")
def test_a_kind_that_no_flow_knows_is_named_and_not_skipped_in_silence() -> None:
    net = boiling(heat_mw=2.0)
    for solve, words in ((run_load_flow, "balanced load flow"), (run_unbalanced, "load flow per phase")):
        result = solve(net)
        assert result.account.converged
        assert any(f.element == "k" and words in f.text and "kettle" in f.text for f in result.findings)
