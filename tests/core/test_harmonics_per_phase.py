"""Harmonics per conductor: equal to the sequences where all is balanced, and zero sequence, neutrals and one-phase sources."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from vastmesh.core.electrical.conductor import compile_conductors
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Network, Update
from vastmesh.core.results import Result
from vastmesh.core.results.state import LiveLoadFlow, LiveUnbalanced
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.harmonics._grid import Grid
from vastmesh.core.studies.harmonics._options import GridOptions
from vastmesh.core.studies.harmonics._phase_grid import Legs, PhaseGrid
from vastmesh.core.studies.harmonics._sources import of_delta, turned

BRIDGE = "Six-pulse rectifier, ideal"
TURN = np.exp(-2j * np.pi / 3 * np.arange(3))


def bus(ident: str, kv: float, conductors: str = "ABC") -> dict[str, Any]:
    return {"kind": "bus", "id": ident, "nominal_kv": kv, "conductors": conductors}


def dyn(ident: str, hv: str, lv: str, mva: float, kv: tuple[float, float], z: float, **more: Any) -> dict[str, Any]:
    return {"kind": "transformer", "id": ident, "hv_bus": hv, "lv_bus": lv, "rated_mva": mva, "hv_kv": kv[0], "lv_kv": kv[1],
            "impedance_pct": z, "x_over_r": 8, "vector_group": "Dyn11", "lv_neutral": "solid", **more}  # fmt: skip


def everything(**of_line: Any) -> Network:
    """One of every kind that has an admittance, all phases alike."""
    source = {"kind": "source", "id": "g", "bus": "s", "fault_max_mva": 3000, "fault_min_mva": 2000, "x_over_r": 12}
    return Network.from_items([
        bus("s", 132), bus("a", 33), bus("b", 33), bus("c", 11), bus("d", 11), bus("e", 11), bus("f", 0.4, "ABCN"), source,
        {"kind": "three_winding", "id": "t3", "hv_bus": "s", "mv_bus": "a", "lv_bus": "e", "hv_mva": 60, "mv_mva": 60,
         "lv_mva": 20, "hv_kv": 132, "mv_kv": 33, "lv_kv": 11, "z_hm_pct": 12, "z_ml_pct": 7, "z_hl_pct": 20,
         "iron_loss_kw": 30, "no_load_current_pct": 0.4},
        {"kind": "line", "id": "l", "from_bus": "a", "to_bus": "b", "length_km": 20, "r_ohm_per_km": 0.1,
         "x_ohm_per_km": 0.35, "b_us_per_km": 30.0, **of_line},
        dyn("t", "b", "c", 10, (33, 11), 8, tap_position=2, tap_step_pct=1.25, tap_min=-8, tap_max=8, no_load_current_pct=0.5),
        {"kind": "series_reactor", "id": "x", "from_bus": "c", "to_bus": "d", "x_ohm": 0.5, "rating_a": 600},
        dyn("t2", "d", "f", 1, (11, 0.4), 5),
        {"kind": "load", "id": "l3", "bus": "c", "active_power_mw": 3, "reactive_power_mvar": 1},
        {"kind": "load", "id": "l4", "bus": "f", "active_power_mw": 0.3, "reactive_power_mvar": 0.1, "conductors": "ABCN"},
        {"kind": "lumped", "id": "m", "bus": "d", "apparent_power_mva": 1, "power_factor": 0.9, "motor_pct": 50,
         "impedance_pct": 50, "current_pct": 0},
        {"kind": "induction_motor", "id": "i", "bus": "d", "rated_kw": 500, "rated_kv": 10.5, "power_factor": 0.85,
         "efficiency_pct": 94},
        {"kind": "synchronous_motor", "id": "y", "bus": "d", "rated_kw": 400, "rated_kv": 10.5},
        {"kind": "generator", "id": "o", "bus": "e", "active_power_mw": 3, "rated_mva": 5, "power_factor": 1.0,
         "control": "power_factor"},
        {"kind": "shunt", "id": "q", "bus": "c", "step_mvar": 1.0, "steps": 2, "steps_on": 2},
        {"kind": "shunt", "id": "r", "bus": "b", "device": "reactor", "step_mvar": 0.7},
        {"kind": "filter", "id": "h", "bus": "b", "design": "c_type", "step_mvar": 4.0, "tuned_order": 4.7},
        {"kind": "filter", "id": "k", "bus": "d", "design": "double", "step_mvar": 0.4, "tuned_order": 4.7,
         "second_order": 6.7},
        {"kind": "load", "id": "drive", "bus": "c", "active_power_mw": 1.5, "reactive_power_mvar": 0.4, "spectrum": BRIDGE},
        {"kind": "load", "id": "drive 2", "bus": "d", "active_power_mw": 0.7, "reactive_power_mvar": 0.2, "connection": "delta",
         "spectrum": BRIDGE},
        {"kind": "inverter", "id": "sun", "bus": "c", "active_power_mw": 1.0, "rated_mva": 1.2,
         "spectrum": "Solar inverter, three-phase"},
    ])  # fmt: skip


@pytest.mark.parametrize("lines", ["nominal", "long"])
@pytest.mark.parametrize("demand", ["parallel", "series", "motor_share", "none"])
def test_balanced_impedances_are_those_of_the_sequences(lines: Any, demand: Any) -> None:
    """Every driving-point and transfer impedance, of positive and negative sequence."""
    network, options = everything(), GridOptions(lines=lines, demand=demand, source_exponent=0.5)
    found = LiveLoadFlow(network).linearise()
    assert found is not None
    grid, arrays = Grid(network, found.reading, options), compile_conductors(network)
    by_phase = PhaseGrid(network, arrays, Legs.balanced(arrays, network, found.reading), options)
    kv = dict(zip(grid.arrays.bus_id, grid.arrays.bus_kv.tolist(), strict=True))
    for h, sequence in ((1.0, 1), (2.3, 1), (5.0, -1), (11.0, -1), (24.7, 1)):
        grid.factorise(h, sequence)
        by_phase.factorise(h)
        for here in "abcdef":
            z = grid.unit(grid.row(here))
            amps = np.zeros((1, arrays.n_node), np.complex128)
            amps[0, arrays.node[arrays.bus_id.index(here), :3]] = TURN if sequence > 0 else np.conj(TURN)
            v = by_phase.solve(amps)
            for there in "abcdef":
                expected = z[grid.row(there)] * kv[here] * kv[there] / 100
                assert v[0, arrays.node[arrays.bus_id.index(there), 0]] == pytest.approx(expected, rel=1e-9)


def test_a_geometry_is_computed_anew_at_every_frequency_by_both() -> None:
    items = [e.model_dump(exclude_none=True) for e in everything().items.values() if e.id != "l"]
    tower = {
        "kind": "line_geometry",
        "id": "tower",
        "construction": "cable",
        "r20_ohm_per_km": 0.1,
        "gmr_mm": 7.0,
        "diameter_mm": 18.0,
        "screen": "wires",
    }  # screens that are joined at both ends carry currents of their own
    line = {"kind": "line", "id": "l", "from_bus": "a", "to_bus": "b", "length_km": 20, "geometry": "tower"}
    network = Network.from_items([*items, tower, line])
    found = LiveLoadFlow(network).linearise()
    assert found is not None
    seen = []
    for lines in ("long", "geometry"):
        options = GridOptions(lines=lines)
        grid, arrays = Grid(network, found.reading, options), compile_conductors(network)
        by_phase = PhaseGrid(network, arrays, Legs.balanced(arrays, network, found.reading), options)
        grid.factorise(7.0)
        by_phase.factorise(7.0)
        amps = np.zeros((1, arrays.n_node), np.complex128)
        amps[0, arrays.node[arrays.bus_id.index("b"), :3]] = TURN
        z = grid.unit(grid.row("b"))[grid.row("b")] * 33**2 / 100
        assert by_phase.solve(amps)[0, arrays.node[arrays.bus_id.index("b"), 0]] == pytest.approx(z, rel=1e-9)
        ports = grid.ports(7.0, 1)
        values = grid.values(7.0).copy()
        assert np.isfinite(values).all()
        assert np.isfinite(ports.ff).all()
        seen.append(z)
    assert seen[0] != pytest.approx(seen[1], rel=1e-6)


def run(network: Network, **options: Any) -> Result:
    kind = STUDIES["distortion"]
    return kind.run(Inputs(network), kind.options(**options), lambda share, words: None)


def at(result: Result, table: str, ident: str, column: str, conductor: str | None = None) -> float:
    found = result.tables[table]
    for n, i in enumerate(found["id"]):
        if i == ident and (conductor is None or found["conductor"][n] == conductor):
            return float(found[column][n])
    raise KeyError(ident)


def test_a_balanced_network_is_as_distorted_per_phase_as_by_sequence() -> None:
    network = everything()
    one, other = run(network), run(network, detail="per_phase")
    for b in "abcdef":
        for h in (5, 7, 11, 13, 17, 19, 23, 25):
            expected = at(one, "buses", b, f"order_{h}_pct")
            assert at(other, "buses", b, f"order_{h}_pct") == pytest.approx(expected, rel=1e-6)
    for b in ("l", "t", "x"):
        assert at(other, "branches", b, "thd_i_pct") == pytest.approx(at(one, "branches", b, "thd_i_pct"), rel=1e-6)
    for b in ("q", "h", "k"):
        for column in ("voltage_pct", "current_pct", "power_pct"):
            assert at(other, "capacitors", b, column) == pytest.approx(at(one, "capacitors", b, column), rel=1e-6)
    assert list(other.tables["contributions"]["id"]) == list(one.tables["contributions"]["id"])


LAMPS = "LED lighting"


def street(**load: Any) -> Network:
    """A strong source, a delta-star transformer, and 200 m of four wires."""
    return Network.from_items([
        bus("s", 11), bus("b", 0.4, "ABCN"), bus("e", 0.4, "ABCN"),
        {"kind": "source", "id": "g", "bus": "s", "fault_max_mva": 200, "fault_min_mva": 150, "x_over_r": 8},
        dyn("t", "s", "b", 0.4, (11, 0.4), 4, skin_exponent=0.0),
        {"kind": "line", "id": "l", "from_bus": "b", "to_bus": "e", "length_km": 0.2, "r_ohm_per_km": 0.2,
         "x_ohm_per_km": 0.1, "b_us_per_km": 0.0, "conductors": "ABCN", "neutral_r_ohm_per_km": 0.3, "skin_exponent": 0.0},
        {"kind": "load", "id": "d", "bus": "e", "active_power_mw": 0.09, "reactive_power_mvar": 0.0, "conductors": "ABCN",
         "spectrum": LAMPS, **load},
    ])  # fmt: skip


@pytest.mark.parametrize("detail", ["balanced", "per_phase"])
def test_triplen_currents_add_up_in_the_neutral_and_stay_behind_a_delta(detail: str) -> None:
    result = run(street(), detail=detail, demand="none", lines="nominal")
    i1 = at(result, "injections", "d", "fundamental_a")
    i3 = 0.18 * i1
    assert at(result, "branches", "l", "order_3_a") == pytest.approx(i3, rel=1e-6)
    assert at(result, "branches", "t", "order_3_a") < 1e-6 * i3
    assert at(result, "buses", "s", "order_3_pct") < 1e-6
    # Phase to neutral at the end: in the unit its zero sequence, in the line own plus three times the neutral's own impedance,
    # as what earth couples into all four conductors cancels when they carry no current together.
    z_t = at_order_3(0.04 * 0.4**2 / 0.4, 8) * share_of_zero()
    z_l = 0.2 * (complex(0.2, 3 * 0.1) + 3 * complex(0.3, 3 * 0.1))
    volts = abs(z_t + z_l) * i3
    told = at(result, "buses", "e", "order_3_pct") / 100
    first = at(result, "buses", "e", "rms_pu") / np.sqrt(1 + (at(result, "buses", "e", "thd_pct") / 100) ** 2)
    assert told * first * 400 / np.sqrt(3) == pytest.approx(volts, rel=1e-5)
    if detail == "per_phase":
        assert at(result, "conductors", "l", "order_3_a", "N") == pytest.approx(3 * i3, rel=1e-6)
        assert at(result, "conductors", "l", "order_5_a", "N") < 1e-6 * i3
        squares = sum((0.01 * share * i1 * 3) ** 2 for share in (18.0, 4.5))
        assert at(result, "branches", "l", "neutral_a") == pytest.approx(squares**0.5, rel=1e-5)


def at_order_3(ohm: float, x_over_r: float) -> complex:
    r = ohm / np.sqrt(1 + x_over_r**2)
    return complex(r, 3 * x_over_r * r)


def share_of_zero() -> float:
    from vastmesh.core.catalogue import zero_sequence_share

    share = zero_sequence_share("Dyn11", street()["t"].core)  # type: ignore[attr-defined]
    assert share is not None
    return share


def test_what_hangs_between_phases_sends_no_triplen_current_into_the_neutral() -> None:
    result = run(street(connection="delta"), detail="per_phase")
    assert at(result, "conductors", "l", "order_3_a", "N") < 1e-9
    assert at(result, "buses", "e", "order_3_pct") < 1e-9
    assert at(result, "buses", "e", "order_5_pct") > 0.1


def between_phases(legs: dict[str, complex], *, apart: bool) -> Network:
    """A bus behind a short line of three wires, with so much in MVA drawn between its phases: as one load or as one for each
    leg."""
    items: list[dict[str, Any]] = [
        bus("s", 0.4), bus("e", 0.4),
        {"kind": "source", "id": "g", "bus": "s", "fault_max_mva": 20, "fault_min_mva": 15, "x_over_r": 4, "ideal": True},
        {"kind": "line", "id": "l", "from_bus": "s", "to_bus": "e", "length_km": 0.1, "r_ohm_per_km": 0.3, "x_ohm_per_km": 0.08,
         "b_us_per_km": 0.0, "spacing_mm": 100.0, "skin_exponent": 0.0},
    ]  # fmt: skip
    shared = {"kind": "load", "bus": "e", "spectrum": BRIDGE}
    if apart:
        items += [
            {**shared, "id": f"d{p}", "conductors": "".join(sorted(p)), "connection": "delta", "active_power_mw": s.real,
             "reactive_power_mvar": s.imag} for p, s in legs.items()
        ]  # fmt: skip
    else:
        powers = {f"{name}_{p[0].lower()}_{unit}": part for p, s in legs.items()
                  for name, unit, part in (("p", "mw", s.real), ("q", "mvar", s.imag))}  # fmt: skip
        items.append({**shared, "id": "d", "connection": "delta", **powers})
    return Network.from_items(items)


@pytest.mark.parametrize("seed", range(8))
def test_legs_between_phases_disturb_as_one_load_as_they_do_apart_and_by_hand(seed: int) -> None:
    """Unequal legs, each with the spectrum of its own current; by hand: the wires carry differences of
    the legs, which the line brings from its source."""
    dice = np.random.default_rng(seed)
    legs = {"AB": 0.02 + 0j, "BC": 0.01 + 0j}
    if seed:
        legs = {p: complex(*dice.uniform(0.002, 0.03, 2)) for p in ("AB", "BC", "CA")[: 2 + seed % 2]}
    options = {"detail": "per_phase", "demand": "none", "lines": "nominal"}
    one, several = (run(between_phases(legs, apart=apart), **options) for apart in (False, True))
    first = LiveUnbalanced(between_phases(legs, apart=True)).reading()
    assert first is not None
    u = first.bus_v[first.arrays.bus_id.index("e")][:3]
    amps = np.array([np.conj(legs.get(p, 0) * 1e6 / (u[k] - u[(k + 1) % 3])) for k, p in enumerate(("AB", "BC", "CA"))])
    net = between_phases(legs, apart=True)
    spectrum = turned(net, net["dAB"])  # type: ignore[arg-type]
    for order in (5, 7, 11, 13):
        share, angle, _ = spectrum[float(order)]
        leg = np.abs(amps) * share * np.exp(1j * (order * np.angle(amps) + angle))
        wires = np.abs(leg - np.roll(leg, 1))
        for k, c in enumerate("ABC"):
            told = [at(r, "conductors", "l", f"order_{order}_a", c) for r in (one, several)]
            assert told == pytest.approx([wires[k]] * 2, rel=1e-6, abs=1e-9), (order, c)
    for order in (5, 7):
        assert at(one, "buses", "e", f"order_{order}_pct") == pytest.approx(
            at(several, "buses", "e", f"order_{order}_pct"), rel=1e-9
        )


@pytest.mark.parametrize("order", [2, 4, 5, 7, 11, 13, 5.5])
def test_equal_legs_between_phases_are_turned_by_thirty_degrees_for_each_order(order: float) -> None:
    """Three legs summed by hand, against the factor that one phase stands for."""
    shift = (
        np.exp(-2j * np.pi / 3 * np.arange(3))
        if order != round(order)
        else np.exp(-2j * np.pi / 3 * np.arange(3) * order)
    )
    leg = np.exp(1j * np.pi / 6 * order) * shift / 3**0.5
    wire = leg - np.roll(leg, 1)
    assert of_delta(order) == pytest.approx(complex(wire[0]), abs=1e-12)
    assert of_delta(9) == 0


def test_one_phase_disturbs_its_own_most() -> None:
    result = run(street(conductors="BN", active_power_mw=0.02), detail="per_phase")
    currents = {c: at(result, "conductors", "l", "order_5_a", c) for c in "ABCN"}
    assert currents["B"] == pytest.approx(currents["N"], rel=1e-9)
    assert currents["A"] < 1e-9 * currents["B"]
    told = {c: at(result, "phases", "e", "order_5_pct", c) for c in "ABC"}
    assert max(told, key=lambda c: told[c]) == "B"
    table = result.tables["buses"]
    assert table["phase"][list(table["id"]).index("e")] == "B"
    assert at(result, "buses", "e", "neutral_pct") > 0


@pytest.mark.parametrize("seed", range(6))
def test_random_streets_agree_with_a_solver_of_their_own(seed: int) -> None:
    """A line of four-wire sections behind a Thevenin source, one-phase sources along it: voltages by superposition in plain
    matrices, written down from Kirchhoff's laws and nothing else."""
    rng = np.random.default_rng(seed)
    n = int(rng.integers(3, 8))
    items: list[dict[str, Any]] = [
        bus("0", 0.4, "ABCN"),
        {
            "kind": "source",
            "id": "g",
            "bus": "0",
            "fault_max_mva": 12,
            "fault_min_mva": 9,
            "x_over_r": 3,
            "z0_over_z1": 1.0,
        },
    ]
    km, r, x, rn = (rng.uniform(*b, n) for b in ((0.03, 0.2), (0.1, 0.6), (0.07, 0.12), (0.1, 0.9)))
    for k in range(1, n + 1):
        items += [bus(str(k), 0.4, "ABCN"), {
            "kind": "line", "id": f"l{k}", "from_bus": str(k - 1), "to_bus": str(k), "length_km": km[k - 1],
            "r_ohm_per_km": r[k - 1], "x_ohm_per_km": x[k - 1], "b_us_per_km": 0.0, "conductors": "ABCN",
            "neutral_r_ohm_per_km": rn[k - 1], "skin_exponent": 0.0,
        }]  # fmt: skip
    placed = [(int(rng.integers(1, n + 1)), "ABC"[int(rng.integers(3))]) for _ in range(5)]
    for k, (b, phase) in enumerate(placed):
        items.append({"kind": "load", "id": f"d{k}", "bus": str(b), "active_power_mw": float(rng.uniform(0.001, 0.006)),
                      "reactive_power_mvar": 0.0005, "conductors": phase + "N", "spectrum": BRIDGE})  # fmt: skip
    network = Network.from_items(items)
    result = run(network, detail="per_phase", demand="none", lines="nominal")
    for h in (5, 7):
        expected = _voltages(network, result, h, n, km, r, x, rn, placed)
        for b in range(n + 1):
            for c in range(3):
                told = at(result, "phases", str(b), f"order_{h}_pct", "ABC"[c]) / 100
                first = at(result, "phases", str(b), "rms_pu", "ABC"[c])
                thd = at(result, "phases", str(b), "thd_pct", "ABC"[c]) / 100
                volts = told * first / np.sqrt(1 + thd**2) * 400 / np.sqrt(3)
                assert volts == pytest.approx(abs(expected[b, c]), rel=1e-7, abs=1e-9)


