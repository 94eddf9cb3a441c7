"""Lines given by matrices, phases that a line lacks, and zero sequence through windings: against closed forms."""

from __future__ import annotations

from math import log, pi, sqrt
from typing import Any

import numpy as np
import pytest

from tests.helpers import assert_balanced, bus, column, line, load, network, source, transformer, volts
from vastmesh.core.checks import run_checks
from vastmesh.core.electrical import compile_network
from vastmesh.core.electrical.conductor import compile_conductors
from vastmesh.core.electrical.conductor._lines import LineKey, conductor_matrix
from vastmesh.core.electrical.line_constants import geometry_wires, line_constants, primitive_impedance
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Line, LineGeometry, LineMatrix, Network, Transformer, Update
from vastmesh.core.results.state import LiveLoadFlow, LiveUnbalanced, run_load_flow, run_unbalanced
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.workings import explain

MATRIX = {
    "kind": "line_matrix", "id": "m", "order": "ABCN", "r_rows": "0.4; 0.1 0.42; 0.1 0.1 0.44; 0.1 0.1 0.1 0.7",
    "x_rows": "0.9; 0.5 0.92; 0.4 0.45 0.94; 0.42 0.43 0.41 1.1", "b_rows": "5; -1 5.2; -0.6 -0.9 5.1; -0.8 -0.7 -0.9 4.8",
}  # fmt: skip
BARE = {"r_ohm_per_km": None, "x_ohm_per_km": None}


def full(rows: str) -> np.ndarray:
    """Symmetric matrix of a lower triangle, read apart from the program."""
    parts = [[float(v) for v in r.split()] for r in rows.split(";")]
    n = len(parts)
    return np.array([[parts[max(i, j)][min(i, j)] for j in range(n)] for i in range(n)])


Z = full(str(MATRIX["r_rows"])) + 1j * full(str(MATRIX["x_rows"]))
B = full(str(MATRIX["b_rows"]))


def with_matrix(**more: Any) -> Network:
    return network(
        bus("a", conductors="ABCN"), bus("b", conductors="ABCN"), source("a"), MATRIX,
        line("a", "b", length_km=3.0, matrix="m", conductors="ABCN", **{**BARE, **more}), load("b", 3.0, 1.0),
    )  # fmt: skip


def earthed_sequence() -> complex:
    """Z1 of the matrix with the neutral at zero volts, phases transposed."""
    z = Z[:3, :3] - np.outer(Z[:3, 3], Z[3, :3]) / Z[3, 3]
    return complex(np.trace(z) / 3 - (z.sum() - np.trace(z)) / 6)


# Lines


def test_a_line_given_by_a_matrix_alone_is_solved_balanced_everywhere() -> None:
    """V² solves the quadratic of a load behind Z1; every other study runs as well."""
    net = with_matrix()
    arrays = compile_network(net)
    base = 11.0**2 / arrays.base_mva
    branch = arrays.tables["branch"]
    z1 = earthed_sequence() * 3.0
    assert complex(branch["r"][0], branch["x"][0]) * base == pytest.approx(z1, rel=1e-12)
    b1 = B[:3, :3].trace() / 3 - (B[:3, :3].sum() - B[:3, :3].trace()) / 6
    assert branch["shunt_from"][0] / base == pytest.approx(0.5j * b1 * 3e-6, rel=1e-12)
    result = run_load_flow(net)
    assert_balanced(net, result)
    s = complex(3.0, 1.0)
    own = volts(result)["b"] * 11.0
    current = np.conj(s / own) + own * 0.5j * b1 * 3e-6
    assert own + z1 * current == pytest.approx(11.0, abs=1e-6)
    for name in ("linear_flow", "sensitivities", "sweep"):
        study = STUDIES[name]
        assert study.run(Inputs(net), study.options(), lambda share, words: None).account.converged
    assert not [c for c in run_checks(net) if c.rule == "missing"]


