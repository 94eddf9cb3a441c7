"""Workings give the figures the calculation uses, for every kind that has any."""

from __future__ import annotations

from math import sqrt

import pytest

from tests.helpers import bus, line, load, network, source, switch, transformer
from vastmesh.core.electrical.line_constants import line_constants
from vastmesh.core.network import SHOOTS, Element, LineGeometry, Network, Transformer, grow, specs
from vastmesh.core.workings import Step, explain


def steps(net: Network, ident: str) -> dict[str, Step]:
    return {s.symbol: s for w in explain(net, ident) for s in w.steps}


def test_a_load_shows_the_figures_that_were_not_entered() -> None:
    net = network(bus("a"), load("a", 3.0, 4.0))
    found = steps(net, "load-a")
    assert found["S"].value == pytest.approx(5.0)
    assert found["cos φ"].value == pytest.approx(0.6)
    assert found["I"].value == pytest.approx(5e3 / sqrt(3) / 11)
    assert {"apparent_power_mva", "power_factor", "current_a"} == {s.field for s in found.values()}


def test_a_source_shows_its_ohms() -> None:
    net = network(bus("a", 33), source("a", fault_max_mva=500.0, fault_min_mva=400.0, x_over_r=10.0))
    found = steps(net, "source-a")
    z = 33**2 / 500
    assert found["Z"].value == pytest.approx(z)
    assert (found["R"].value, found["X"].value) == pytest.approx((z / sqrt(101), 10 * z / sqrt(101)))


def test_a_transformer_shows_both_loss_and_ratio() -> None:
    net = network(bus("a", 33), bus("b"), transformer("a", "b", cooling="ONAN/ONAF"))
    by_ratio = steps(net, "a/b")
    unit = net["a/b"]
    assert isinstance(unit, Transformer)
    assert by_ratio["Pk"].value == pytest.approx(unit.impedance_pu().real * 1e4)
    assert by_ratio["S2"].value == pytest.approx(12.5)
    assert by_ratio["S2"].field == "emergency_mva"
    by_loss = steps(network(bus("a", 33), bus("b"), transformer("a", "b", x_over_r=None, load_loss_kw=60.0)), "a/b")
    assert by_loss["X/R"].value == pytest.approx(sqrt(0.08**2 - 0.006**2) / 0.006)
    assert by_loss["X/R"].field == "x_over_r"


def test_a_neutral_resistor_shows_its_ohms() -> None:
    net = network(bus("a", 33), bus("b"), transformer("a", "b", lv_neutral="resistor", lv_neutral_a=1000.0))
    shown = [s for w in explain(net, "a/b") for s in w.steps if s.field == "lv_neutral_ohm"]
    assert shown[0].value == pytest.approx(11e3 / sqrt(3) / 1000)


def test_line_workings_show_every_term_of_the_matrix() -> None:
    geometry = {"kind": "line_geometry", "id": "g", "r20_ohm_per_km": 0.19, "gmr_mm": 7.0, "diameter_mm": 18.0,
                "earth_wires": 1}  # fmt: skip
    net = network(bus("a"), bus("b"), geometry, {"kind": "line", "id": "l", "from_bus": "a", "to_bus": "b", "length_km": 2.0,
                                                 "geometry": "g"})  # fmt: skip
    matrices = [m for w in explain(net, "l") for m in w.matrices]
    primitive = matrices[0]
    assert primitive.names == ("A", "B", "C", "W")
    assert len(primitive.terms) == 10, "each entry on and above the diagonal"
    g = net["g"]
    assert isinstance(g, LineGeometry)
    exact = line_constants(g, 50)
    assert complex(*primitive.rows[0][3]) == pytest.approx(exact.primitive[0, 3])
    # The terms carry the figures: the last number of each is the entry.
    for term in primitive.terms:
        name = term.split(" ")[0]
        value = (
            term.rpartition("= ")[2].replace("−", "-").replace("+ j", "+").replace("- j", "-").replace(" ", "") + "j"
        )
        i, k = (primitive.names.index(c) for c in (name[1], name[2]))
        assert complex(value) == pytest.approx(complex(*primitive.rows[i][k]), abs=1e-5), term
    fields = {s.field for w in explain(net, "l") for s in w.steps if s.field}
    assert {"r_ohm_per_km", "x_ohm_per_km", "b_us_per_km", "r0_ohm_per_km"} <= fields


def test_switchgear_shows_what_it_carries_and_breaks() -> None:
    net = network(bus("a"), source("a", fault_max_mva=200.0, fault_min_mva=150.0), bus("b"),
                  switch("a", "b", rating_a=630.0, plug_a=500.0, breaking_ka=20.0))  # fmt: skip
    found = steps(net, "a|b")
    assert found["Iz"].value == 500.0
    assert found["I″k"].value == pytest.approx(200 / sqrt(3) / 11)


@pytest.mark.parametrize("what", sorted(SHOOTS))
def test_everything_that_grows_can_be_explained(what: str) -> None:
    net = network(bus("a", 33.0), source("a"), bus("z", 33.0), line("a", "z", length_km=3.0))
    at = "a" if "bus" in SHOOTS[what].at else "a-z"
    done = net.apply(grow(net, at, what).changes)
    for ident in done.changed:
        item = net[ident]
        for working in explain(net, ident):
            assert working.title
            for step in working.steps:
                assert step.label
                assert step.formula or working.ledger  # what a sheet is given has none
                if step.field:
                    assert step.field in specs(type(item)), f"{ident}: {step.field}"
        if isinstance(item, Element) and item.kind not in ("bus", "switch", "regulator", "series_reactor"):
            assert explain(net, ident), f"{item.kind} says nothing"