def _voltages(network: Network, result: Result, h: int, n: int, km: Any, r: Any, x: Any, rn: Any, placed: Any) -> Any:
    """Phase-to-neutral voltages, (n + 1, 3), V. The tree is radial: currents add up towards the source, voltages follow."""
    from vastmesh.core.results.state import LiveUnbalanced

    reading = LiveUnbalanced(network).reading()
    assert reading is not None
    ids = reading.arrays.element_id
    down = np.zeros((n + 1, 4), np.complex128)  # drawn from each conductor at each bus
    for k, (b, phase) in enumerate(placed):
        c = "ABC".index(phase)
        i1 = reading.injection_phase_current[ids.index(f"d{k}"), c]
        known = {5: np.pi, 7: 0.0}[h]
        i = abs(i1) * round(100 / h, 2) / 100 * np.exp(1j * (h * np.angle(i1) + known))
        down[b, c] += i
        down[b, 3] -= i
    z = 0.4**2 / 12
    rs = z / np.sqrt(10)
    source = complex(rs, h * 3 * rs)
    v = np.zeros((n + 1, 4), np.complex128)
    total = down.sum(axis=0)
    v[0, :3] = -source * total[:3]  # its neutral is earthed
    for k in range(1, n + 1):
        through = down[k:].sum(axis=0)
        own = np.array([complex(r[k - 1], h * x[k - 1])] * 3 + [complex(rn[k - 1], h * x[k - 1])])
        v[k] = v[k - 1] - own * km[k - 1] * through  # what earth couples is common to all four, and their sum is zero
    return v[:, :3] - v[:, 3:]