def test_blanking_the_constants_of_a_line_with_a_matrix_is_an_edit_like_any_other() -> None:
    net = with_matrix(r_ohm_per_km=0.3, x_ohm_per_km=0.4)
    live = LiveLoadFlow(net)
    before = column(live.solve(), "buses", "voltage_pu")["b"]
    for values in ({"matrix": None}, {"matrix": "m"}, {"r_ohm_per_km": None}, {"x_ohm_per_km": None}):
        previous = {"a-b": net["a-b"]}
        net.apply([Update(id="a-b", values=values)])
        live.changed(["a-b"], previous)
        result = live.solve()
        assert result.account.converged
        cold = column(run_load_flow(net), "buses", "voltage_pu")["b"]
        assert column(result, "buses", "voltage_pu")["b"] == pytest.approx(cold, abs=1e-7)
    assert column(result, "buses", "voltage_pu")["b"] == pytest.approx(before, abs=1e-7)


def test_the_workings_of_such_a_line_show_its_matrix() -> None:
    found = explain(with_matrix(), "a-b")
    shown = next(w for w in found if w.matrices)
    assert shown.matrices[0].rows[2][1] == (0.1, 0.45)
    z1 = earthed_sequence()
    assert f"{z1.real:.5f} + j{z1.imag:.5f}" in [s.value for s in shown.steps if s.symbol == "Z1"]


def key(e: Line, conductors: str, **more: Any) -> LineKey:
    return LineKey.of(e, conductors, 50.0, more.get("matrix"), more.get("geometry"))


@pytest.mark.parametrize("conductors", ["A", "AB", "AC", "BC", "ABC", "AN", "BCN", "ABCN"])
def test_a_phase_that_is_not_there_carries_neither_current_nor_charge(conductors: str) -> None:
    """Series: its rows fall away. Shunt: of the potential coefficients, the inverse of susceptance, they do."""
    e = Line.model_validate(line("a", "b", matrix="m", conductors=conductors, **BARE))
    z, b = conductor_matrix(key(e, conductors, matrix=LineMatrix.model_validate(MATRIX)))
    rows = ["ABCN".index(c) for c in conductors]
    np.testing.assert_allclose(z, Z[np.ix_(rows, rows)], rtol=1e-12)
    np.testing.assert_allclose(b, np.linalg.inv(np.linalg.inv(B)[np.ix_(rows, rows)]), rtol=1e-12)


def test_a_reduced_neutral_is_eliminated_and_an_absent_phase_is_not() -> None:
    e = Line.model_validate(line("a", "b", matrix="m", conductors="BN", neutral="reduced", **BARE))
    z, b = conductor_matrix(key(e, "BN", matrix=LineMatrix.model_validate(MATRIX)))
    assert z[0, 0] == pytest.approx(Z[1, 1] - Z[1, 3] ** 2 / Z[3, 3], rel=1e-12)
    without = np.linalg.inv(np.linalg.inv(B)[np.ix_([1, 3], [1, 3])])
    assert b[0, 0] == pytest.approx(without[0, 0], rel=1e-12), "the neutral is at zero volts, A and C are not there"


OVERHEAD = {"kind": "line_geometry", "id": "g", "r20_ohm_per_km": 0.3, "gmr_mm": 5.0, "diameter_mm": 14.0, "transposed": False,
            "a_x_m": -1.2, "b_x_m": 0.1, "c_x_m": 1.3, "a_y_m": 9.0, "b_y_m": 9.6, "c_y_m": 9.1}  # fmt: skip
CABLE = {"kind": "line_geometry", "id": "g", "construction": "cable", "r20_ohm_per_km": 0.2, "gmr_mm": 6.0, "diameter_mm": 16.0,
         "transposed": False, "spacing_m": 0.2, "formation": "flat"}  # fmt: skip


def of_geometry(data: dict[str, Any], conductors: str) -> tuple[np.ndarray, np.ndarray]:
    e = Line.model_validate(line("a", "b", geometry="g", conductors=conductors, **BARE))
    return conductor_matrix(key(e, conductors, geometry=LineGeometry.model_validate(data)))


