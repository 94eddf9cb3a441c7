"""Harmonics against closed forms and an independent dense solver."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from tests.helpers import at
from tests.helpers import run_study as run
from vastmesh.core.electrical.admittance import nodal_values
from vastmesh.core.errors import InvalidFields, SingularMatrix
from vastmesh.core.flow import Ending
from vastmesh.core.network import Condition, Network, Update
from vastmesh.core.results import Result
from vastmesh.core.results.state import LiveLoadFlow, solve_as_set
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.harmonics import ScanOptions
from vastmesh.core.studies.harmonics._grid import Grid
from vastmesh.core.studies.harmonics._limits import generic_pct
from vastmesh.core.studies.harmonics._scan import grid_of

BRIDGE = "Six-pulse rectifier, ideal"
QUIET = {"demand": "none", "lines": "nominal"}


def net(*items: dict[str, Any]) -> Network:
    return Network.from_items(list(items))


def bus(ident: str, kv: float) -> dict[str, Any]:
    return {"kind": "bus", "id": ident, "nominal_kv": kv}


def source(at_bus: str, mva: float, x_over_r: float = 10.0) -> dict[str, Any]:
    return {"kind": "source", "id": f"source {at_bus}", "bus": at_bus, "fault_max_mva": mva, "fault_min_mva": mva,
            "x_over_r": x_over_r}  # fmt: skip


def drive(ident: str, at_bus: str, mw: float, spectrum: str = BRIDGE) -> dict[str, Any]:
    return {"kind": "load", "id": ident, "bus": at_bus, "active_power_mw": mw, "reactive_power_mvar": 0.3 * mw,
            "spectrum": spectrum}  # fmt: skip


def line(
    ident: str, a: str, b: str, km: float, r: float = 0.2, x: float = 0.35, us: float = 0.0, **more: Any
) -> dict[str, Any]:
    return {"kind": "line", "id": ident, "from_bus": a, "to_bus": b, "length_km": km, "r_ohm_per_km": r, "x_ohm_per_km": x,
            "b_us_per_km": us, **more}  # fmt: skip


# Closed forms


def test_one_source_behind_one_impedance() -> None:
    network = net(
        bus("s", 11), bus("a", 11), source("s", 150, 8), line("l", "s", "a", 3, skin_exponent=0.5), drive("d", "a", 2.0)
    )
    result = run("distortion", network, **QUIET)
    flow = solve_as_set(network)
    volts, amps = at(flow, "buses", "a", "voltage_pu"), at(flow, "injections", "d", "current_a")
    z = 11**2 / 150
    r, x = z / 65**0.5, 8 * z / 65**0.5
    squares = 0.0
    for h in (5, 7, 11, 13, 17, 19, 23, 25):
        ohm = abs(complex(r + 3 * 0.2 * h**0.5, h * (x + 3 * 0.35)))
        expected = 100 * ohm * (amps * round(100 / h, 2) / 100) * 3**0.5 / (volts * 11e3)
        assert at(result, "buses", "a", f"order_{h}_pct") == pytest.approx(expected, rel=1e-9)
        squares += expected**2
        assert at(result, "branches", "l", f"order_{h}_a") == pytest.approx(amps * round(100 / h, 2) / 100, rel=1e-9)
    assert at(result, "buses", "a", "thd_pct") == pytest.approx(squares**0.5, rel=1e-9)


@pytest.mark.parametrize("mvar", [1.5, 4.0])
def test_a_bank_and_the_fault_level_make_a_parallel_resonance_with_damping(mvar: float) -> None:
    network = net(bus("a", 11), source("a", 150, 10), {"kind": "shunt", "id": "bank", "bus": "a", "step_mvar": mvar, "steps": 1,
                  "steps_on": 1, "rated_kv": 11.0, "step_loss_kw": 0.0})  # fmt: skip
    result = run("scan", network, bus="a", from_hz=60, to_hz=1000, step_hz=7, **QUIET)
    z = 121 / 150
    r, x, b = z / 101**0.5, 10 * z / 101**0.5, mvar / 121

    def ohm(hz: Any) -> Any:
        h = hz / 50
        return np.abs(1 / (1 / (r + 1j * h * x) + 1j * h * b))

    table = result.tables["scan"]
    assert table["ohm"] == pytest.approx(ohm(table["hz"]), rel=1e-10)
    fine = np.linspace(60, 1000, 2_000_001)
    assert len(result.tables["resonances"]) == 1
    assert at(result, "resonances", "bank", "hz") == pytest.approx(fine[ohm(fine).argmax()], rel=1e-5)
    assert at(result, "resonances", "bank", "order") == pytest.approx((150 / mvar) ** 0.5, rel=0.01)
    assert at(result, "resonances", "bank", "quality") == pytest.approx(
        at(result, "resonances", "bank", "order") * x / r, rel=0.03
    )
    assert "bank 100 %" in result.tables["resonances"]["takes_part"][0]


def test_a_transformer_with_a_bank_behind_it_is_a_trap_seen_from_above() -> None:
    network = net(
        bus("hv", 33), bus("lv", 11), source("hv", 800, 12),
        {"kind": "transformer", "id": "t", "hv_bus": "hv", "lv_bus": "lv", "rated_mva": 20, "hv_kv": 33, "lv_kv": 11,
         "impedance_pct": 10, "load_loss_kw": 90, "no_load_current_pct": 0, "iron_loss_kw": 0},
        {"kind": "shunt", "id": "bank", "bus": "lv", "step_mvar": 5, "steps": 1, "steps_on": 1, "rated_kv": 11.0,
         "step_loss_kw": 0.0},
    )  # fmt: skip
    result = run("scan", network, bus="hv", from_hz=100, to_hz=900, step_hz=5, **QUIET)
    kinds = dict(zip(result.tables["resonances"]["kind"], result.tables["resonances"]["hz"], strict=True))
    assert kinds["dip"] == pytest.approx(50 * (20 / 0.10 / 5) ** 0.5, rel=0.01)
    assert kinds["peak"] < kinds["dip"]


def test_an_open_line_is_a_short_circuit_at_its_quarter_wave() -> None:
    km, x, us = 100.0, 0.4, 2.8
    network = net(
        bus("s", 132), bus("end", 132), source("s", 1e6, 1000), line("l", "s", "end", km, 1e-4, x, us, skin_exponent=0)
    )
    result = run("scan", network, bus="end", other="s", from_hz=500, to_hz=900, step_hz=1, demand="none", lines="long")
    # Seen from the far end, which stands on a stiff source: the highest impedance where the line is a quarter of a wave.
    result = run("scan", network, bus="end", from_hz=500, to_hz=900, step_hz=1, demand="none", lines="long")
    quarter = 50 / (4 * km) * 2 * np.pi / np.sqrt(x * us * 1e-6)
    peak = result.tables["resonances"]["hz"][list(result.tables["resonances"]["kind"]).index("peak")]
    assert peak == pytest.approx(quarter, rel=2e-3)
    nominal = run("scan", network, bus="end", from_hz=500, to_hz=900, step_hz=1, demand="none", lines="nominal")
    lumped = 50 / np.sqrt(x * km * us * 1e-6 * km / 2)
    found = nominal.tables["resonances"]
    assert list(found["hz"]) == pytest.approx([lumped], rel=2e-3)


def two_bridges(second: str) -> Network:
    unit = {"kind": "transformer", "rated_mva": 5, "hv_kv": 11, "lv_kv": 0.69, "impedance_pct": 6, "load_loss_kw": 30,
            "no_load_current_pct": 0, "iron_loss_kw": 0}  # fmt: skip
    return net(
        bus("s", 11), bus("a", 11), bus("one", 0.69), bus("two", 0.69), source("s", 150), line("l", "s", "a", 1.0),
        {**unit, "id": "t1", "hv_bus": "a", "lv_bus": "one", "vector_group": "Dyn11"},
        {**unit, "id": "t2", "hv_bus": "a", "lv_bus": "two", "vector_group": second},
        drive("d1", "one", 2.0), drive("d2", "two", 2.0),
    )  # fmt: skip


def test_two_equal_bridges_thirty_degrees_apart_cancel_by_themselves() -> None:
    apart, alike = run("distortion", two_bridges("Yyn0"), **QUIET), run("distortion", two_bridges("Dyn11"), **QUIET)
    for h in (5, 7, 17, 19):
        both = at(alike, "branches", "l", f"order_{h}_a")
        assert at(apart, "branches", "l", f"order_{h}_a") < 1e-9 * both
        assert at(apart, "buses", "one", f"order_{h}_pct") > 0.01  # behind its own transformer it is there
    for h in (11, 13, 23, 25):
        assert at(apart, "branches", "l", f"order_{h}_a") == pytest.approx(
            at(alike, "branches", "l", f"order_{h}_a"), rel=1e-9
        )


# Adding up


def unknown(*mw: float, spectrum: str = "Six-pulse drive with choke") -> Network:
    loads = [drive(f"d{n}", "a", p, spectrum) for n, p in enumerate(mw)]
    return net(bus("s", 11), bus("a", 11), source("s", 150), line("l", "s", "a", 1.0), *loads)


@pytest.mark.parametrize(("how", "exponents"), [
    ("law", {5: 1.4, 7: 1.4, 11: 2.0}), ("arithmetic", {5: 1.0, 11: 1.0}), ("in_phase", {5: 1.0, 7: 1.0}),
])  # fmt: skip
def test_sources_without_angles_add_as_is_asked(how: str, exponents: dict[int, float]) -> None:
    both = unknown(1.0, 1.0)
    # The same voltage at the bus with one of them clean.
    items = [{**i, "spectrum": None} if i["id"] == "d1" else i for i in both.to_items()]
    one = run(
        "distortion",
        Network.from_items([{k: v for k, v in i.items() if v is not None} for i in items]),
        unknown=how,
        **QUIET,
    )
    two = run("distortion", both, unknown=how, **QUIET)
    for h, a in exponents.items():
        alone = at(one, "buses", "a", f"order_{h}_pct")
        assert at(two, "buses", "a", f"order_{h}_pct") == pytest.approx(alone * 2 ** (1 / a), rel=1e-9)
    assert any("no known angles" in n for n in two.account.notes)


def test_waveform_and_spectrum_hold_the_same_energy() -> None:
    network = net(bus("s", 11), bus("a", 11), source("s", 150), line("l", "s", "a", 3.0), drive("d", "a", 4.0))
    result = run("distortion", network, bus="a", **QUIET)
    wave = np.array(next(f for f in result.figures if f.name == "waveform").series[0].y)[:-1]
    assert np.sqrt(np.mean(wave**2)) == pytest.approx(at(result, "buses", "a", "rms_pu"), rel=1e-9)


def test_orders_of_three_find_no_way_where_there_is_no_neutral() -> None:
    result = run("distortion", unknown(1.0, spectrum="LED lighting"), **QUIET)
    assert any("3, 9" in n for n in result.account.notes)
    buses = result.tables["buses"]
    for h in (3, 9):
        assert max(buses[f"order_{h}_pct"]) < 1e-9
    assert max(buses["order_5_pct"]) > 1e-3


# An independent solver


def dense(network: Network, flow: Result, h: int, angles: dict[str, float]) -> dict[str, complex]:
    """Voltages of an order, per phase to earth in volts, by a dense matrix in ohms on 11 kV; written from the textbook."""
    items = network.to_items()
    names = [i["id"] for i in items if i["kind"] == "bus"]
    place = {b: n for n, b in enumerate(names)}
    y = np.zeros((len(names), len(names)), complex)
    i = np.zeros(len(names), complex)
    for e in items:
        if e["kind"] == "line":
            a, b = place[e["from_bus"]], place[e["to_bus"]]
            series = 1 / complex(e["r_ohm_per_km"] * h ** e["skin_exponent"], h * e["x_ohm_per_km"]) / e["length_km"]
            half = 0.5j * h * e["b_us_per_km"] * 1e-6 * e["length_km"]
            y[a, a] += series + half
            y[b, b] += series + half
            y[a, b] -= series
            y[b, a] -= series
        elif e["kind"] == "source":
            z = 121 / e["fault_max_mva"] / (1 + e["x_over_r"] ** 2) ** 0.5
            y[place[e["bus"]], place[e["bus"]]] += 1 / complex(z, h * z * e["x_over_r"])
        elif e["kind"] == "shunt":
            y[place[e["bus"]], place[e["bus"]]] += 1j * h * e["step_mvar"] * e["steps_on"] / 121
        elif e["kind"] == "load":
            n = place[e["bus"]]
            volts = at(flow, "buses", e["bus"], "voltage_kv") * 1e3 / 3**0.5
            turn = np.radians(at(flow, "buses", e["bus"], "angle_deg"))
            s = complex(
                at(flow, "injections", e["id"], "active_power_mw"),
                at(flow, "injections", e["id"], "reactive_power_mvar"),
            )
            if e.get("spectrum"):
                drawn = np.conj(s * 1e6 / 3 / (volts * np.exp(1j * turn)))
                own = network[e["spectrum"]].values  # type: ignore[attr-defined]
                i[n] -= abs(drawn) * own[f"order_{h}_pct"] / 100 * np.exp(1j * (h * np.angle(drawn) + angles[e["id"]]))
            else:
                y[n, n] += s.real * 1e6 / 3 / volts**2 - 1j / h * s.imag * 1e6 / 3 / volts**2
    return dict(zip(names, np.linalg.solve(y, i).tolist(), strict=True))


@pytest.mark.parametrize("seed", range(12))
def test_random_networks_agree_with_a_dense_solver(seed: int) -> None:
    rng = np.random.default_rng(seed)
    n = int(rng.integers(4, 14))
    items: list[dict[str, Any]] = [bus(f"b{k}", 11) for k in range(n)]
    items += [source("b0", float(rng.uniform(100, 400)), float(rng.uniform(3, 20)))]
    ends = [(int(rng.integers(0, k)), k) for k in range(1, n)] + [
        tuple(rng.choice(n, 2, replace=False).tolist()) for _ in range(2)
    ]
    items += [
        line(f"l{k}", f"b{a}", f"b{b}", float(rng.uniform(0.3, 4)), float(rng.uniform(0.1, 0.4)), float(rng.uniform(0.08, 0.4)),
             float(rng.uniform(3, 90)), skin_exponent=float(rng.uniform(0, 1)))
        for k, (a, b) in enumerate(ends)
    ]  # fmt: skip
    orders = [5, 7, 11, 13]
    kinds = {f"own {k}": {f"order_{h}_{u}": float(v) for h in orders for u, v in
                          (("pct", rng.uniform(1, 20)), ("deg", rng.uniform(-180, 180)))} for k in range(3)}  # fmt: skip
    items += [{"kind": "own_type", "id": k, "family": "spectrum", "values": v} for k, v in kinds.items()]
    angles: dict[str, float] = {}
    loads: list[dict[str, Any]] = []
    for k in range(1, n):
        own = f"own {int(rng.integers(0, 3))}" if rng.random() < 0.5 or k == 1 else None
        made = {"kind": "load", "id": f"d{k}", "bus": f"b{k}", "active_power_mw": float(rng.uniform(0.1, 0.6)),
                "reactive_power_mvar": float(rng.uniform(0.01, 0.2))}  # fmt: skip
        loads.append({**made, "spectrum": own} if own else made)
    items += loads
    items.append({"kind": "shunt", "id": "bank", "bus": f"b{n - 1}", "step_mvar": float(rng.uniform(0.3, 2)), "steps": 1,
                  "steps_on": 1, "rated_kv": 11.0, "step_loss_kw": 0.0})  # fmt: skip
    network = net(*items)
    flow = solve_as_set(network)
    assert flow.account.converged
    result = run("distortion", network, lines="nominal")
    for h in orders:
        angles = {e["id"]: np.radians(kinds[e["spectrum"]][f"order_{h}_deg"]) for e in loads if e.get("spectrum")}
        expected = dense(network, flow, h, angles)
        for b, u in expected.items():
            volts = at(flow, "buses", b, "voltage_kv") * 1e3 / 3**0.5
            assert at(result, "buses", b, f"order_{h}_pct") == pytest.approx(100 * abs(u) / volts, rel=1e-7, abs=1e-10)


def test_transfer_impedances_are_reciprocal(demo: Network) -> None:
    for a, b in (("Heron End", "Kesterby 11"), ("Harbour 11", "Fennick 11")):
        there, back = (
            run("scan", demo.copy(), bus=x, other=y, from_hz=50, to_hz=1500, step_hz=50) for x, y in ((a, b), (b, a))
        )
        assert there.tables["scan"]["ohm"] == pytest.approx(back.tables["scan"]["ohm"], rel=1e-8)


# Limits, findings, bad input


def test_levels_that_are_not_kept_name_bus_order_level_and_who() -> None:
    result = run("distortion", unknown(6.0, 0.5), **QUIET)
    first = result.findings[0]
    assert first.element == "a"
    assert "most of it from d0" in first.text
    fifth = next(f for f in result.findings if f.quantity == "order_5_pct")
    assert fifth.limit == generic_pct("medium", 5)
    assert fifth.value == pytest.approx(at(result, "buses", "a", "order_5_pct"))


def test_a_resonance_next_to_an_injected_order_overloads_the_bank() -> None:
    bank = {"kind": "shunt", "id": "bank", "bus": "a", "step_mvar": 6.0, "steps": 1, "steps_on": 1, "rated_kv": 11.0,
            "step_loss_kw": 0.0}  # fmt: skip
    network = net(bus("a", 11), source("a", 150, 15), drive("d", "a", 5.0), bank)
    result = run("distortion", network, **QUIET)
    assert at(result, "capacitors", "bank", "current_pct") > 130
    assert any(f.element == "bank" and "of rated" in f.text for f in result.findings)
    scan = run("scan", network, bus="a", from_hz=100, to_hz=600, step_hz=5, **QUIET)
    assert any("next to order 5" in f.text and f.element == "bank" for f in scan.findings)


def test_nothing_that_injects_is_said() -> None:
    network = net(bus("a", 11), source("a", 150), {"kind": "load", "id": "d", "bus": "a", "active_power_mw": 1.0,
                                                  "reactive_power_mvar": 0.1})  # fmt: skip
    result = run("distortion", network)
    assert result.account.ending is Ending.NOTHING_TO_SOLVE
    assert "give loads or inverters a spectrum" in result.account.explanation


@pytest.mark.parametrize(("options", "words"), [
    ({"bus": "nowhere"}, "name an existing bus"), ({"bus": "dead"}, "has a supply"),
    ({"bus": "a", "other": "nowhere"}, "name an existing bus"),
])  # fmt: skip
def test_buses_that_can_t_be_looked_from_are_refused(options: dict[str, str], words: str) -> None:
    network = net(bus("a", 11), bus("dead", 11), source("a", 150))
    with pytest.raises(InvalidFields, match=words):
        run("scan", network, **options)


def test_a_scan_in_parts_is_the_scan(demo: Network) -> None:
    study = STUDIES["scan"]
    assert study.split is not None
    options = study.options(bus="Kesterby 11", from_hz=50, to_hz=2500, step_hz=5)
    parts = study.split.plan(Inputs(demo), options)
    ready = study.split.prepare(Inputs(demo), options)
    forwards = [study.split.answer(ready, p, lambda share, words: None)["z"] for p in parts]
    backwards = [study.split.answer(ready, p, lambda share, words: None)["z"] for p in reversed(parts)][::-1]
    assert np.array_equal(np.concatenate(forwards), np.concatenate(backwards))


def test_workings_come_to_the_figures_of_the_result(demo: Network) -> None:
    study = STUDIES["distortion"]
    result = run("distortion", demo)
    assert study.explain is not None
    checked = 0
    for ident in ("Cold Store", "T-Q1", "33 kV to Harbour"):
        for working in study.explain(demo, result, demo.condition, ident, {}):
            for cell in working.ledger:
                if cell.solver is not None:
                    assert cell.value == pytest.approx(cell.solver, rel=1e-9), (ident, cell.symbol)
                    checked += 1
    assert checked == 2 + 4 + 2  # the reactance by hand, and what transformers may carry


@pytest.mark.parametrize("demand", ["parallel", "series", "motor_share", "none"])
@pytest.mark.parametrize("lines", ["nominal", "long"])
@pytest.mark.parametrize("sequence", [1, -1])
def test_the_compiled_matrix_is_the_one_of_the_two_ports(demo: Network, demand: Any, lines: Any, sequence: int) -> None:
    found = LiveLoadFlow(demo).linearise()
    assert found is not None
    grid = Grid(demo, found.reading, ScanOptions(bus="Heron End", demand=demand, lines=lines))
    for order in (0.7, 1.0, 5.0, 7.3, 49.0):
        shunt = grid.arrays.tables["shunt"]
        y = shunt["y"].real + 1j * np.where(shunt["y"].imag > 0, shunt["y"].imag * order, shunt["y"].imag / order)
        plain = nodal_values(grid.pattern, grid.ports(order, sequence), {**shunt, "y": y})
        rest = grid.values(order, sequence) - plain
        off = np.ones(len(rest), np.bool_)
        off[grid.pattern.diagonal] = False
        assert np.abs(rest[off]).max() < 1e-9 * np.abs(plain).max()  # what stands to earth is on the diagonal alone
        earth = rest[grid.pattern.diagonal]
        assert np.all(earth.real > -1e-9 * np.abs(plain).max())  # and gives off nothing
        assert (np.abs(earth) > 1e-9 * np.abs(plain).max()).sum() >= (2 if demand == "none" else 80)


@pytest.mark.parametrize(("form", "z"), [
    ("parallel", lambda p, q, h: 1 / (p - 1j * q / h)),
    ("series", lambda p, q, h: (1 / (p - 1j * q)).real + 1j * h * (1 / (p - 1j * q)).imag),
    ("motor_share", lambda p, q, h: 1 / (1 / ((1 + 0.073j * h) / p) + 1 / (1j * h / p / (6.7 * q / p - 0.74)))),
])  # fmt: skip
def test_demand_is_the_impedance_of_its_form(form: str, z: Any) -> None:
    network = net(bus("a", 11), source("a", 1e6, 1000), bus("b", 11), line("l", "a", "b", 1e-3, 1e-6, 1e-6),
                  {"kind": "load", "id": "d", "bus": "b", "active_power_mw": 0.5, "reactive_power_mvar": 0.2})  # fmt: skip
    found = LiveLoadFlow(network).linearise()
    assert found is not None
    grid = Grid(network, found.reading, ScanOptions(bus="b", demand=form, lines="nominal"))  # type: ignore[arg-type]
    bare = Grid(network, found.reading, ScanOptions(bus="b", demand="none", lines="nominal"))
    base = network.settings.base_mva
    for h in (1.0, 5.0, 11.5):
        at_b = grid.pattern.diagonal[grid.row("b")]
        y = complex(grid.values(h)[at_b] - bare.values(h)[at_b])
        assert y == pytest.approx(1 / z(0.5 / base, 0.2 / base, h), rel=1e-4)


def test_states_laid_over_each_other_are_each_what_they_are_alone(demo: Network) -> None:
    demo.apply([Update(id="Kesterby bank", values={"steps_on": 0})])  # so that only one bank makes a resonance
    asked = {"bus": "Quillport 33 B", "from_hz": 100, "to_hz": 900, "step_hz": 20}
    over = run("scan", demo, over="steps", bank="Quillport capacitors", **asked)
    assert [s.label for s in over.figures[0].series if s.drawn == "line"] == [
        "0 steps on",
        "1 step on",
        "2 steps on",
        "3 steps on",
    ]
    for k in (0, 3):
        alone = demo.copy()
        alone.apply([Update(id="Quillport capacitors", values={"steps_on": k})])
        assert over.tables["scan"][f"ohm_{k + 1}"] == pytest.approx(
            run("scan", alone, **asked).tables["scan"]["ohm"], rel=1e-12
        )
    peaks = [hz for hz, kind, name in zip(*(over.tables["resonances"][c] for c in ("hz", "kind", "takes_part")), strict=True)
             if kind == "peak" and name.startswith("Quillport capacitors")]  # fmt: skip
    assert peaks == sorted(peaks, reverse=True)  # more capacitance, lower frequency
    conditions = run("scan", demo, over="conditions", **asked)
    names = [c.name for c in demo.of(Condition)]
    assert [s.label for s in conditions.figures[0].series if s.drawn == "line"] == names
    noon = run("scan", demo.copy(), **asked)
    assert conditions.tables["scan"]["ohm_1"] == pytest.approx(noon.tables["scan"]["ohm"], rel=1e-12)
    with pytest.raises(InvalidFields, match="name a bank"):
        run("scan", demo, over="steps", bank="T-Q1", **asked)


@pytest.mark.parametrize("seed", range(4))
def test_what_each_source_makes_alone_adds_up_to_what_all_make(seed: int) -> None:
    rng = np.random.default_rng(seed)
    network = two_bridges("Yyn0")
    network.apply([Update(id=d, values={"active_power_mw": float(rng.uniform(0.5, 3))}) for d in ("d1", "d2")])
    result = run("distortion", network, bus="a", **QUIET)
    table = result.tables["contributions"]
    for ident in ("d1", "d2"):
        alone = network.copy()
        alone.apply([Update(id=other, values={"spectrum": None}) for other in ("d1", "d2") if other != ident])
        found = run("distortion", alone, bus="a", **QUIET)
        for h in (5, 11):
            assert at(result, "contributions", ident, f"order_{h}_pct") == pytest.approx(
                at(found, "buses", "a", f"order_{h}_pct"), rel=1e-9
            )
    # All angles are known: the projections on the sum make up the whole of it.
    assert set(table["most_order"]) == {5}
    assert sum(table["along_pct"]) == pytest.approx(100, rel=1e-9)


def test_the_worst_of_all_conditions_is_the_worst_of_each(demo: Network) -> None:
    over = run("distortion", demo, over="conditions")
    study = STUDIES["distortion"]
    each = {c.name: study.run(Inputs(demo, c), study.options(), lambda share, words: None) for c in demo.of(Condition)}
    for ident in ("Cold Store", "Heron End", "Lantern Row 0.4", "Kesterby 11"):
        by_name = {n: at(r, "buses", ident, "thd_pct") for n, r in each.items()}
        assert at(over, "buses", ident, "thd_pct") == pytest.approx(max(by_name.values()), rel=1e-12)
        row = list(over.tables["buses"]["id"]).index(ident)
        where = over.tables["buses"]["under"][row]
        assert where == max(by_name, key=lambda n: by_name[n])
        assert at(over, "buses", ident, "most_order") == at(each[where], "buses", ident, "most_order")
        for h in (5, 11):
            most = max(at(r, "buses", ident, f"order_{h}_pct") for r in each.values())
            assert at(over, "buses", ident, f"order_{h}_pct") == pytest.approx(most, rel=1e-12)
    worst = max((f for r in each.values() for f in r.findings), key=lambda f: f.excess)
    assert any(f.excess == pytest.approx(worst.excess) and worst.text in f.text for f in over.findings)


def test_a_resonance_without_losses_names_what_swings() -> None:
    """x = 0.04 against b = 1: at order 5 nothing is left of the matrix."""
    network = Network.from_items([
        {"kind": "bus", "id": "s", "nominal_kv": 11},
        {"kind": "source", "id": "g", "name": "Grid", "bus": "s", "fault_max_mva": 2500, "fault_min_mva": 2000, "x_over_r": 100},
        {"kind": "shunt", "id": "c", "name": "Bank", "bus": "s", "step_mvar": 100.0, "rated_kv": 11.0},
    ])  # fmt: skip
    grid = grid_of(Inputs(network), ScanOptions(bus="s", demand="none"))
    assert grid is not None
    grid._series.r[:], grid._series.x[:] = 0.0, 0.04
    grid._prepare()
    with pytest.raises(SingularMatrix, match=r"at 250 Hz \(order 5\).*Bank swings with Grid"):
        grid.factorise(5.0)