def test_a_bank_that_control_has_switched_counts_as_it_stands() -> None:
    network = everything()
    network.apply([Update(id="q", values={"automatic": True, "steps_on": 0, "on_below_pu": 1.2, "off_above_pu": 1.3})])
    by_hand = everything()
    for detail in ("balanced", "per_phase"):
        one, other = run(network, detail=detail), run(by_hand, detail=detail)
        expected = at(other, "buses", "c", "order_5_pct")
        assert at(one, "buses", "c", "order_5_pct") == pytest.approx(expected, rel=1e-6)


def scan(network: Network, **options: Any) -> Result:
    kind = STUDIES["scan"]
    asked = {"from_hz": 100, "to_hz": 400, "step_hz": 50, **options}
    return kind.run(Inputs(network), kind.options(**asked), lambda share, words: None)


def test_the_zero_sequence_is_that_of_the_transformer_and_three_times_the_neutral() -> None:
    result = scan(street(), bus="e", sequence="zero", demand="none", lines="nominal")
    z = result.tables["scan"]
    for n, hz in enumerate(z["hz"].tolist()):
        h = hz / 50
        r = 0.04 * 0.4**2 / 0.4 / np.sqrt(65)
        unit = complex(r, 8 * r * h) * share_of_zero()
        line = 0.2 * (complex(0.2, h * 0.1) + 3 * complex(0.3, h * 0.1))
        assert complex(z["r_ohm"][n], z["x_ohm"][n]) == pytest.approx(unit + line, rel=1e-6)