def test_one_wire_over_earth_has_its_own_capacitance() -> None:
    """C = 2π ε0 / ln(2h / r), whatever else the tower could carry."""
    for phases in ("ABC", "A"):
        z, b = of_geometry({**OVERHEAD, "phases": phases}, "A")
        c = 2 * pi * 8.854187817e-9 / log(2 * 9.0 / 7e-3)
        assert b[0, 0] == pytest.approx(2 * pi * 50 * c * 1e6, rel=1e-9)
        wires, _ = geometry_wires(LineGeometry.model_validate(OVERHEAD))
        assert z[0, 0] == pytest.approx(primitive_impedance(wires, 50.0, 100.0)[0, 0], rel=1e-12)


def test_one_core_of_a_screened_cable_has_its_own_screen_alone() -> None:
    g = LineGeometry.model_validate(CABLE)
    wires, _ = geometry_wires(g)
    p = primitive_impedance(wires, 50.0, g.earth_ohm_m)
    z, _ = of_geometry(CABLE, "B")
    assert z[0, 0] == pytest.approx(p[1, 1] - p[1, 4] ** 2 / p[4, 4], rel=1e-12)
    beside_others = line_constants(g, 50.0).z[1, 1]
    assert abs(beside_others - z[0, 0]) > 0.01 * abs(z[0, 0]), "the other screens would take current too"


@pytest.mark.parametrize("phases", ["ABC", "AB", "B"])
def test_screens_together_are_a_neutral_of_their_own(phases: str) -> None:
    """With currents in the cores and their return in the screens, all screens drop the same."""
    g = LineGeometry.model_validate({**CABLE, "neutral": "kept", "phases": phases})
    found = line_constants(g, 50.0)
    assert found.phases == (*phases, "N")
    wires, _ = geometry_wires(g, phases)
    p, k = primitive_impedance(wires, 50.0, g.earth_ohm_m), len(phases)
    rng = np.random.default_rng(1)
    i = rng.normal(size=k + 1) + 1j * rng.normal(size=k + 1)
    drop = found.z @ i
    # Unknown: the share of each screen; known: their sum, and that they drop alike.
    rows = np.zeros((k + 1, k + 1), complex)
    rows[:k, :k], rows[:k, k], rows[k, :k] = p[k:, k:], -1.0, 1.0
    shares = np.linalg.solve(rows, np.r_[-p[k:, :k] @ i[:k], i[k]])
    everything = p @ np.r_[i[:k], shares[:k]]
    np.testing.assert_allclose(drop, np.r_[everything[:k], shares[k]], rtol=1e-10)
    np.testing.assert_allclose(found.y.sum(axis=1), 0, atol=1e-18)


def test_cables_without_screens_have_no_concentric_neutral() -> None:
    with pytest.raises(InvalidFields, match="no concentric neutral"):
        network({**CABLE, "screen": "none", "neutral": "kept"})


def test_a_geometry_without_a_phase_is_told_where_it_is_asked_for() -> None:
    net = network(bus("a"), bus("b"), source("a"), {**OVERHEAD, "phases": "AC"},
                  line("a", "b", geometry="g", conductors="ABC", **BARE), load("b", 0.1, conductors="AC"))  # fmt: skip
    assert any("no conductor B" in c.text for c in run_checks(net) if c.element == "a-b")
    assert run_unbalanced(net).account.converged


# Windings


def test_zero_sequence_flows_round_the_delta_of_a_star_delta_unit() -> None:
    """YNd11 beside a load on one phase: its star draws I0 = V0 / Z0, and nothing of the positive sequence."""
    net = network(
        bus("a", 12.47, conductors="ABCN"), source("a", fault_max_mva=200.0, fault_min_mva=100.0),
        bus("b", 12.47, conductors="ABCN"), line("a", "b", length_km=5.0, conductors="ABCN"), bus("c", 0.48),
        transformer("b", "c", 12.47, 0.48, vector_group="YNd11", rated_mva=1.0, impedance_pct=5.0, z0_pct=5.0,
                    hv_neutral="solid", iron_loss_kw=0.0),
        load("b", 1.5, 0.5, conductors="AN"),
    )  # fmt: skip
    live = LiveUnbalanced(net)
    result = live.solve()
    row = next(r for r in result.tables["branches"].records() if r["id"] == "b/c")
    reading = live.reading()
    assert reading is not None
    nodes = reading.arrays.node[reading.arrays.bus_id.index("b"), :3]
    v0 = abs((reading.attempt.v * live.problem.base_v)[live.problem.row[nodes]].mean())
    assert v0 > 50
    assert v0 / row["zero_current_a"] == pytest.approx(0.05 * 12.47**2 / 1.0, rel=1e-6)
    assert row["positive_current_a"] < 1e-6


