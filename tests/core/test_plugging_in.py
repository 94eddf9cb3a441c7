"""A new kind of element plugs in by its model and its stamp alone."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np
import pytest

from tests.helpers import bus, column, network, source
from vastmesh.core.electrical.arrays import Columns
from vastmesh.core.electrical.stamps import STAMPS, Context, stamp
from vastmesh.core.electrical.stamps import column as field_column
from vastmesh.core.network import REGISTRY, Element
from vastmesh.core.network.fields import quantity, reference
from vastmesh.core.results.state import run_load_flow


@pytest.fixture
def kettle() -> Iterator[None]:
    """A made-up kind: a resistance across a bus, registered for one test."""

    class Kettle(Element):
        label, plural = "Kettle", "Kettles"
        kind: Literal["kettle"] = "kettle"
        bus: str = reference("Bus", "Where it is plugged in", to="bus", terminal=True)
        heat_mw: float | None = quantity("Heat", "Power at nominal voltage", unit="MW", ge=0, required=True)

    @stamp(Kettle)
    def rows(kettles: Sequence[Kettle], ctx: Context) -> dict[str, Columns]:
        return {"shunt": {
            "element": np.arange(len(kettles)), "bus": ctx.rows([k.bus for k in kettles]),
            "y": field_column(kettles, "heat_mw") / ctx.base_mva + 0j,
        }}  # fmt: skip

    yield
    del REGISTRY["kettle"], STAMPS["kettle"]


@pytest.mark.usefixtures("kettle")
def test_a_new_kind_is_validated_solved_and_listed() -> None:
    net = network(bus("a"), source("a", voltage_pu=1.1), {"kind": "kettle", "id": "k", "bus": "a", "heat_mw": 2.0})
    result = run_load_flow(net)
    assert column(result, "injections", "active_power_mw")["k"] == pytest.approx(2.0 * 1.1**2)
    gap = network(bus("a"), source("a"), {"kind": "kettle", "id": "k", "bus": "a"})
    assert run_load_flow(gap).findings[0].text == "left out: heat missing"