def test_one_phase_sees_a_third_of_all_three_sequences() -> None:
    """Of a symmetric network: the driving impedance of a phase to the neutral is their mean."""
    kinds = {
        s: scan(street(), bus="e", sequence=s, demand="none").tables["scan"]
        for s in ("positive", "zero", "phase_a", "phase_b")
    }
    for n in range(len(kinds["zero"]["hz"])):
        z1, z0, a, b = (complex(t["r_ohm"][n], t["x_ohm"][n]) for t in kinds.values())
        assert a == pytest.approx((2 * z1 + z0) / 3, rel=1e-6)
        assert b == pytest.approx(a, rel=1e-9)


def test_every_state_of_all_banks_lies_within_the_envelope() -> None:
    network = everything()
    network.apply([Update(id="q", values={"steps": 3, "steps_on": 1})])
    result = scan(network, bus="c", over="banks", from_hz=100, to_hz=600, step_hz=100)
    assert (
        len([s for s in next(f for f in result.figures if f.name == "scan").series if s.drawn == "line"])
        == 4 * 2 * 2 * 2
    )
    envelope = next(f for f in result.figures if f.name == "envelope")
    alone = scan(network, bus="c", from_hz=100, to_hz=600, step_hz=100).tables["scan"]["ohm"]
    assert np.all(np.asarray(envelope.series[0].y) >= alone * (1 - 1e-9))
    assert np.all(np.asarray(envelope.series[1].y) <= alone * (1 + 1e-9))