@pytest.mark.parametrize(("group", "order"), [("Dyn11", "abc"), ("Dyn5", "abc"), ("Dyn1", "cab"), ("Dyn7", "cab")])
def test_taps_of_a_delta_star_unit_act_phase_by_phase(group: str, order: str) -> None:
    """Without load each star leg has the ratio of the delta winding on its limb: 1 / (1 + 2.5 % times the tap)."""
    net = network(
        bus("a", 33.0), source("a", fault_max_mva=1e6, fault_min_mva=1e6), bus("c", conductors="ABCN"),
        transformer("a", "c", vector_group=group, iron_loss_kw=0.0, no_load_current_pct=0.0, lv_neutral="solid",
                    tap_step_pct=2.5, tap_min=-4, tap_max=4, taps="per_phase", tap_a=-2, tap_b=1, tap_c=3),
    )  # fmt: skip
    result = run_unbalanced(net)
    row = next(r for r in result.tables["buses"].records() if r["id"] == "c")
    each = dict(zip("abc", (1 / (1 + 0.025 * t) for t in (-2, 1, 3)), strict=True))
    expected = [each[k] for k in order]
    assert [row[f"phase_{p}_voltage_pu"] for p in "abc"] == pytest.approx(expected, rel=1e-9)


def seen_zero_sequence_pct(net: Network, kind: str, at: str) -> complex:
    """Zero-sequence impedance of a unit alone seen from a bus, other terminals open, % of 100 MVA."""
    a = compile_conductors(net)
    t, n = a.terminal_node(), a.n_node
    y = np.zeros((n, n), complex)
    for r, c, value in zip(a.t_row, a.t_col, a.t_y, strict=True):
        if a.element_kind[a.terminal["element"][r]] == kind and t[r] >= 0 and t[c] >= 0:
            y[t[r], t[c]] += value
    here = a.node[a.bus_id.index(at), :3]
    others = [k for k in range(n) if k not in here and abs(y[k, k]) > 0]
    inner = np.linalg.pinv(y[np.ix_(others, others)])
    seen = y[np.ix_(here, here)] - y[np.ix_(here, others)] @ inner @ y[np.ix_(others, here)]
    kv = a.bus_kv[a.bus_id.index(at)]
    return complex(100 / (seen.sum() / 3) / (kv**2 / 100))


@pytest.mark.parametrize(
    ("mv_neutral", "expected"), [("isolated", 7.0), ("solid", 7.0)], ids=["isolated star", "earthed star, open"]
)
def test_the_zero_sequence_of_three_windings_is_that_of_the_legs_that_carry_it(
    mv_neutral: str, expected: float
) -> None:
    """YNy(n)0d11 with 5, 7 and 4 %: seen from HV the delta closes the path, 7 %; an open or isolated star adds nothing."""
    net = network(
        bus("h", 132.0), source("h"), bus("m", 33.0), bus("l"),
        {"kind": "three_winding", "id": "t", "hv_bus": "h", "mv_bus": "m", "lv_bus": "l", "hv_kv": 132.0, "mv_kv": 33.0,
         "lv_kv": 11.0, "hv_mva": 100.0, "mv_mva": 100.0, "lv_mva": 100.0, "z_hm_pct": 5.0, "z_hl_pct": 7.0, "z_ml_pct": 4.0,
         "hv_neutral": "solid", "mv_neutral": mv_neutral, "mv_clock": 0, "lv_clock": 11},
    )  # fmt: skip
    assert abs(seen_zero_sequence_pct(net, "three_winding", "h")) == pytest.approx(expected, rel=1e-6)


GROUPS = {"Y": ("y", "yn", "d", "z", "zn"), "YN": ("y", "yn", "d", "z", "zn"), "D": ("y", "yn", "d", "z", "zn"),
          "Z": ("y", "yn"), "ZN": ("y", "yn")}  # fmt: skip


