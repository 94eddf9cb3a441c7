"""Random four-wire feeders against a solution made here from scratch: one dense matrix, currents repeated until they stand.

Nothing of the program but its reading of the network is used on the other side: series matrices are inverted and stamped
here, demand is turned into currents here, and the method is a fixed point and not Newton's.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise
from math import pi, sqrt
from typing import Any

import numpy as np
import pytest

from tests.helpers import Item, bus
from vastmesh.core.flow.phases import Reading
from vastmesh.core.network import Network
from vastmesh.core.results.state import LiveUnbalanced

PHASE_V = 400 / sqrt(3)
N = 3


@dataclass
class Leg:
    """One piece of demand between two conductors of a bus: VA at nominal voltage, and its shares of I and Z in per cent."""

    at: int
    first: int
    second: int
    power: complex
    share_i: float
    share_z: float
    nominal_v: float


@dataclass
class Feeder:
    """A feeder as the program gets it, and as plain figures."""

    items: list[Item]
    lines: list[tuple[int, int, np.ndarray]] = field(default_factory=list)  # from, to, Ω over A, B, C, N
    legs: list[Leg] = field(default_factory=list)
    rods: list[tuple[int, float]] = field(default_factory=list)
    count: int = 1


def rows(m: np.ndarray) -> str:
    return "; ".join(" ".join(f"{x:.9f}" for x in r[: k + 1]) for k, r in enumerate(m))


def random_feeder(seed: int, *, ring: bool = False) -> Feeder:
    """A tree (or a ring) of up to eight buses with matrices, electrodes and demand of every kind drawn at random."""
    rng = np.random.default_rng(seed)
    n = int(rng.integers(4, 9))
    feeder = Feeder([
        {"kind": "settings", "id": "settings", "name": "s", "base_mva": 0.1, "study": "per_phase"},
        bus("b0", 0.4, conductors="ABCN", neutral="earthed"),
        {"kind": "source", "id": "grid", "bus": "b0", "fault_max_mva": 1e6, "fault_min_mva": 1e6},
    ], count=n)  # fmt: skip
    feeder.items += [bus(f"b{k}", 0.4, conductors="ABCN") for k in range(1, n)]
    ways = [(int(rng.integers(k)), k) for k in range(1, n)]
    if ring:
        ways.append((n - 1, 0))
    for k, (frm, to) in enumerate(ways):
        own = rng.uniform(0.2, 0.5, 4)
        shared_r, shared_x = rng.uniform(0.04, 0.06), rng.uniform(0.15, 0.25)
        r = np.round(np.diag(own) + shared_r, 9)
        x = np.round(np.diag(rng.uniform(0.08, 0.15, 4)) + shared_x, 9)
        km = float(rng.uniform(0.02, 0.12))
        feeder.items += [
            {"kind": "line_matrix", "id": f"m{k}", "order": "ABCN", "r_rows": rows(r), "x_rows": rows(x)},
            {"kind": "line", "id": f"l{k}", "from_bus": f"b{frm}", "to_bus": f"b{to}", "length_km": km, "matrix": f"m{k}",
             "conductors": "ABCN"},
        ]  # fmt: skip
        feeder.lines.append((frm, to, (r + 1j * x) * km))
    for k in range(1, n):
        for _ in range(int(rng.integers(1, 4))):
            add_demand(feeder, k, rng)
        if rng.random() < 0.4:
            ohm = float(rng.uniform(5, 40))
            feeder.items.append({"kind": "electrode", "id": f"rod{k}", "bus": f"b{k}", "resistance_ohm": ohm})
            feeder.rods.append((k, ohm))
    return feeder


def add_demand(feeder: Feeder, at: int, rng: np.random.Generator) -> None:
    share_i, share_z = (float(x) for x in rng.choice([0, 20, 50], 2))
    kind = ("one", "pair", "wye", "delta")[int(rng.integers(4))]
    powers = [complex(p, p * q) for p, q in zip(rng.uniform(300, 2500, 3), rng.uniform(0.0, 0.5, 3), strict=True)]
    shares = {"constant_current_pct": share_i, "constant_impedance_pct": share_z,
              "constant_power_pct": 100 - share_i - share_z}  # fmt: skip
    common: dict[str, Any] = {
        "kind": "load", "id": f"d{len(feeder.items)}", "bus": f"b{at}", "demand_class": "domestic", **shares,
    }  # fmt: skip

    def leg(first: int, second: int, power: complex, nominal: float) -> None:
        feeder.legs.append(Leg(at, first, second, power, share_i, share_z, nominal))

    def given(s: complex) -> dict[str, float]:
        return {"active_power_mw": s.real / 1e6, "reactive_power_mvar": s.imag / 1e6}

    if kind == "one":
        p = int(rng.integers(3))
        feeder.items.append({**common, "conductors": "ABC"[p] + "N", **given(powers[0])})
        leg(p, N, powers[0], PHASE_V)
    elif kind == "pair":
        p, q = ((0, 1), (1, 2), (0, 2))[int(rng.integers(3))]
        feeder.items.append({**common, "conductors": "ABC"[p] + "ABC"[q], **given(powers[0])})
        leg(p, q, powers[0], 400.0)
    else:
        each = {f"p_{c}_mw": s.real / 1e6 for c, s in zip("abc", powers, strict=True)} | {
            f"q_{c}_mvar": s.imag / 1e6 for c, s in zip("abc", powers, strict=True)
        }
        delta = kind == "delta"
        feeder.items.append({**common, "connection": kind, "conductors": "ABC" if delta else "ABCN", **each})
        for p, s in enumerate(powers):
            leg(p, (p + 1) % 3 if delta else N, s, 400.0 if delta else PHASE_V)


def by_fixed_point(f: Feeder) -> np.ndarray:
    """Voltages to earth of every conductor of every bus, V, (n, 4): the source ideal, its neutral at earth."""
    size = 4 * f.count
    y = np.zeros((size, size), np.complex128)
    for frm, to, z in f.lines:
        g = np.linalg.inv(z)
        one, two = slice(4 * frm, 4 * frm + 4), slice(4 * to, 4 * to + 4)
        y[one, one] += g
        y[two, two] += g
        y[one, two] -= g
        y[two, one] -= g
    for k, ohm in f.rods:
        y[4 * k + N, 4 * k + N] += 1 / ohm
    source = PHASE_V * np.array([1, np.exp(-2j * pi / 3), np.exp(2j * pi / 3), 0])
    inner, v = y[4:, 4:], np.tile(source, f.count)
    for _ in range(400):
        i = np.zeros(size, np.complex128)
        for leg in f.legs:
            p, q = 4 * leg.at + leg.first, 4 * leg.at + leg.second
            u = v[p] - v[q]
            ratio = abs(u) / leg.nominal_v
            mix = (100 - leg.share_i - leg.share_z) + leg.share_i * ratio + leg.share_z * ratio**2
            amps = np.conj(leg.power * mix / 100 / u)
            i[p] -= amps
            i[q] += amps
        new = np.concatenate([source, np.linalg.solve(inner, i[4:] - y[4:, :4] @ source)])
        change = np.abs(new - v).max()
        v = new
        if change < 1e-10:
            return v.reshape(-1, 4)
    raise AssertionError("the fixed point was not reached; draw lighter demand")


def solved(f: Feeder) -> Reading:
    found = LiveUnbalanced(Network.from_items(f.items)).reading()
    assert found is not None
    return found


@pytest.mark.parametrize("ring", [False, True])
@pytest.mark.parametrize("seed", range(12))
def test_voltages_of_every_conductor(seed: int, ring: bool) -> None:
    feeder = random_feeder(seed, ring=ring)
    reading = solved(feeder)
    order = [reading.arrays.bus_id.index(f"b{k}") for k in range(feeder.count)]
    # The source of the program has the impedance of its fault level, of 0.16 µΩ.
    np.testing.assert_allclose(reading.bus_v[order], by_fixed_point(feeder), atol=3e-4)


@pytest.mark.parametrize("seed", range(12))
def test_losses_are_what_the_currents_leave_in_the_matrices(seed: int) -> None:
    feeder = random_feeder(seed)
    reading = solved(feeder)
    v = by_fixed_point(feeder)
    for k, (frm, to, z) in enumerate(feeder.lines):
        i = np.linalg.solve(z, v[frm] - v[to])
        at = reading.arrays.element_id.index(f"l{k}")
        np.testing.assert_allclose(reading.element_current[at, 0], i, atol=2e-3)
        lost = float((i.conj() @ z @ i).real)
        assert reading.element_power[at].sum().real == pytest.approx(lost, rel=1e-4, abs=1e-3)
        assert reading.losses[at].sum() == pytest.approx(lost, rel=1e-4, abs=1e-3)


def test_earth_carries_what_the_rods_take() -> None:
    """What leaves the feeder by electrodes comes back by earth to the neutral of the source, and no charge is left anywhere."""
    found = 0
    for seed in range(12):
        feeder = random_feeder(seed)
        reading = solved(feeder)
        into_earth = sum(reading.bus_v[reading.arrays.bus_id.index(f"b{k}")][N] / ohm for k, ohm in feeder.rods)
        leaving = sum(
            reading.element_current[reading.arrays.element_id.index(f"l{k}"), 0].sum()
            for k, (frm, _, _) in enumerate(feeder.lines) if frm == 0
        )  # fmt: skip
        assert leaving == pytest.approx(into_earth, abs=1e-6)
        found += bool(feeder.rods)
    assert found > 3


def test_lighter_demand_loses_less_whatever_its_kind() -> None:
    """Monotony that no arithmetic slip survives: halving every piece of demand lowers losses and voltages of the neutral."""
    for seed in range(6):
        feeder = random_feeder(seed)
        live = LiveUnbalanced(Network.from_items(feeder.items))
        steps = [
            live.solve(live.network.condition.model_copy(update={"demand_factor": f})).summary for f in (1.0, 0.5, 0.25)
        ]
        for name in ("active_loss_mw", "highest_neutral_v"):
            values = [s[name] for s in steps]
            assert all(a > b for a, b in pairwise(values)), (seed, name, values)


@pytest.mark.parametrize("seed", range(12))
def test_phasors_as_published_add_up_to_zero_at_every_bus(seed: int) -> None:
    """Kirchhoff from sizes and angles in the tables alone: of branches, of loads and of electrodes, conductor by conductor."""
    feeder = random_feeder(seed, ring=True)
    tables = LiveUnbalanced(Network.from_items(feeder.items)).solve().tables
    left = {f"b{k}": np.zeros(4, np.complex128) for k in range(feeder.count)}

    def current(row: dict[str, Any]) -> np.ndarray:
        found = np.zeros(4, np.complex128)
        for k, stem in enumerate(("phase_a", "phase_b", "phase_c", "neutral")):
            if row[f"{stem}_current_a"] and row[f"{stem}_current_deg"] is not None:
                found[k] = row[f"{stem}_current_a"] * np.exp(1j * np.radians(row[f"{stem}_current_deg"]))
        return found

    for row in tables["branches"].records():
        left[row["from_bus"]] -= current(row)
        left[row["to_bus"]] += current(row)
    for row in tables["injections"].records():
        left[row["bus"]] -= current(row)
    del left["b0"]  # the source delivers there, and its neutral leads to earth
    scale = max(r["neutral_current_a"] or 0.0 for r in tables["branches"].records()) + 10
    for ident, amps in left.items():
        np.testing.assert_allclose(amps, 0, atol=1e-6 * scale, err_msg=ident)