def adrift(**more: Any) -> Network:
    """Behind a delta, without capacitance: nothing ties the works to earth."""
    return Network.from_items([
        {"kind": "bus", "id": "s", "nominal_kv": 33}, {"kind": "bus", "id": "w", "nominal_kv": 11},
        {"kind": "source", "id": "g", "bus": "s", "fault_max_mva": 400, "fault_min_mva": 300, "x_over_r": 10},
        {"kind": "transformer", "id": "t", "hv_bus": "s", "lv_bus": "w", "rated_mva": 10, "hv_kv": 33, "lv_kv": 11,
         "impedance_pct": 8, "x_over_r": 15, "vector_group": "YNd11"},
        {"kind": "load", "id": "d", "bus": "w", "active_power_mw": 2.0, "reactive_power_mvar": 1.0, "conductors": "ABC",
         "connection": "delta", "spectrum": "Six-pulse drive with choke"}, *more.get("items", []),
    ])  # fmt: skip


@pytest.mark.parametrize("sequence", ["zero", "phase_a"])
def test_no_way_to_earth_is_said_and_not_solved(sequence: str) -> None:
    with pytest.raises(InvalidFields, match="nothing ties this bus to earth"):
        scan(adrift(), bus="w", sequence=sequence)
    result = run(adrift(), detail="per_phase")
    assert any("Nothing ties w to earth" in n for n in result.account.notes)
    earthed = adrift(items=[{"kind": "shunt", "id": "c", "bus": "w", "step_mvar": 0.2, "connection": "earthed"}])
    assert scan(earthed, bus="w", sequence=sequence).tables["scan"]["ohm"][0] > 0
    assert not any("Nothing ties" in n for n in run(earthed, detail="per_phase").account.notes)