@pytest.mark.parametrize("hv", GROUPS)
@pytest.mark.parametrize("clock", range(12))
def test_only_clock_numbers_that_windings_can_have_are_accepted(hv: str, clock: int) -> None:
    """Windings of one kind turn by 60° at a time, a delta or zigzag beside a star by 30° more."""
    for lv in GROUPS[hv]:
        alike = (hv[0] == "Y") == (lv[0] == "y")
        data = transformer("a", "b", vector_group=f"{hv}{lv}{clock}")
        if (clock % 2 == 0) == alike:
            assert Transformer.model_validate(data).clock() == clock
        else:
            with pytest.raises(InvalidFields, match=f"{hv}{lv}{(clock + 1) % 12}") as caught:
                network(bus("a", 33.0), bus("b"), data)
            assert f"{hv}{lv}{clock}," not in str(caught.value).split("there are")[1]


# Demand


def test_unequal_demand_in_star_without_neutral_draws_what_was_entered() -> None:
    """28 + j8 kVA once came to 25 + j5.3: the total is held, and what was done is told."""
    each = {"p_a_mw": 0.016, "q_a_mvar": 0.001, "p_b_mw": 0.008, "q_b_mvar": 0.004, "p_c_mw": 0.004, "q_c_mvar": 0.003}
    demand = {"kind": "load", "id": "d", "bus": "b", "conductors": "ABC", **each}
    net = network(bus("a", 0.4), bus("b", 0.4), source("a"), line("a", "b", length_km=0.01), demand)
    row = next(r for r in run_unbalanced(net).tables["injections"].records() if r["id"] == "d")
    assert complex(row["active_power_mw"], row["reactive_power_mvar"]) == pytest.approx(0.028 + 0.008j, rel=1e-9)
    assert any("star point floats" in c.text for c in run_checks(net) if c.element == "d")
    alone = {"kind": "load", "id": "d", "bus": "b", "conductors": "ABC", "p_a_mw": 0.01, "q_a_mvar": 0.0}
    told = run_checks(network(bus("a", 0.4), bus("b", 0.4), source("a"), line("a", "b", length_km=0.01), alone))
    assert any("no way back" in c.text for c in told)


# What counts for nothing


@pytest.mark.parametrize(
    ("item", "field"),
    [
        (transformer("a", "b", tap_step_pct=1.0, tap_min=-2, tap_max=2, tap_b=1), "tap_b"),
        (line("b", "c", construction="cable", neutral="reduced", conductors="ABCN"), "neutral"),
        ({"kind": "shunt", "id": "cap", "bus": "b", "step_mvar": 0.1, "rated_kv": 0.4}, "rated_kv"),
    ],
)  # fmt: skip
def test_fields_that_count_for_nothing_are_told_and_mended(item: dict[str, Any], field: str) -> None:
    base = [bus("a", 33.0), source("a"), bus("b", conductors="ABCN"), bus("c", conductors="ABCN"), load("c", 0.1)]
    if item["kind"] != "transformer":
        base.append(transformer("a", "b"))
    net = network(*base, item)
    rules = ("ignored", "voltage")
    told = [c for c in run_checks(net) if c.rule in rules and c.field == field and c.element == item["id"]]
    assert len(told) == 1
    assert told[0].repair is not None
    net.apply(told[0].repair.changes)
    assert not [c for c in run_checks(net) if c.rule in rules and c.field == field and c.element == item["id"]]


def test_a_capacitor_of_low_voltage_on_a_high_one_is_told_with_what_it_would_give() -> None:
    cap = {"kind": "shunt", "id": "cap", "bus": "b", "step_mvar": 0.1, "rated_kv": 0.4}
    net = network(bus("b", 11.0), source("b"), cap)
    assert any(f"{100 * (11 / 0.4) ** 2:.4g} %" in c.text for c in run_checks(net) if c.element == "cap")


# Sources and centre taps


def sequences(phases: np.ndarray) -> np.ndarray:
    """Zero, positive and negative sequence."""
    a = np.exp(2j * pi / 3)
    return np.array([[1, 1, 1], [1, a, a * a], [1, a * a, a]]) @ phases / 3


def unbalanced_source(load_ohm: tuple[float, float, float], **more: Any) -> tuple[np.ndarray, np.ndarray]:
    """Voltages and currents of the phases at a source that feeds three resistances to a solidly earthed neutral, p.u. of the
    phase voltage and of it over the source's impedance; by hand from the program's own voltages: I = V / R."""
    each = {f"p_{k}_mw": (11.0**2 / 3) / r for k, r in zip("abc", load_ohm, strict=True)}
    net = network(
        bus("a", conductors="ABCN", neutral="earthed"), source("a", fault_max_mva=121.0, fault_min_mva=100.0, x_over_r=0.0,
                                                                 neutral="solid", **more),
        {"kind": "load", "id": "d", "bus": "a", "conductors": "ABCN", "constant_power_pct": 0.0,
         "constant_impedance_pct": 100.0, **each},
    )  # fmt: skip
    live = LiveUnbalanced(net)
    assert live.solve().account.converged
    reading = live.reading()
    assert reading is not None
    v = reading.to_neutral[0] / (11e3 / sqrt(3))
    assert np.max(reading.kirchhoff) < 1e-9
    return v, v / np.array(load_ohm)


def test_an_unbalanced_source_has_its_sequences_behind_its_impedance() -> None:
    """1 Ω behind 3 % of negative and 2 % of zero sequence: V = E − Z I in each sequence, V1 held."""
    v, i = unbalanced_source((20.0, 30.0, 60.0), negative_pct=3.0, negative_deg=40.0, zero_pct=2.0, zero_deg=-70.0)
    zero, positive, negative = sequences(v)
    own = sequences(i)
    assert positive == pytest.approx(1.0, abs=1e-9)
    assert negative == pytest.approx(0.03 * np.exp(1j * np.radians(40)) - 1.0 * own[2], abs=1e-9)
    assert zero == pytest.approx(0.02 * np.exp(-1j * np.radians(70)) - 1.0 * own[0], abs=1e-9)


def test_an_ideal_source_holds_all_three_voltages_whatever_they_draw() -> None:
    v, _ = unbalanced_source((5.0, 50.0, 500.0), ideal=True, negative_pct=1.0)
    assert sequences(v) == pytest.approx(np.array([0.0, 1.0, 0.01]), abs=1e-5)
    real, _ = unbalanced_source((5.0, 50.0, 500.0))
    assert abs(sequences(real)[2]) > 0.03


@pytest.mark.parametrize("share", [0.0, 40.0, 80.0])
def test_a_centre_tapped_unit_divides_its_leakage_between_windings(share: float) -> None:
    """One half loaded alone drops Z (1 − s/2), both alike Z, per unit of a half on half the rating."""
    drops = []
    for halves in ((1.0, 0.0), (1.0, 1.0)):
        loads = [
            {"kind": "load", "id": f"d{c}", "bus": "b", "conductors": f"{c}N", "active_power_mw": 0.0125 * s,
             "reactive_power_mvar": 0.0, "constant_power_pct": 0.0, "constant_current_pct": 0.0, "constant_impedance_pct": 100.0}
            for c, s in zip("AB", halves, strict=True) if s
        ]  # fmt: skip
        net = network(
            bus("a", 11.0), source("a", fault_max_mva=1e6, fault_min_mva=1e6, ideal=True),
            bus("b", 0.24, conductors="ABN", split_phase=True),
            {"kind": "transformer", "id": "t", "hv_bus": "a", "lv_bus": "b", "conductors": "AB", "vector_group": "Iii0",
             "rated_mva": 0.025, "hv_kv": 11.0, "lv_kv": 0.24, "impedance_pct": 4.0, "x_over_r": 0.0, "lv_neutral": "solid",
             "primary_share_pct": share}, *loads,
        )  # fmt: skip
        row = next(r for r in run_unbalanced(net).tables["buses"].records() if r["id"] == "b")
        drops.append(1 / row["phase_a_voltage_pu"] - 1)  # a resistance of 1 p.u. behind Z: V = 1 / (1 + Z)
    assert drops == pytest.approx([0.04 * (1 - share / 200), 0.04], rel=1e-4)
