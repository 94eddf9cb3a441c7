"""Unequal demand behind a transformer of every vector group, against symmetrical components worked out by hand.

Seen from its low-voltage side a transformer on a strong supply is a source behind its impedances: E turned by the clock number
in the positive sequence, nothing in the others; Z1 = Z2, and Z0 where its star carries zero sequence. Demand is constant
impedance, so that the answer is one linear system of three equations.
"""

from __future__ import annotations

from math import pi, sqrt

import numpy as np
import pytest

from tests.core.test_balanced_equals_per_phase import GROUPS
from tests.core.test_per_phase_findings import TURN
from tests.helpers import Item, bus, network, source, transformer
from vastmesh.core.network import Transformer
from vastmesh.core.results.state import LiveUnbalanced

# Phases from zero, positive and negative sequence.
PHASES = np.array([[1, 1, 1], [1, TURN**2, TURN], [1, TURN, TURN**2]])
U = 11e3
DEMAND_VA = {"a": 2.4e6 + 0.9e6j, "b": 1.1e6 + 0.2e6j, "c": 0.3e6 + 0.4e6j}


def solved(group: str, *, wye: bool, **more: float) -> tuple[np.ndarray, Transformer]:
    """Voltages of the LV phases to earth or neutral, V, with unequal impedances on them; and the transformer."""
    each = {f"p_{k}_mw": s.real / 1e6 for k, s in DEMAND_VA.items()} | {
        f"q_{k}_mvar": s.imag / 1e6 for k, s in DEMAND_VA.items()
    }
    demand: Item = {
        "kind": "load", "id": "demand", "bus": "c", "connection": "wye" if wye else "delta", "constant_power_pct": 0.0,
        "constant_impedance_pct": 100.0, "conductors": "ABCN" if wye else "ABC", **each,
    }  # fmt: skip
    star = "n" in group[1:]
    net = network(
        bus("a", 33.0), source("a", fault_max_mva=1e6, fault_min_mva=1e6),
        bus("c", 11.0, conductors="ABCN" if wye else "ABC"),
        transformer("a", "c", vector_group=group, iron_loss_kw=0.0, no_load_current_pct=0.0, hv_neutral="solid",
                    **({"lv_neutral": "solid"} if star else {}), **more), demand,
    )  # fmt: skip
    reading = LiveUnbalanced(net).reading()
    assert reading is not None
    unit = net["a/c"]
    assert isinstance(unit, Transformer)
    return reading.to_neutral[reading.arrays.bus_id.index("c")], unit


def clock(group: str) -> int:
    return int("".join(c for c in group if c.isdigit()) or 0)


def by_hand(group: str, z1: complex, z0: complex, y: np.ndarray) -> np.ndarray:
    """Phase voltages of source E behind Z0, Z1, Z2 with an admittance matrix between phases and earth, V."""
    e = np.array([0, U / sqrt(3) * np.exp(-1j * clock(group) * pi / 6), 0])
    z = np.diag([z0, z1, z1])
    to_sequences = np.linalg.inv(PHASES)
    # V = E - Z I, I = Y V, in sequences.
    ys = to_sequences @ y @ PHASES
    return np.asarray(PHASES @ np.linalg.solve(np.eye(3) + z @ ys, e))


def ohms(unit: Transformer) -> complex:
    return complex(unit.impedance_pu()) * U**2 / ((unit.rated_mva or 1.0) * 1e6)


@pytest.mark.parametrize("group", GROUPS)
def test_demand_between_phases(group: str) -> None:
    """No zero sequence flows: positive and negative sequence alone, whatever the windings."""
    found, unit = solved(group, wye=False)
    ab, bc, ca = (np.conj(DEMAND_VA[k]) / U**2 for k in "abc")
    y = np.array([[ab + ca, -ab, -ca], [-ab, ab + bc, -bc], [-ca, -bc, bc + ca]])
    expected = by_hand(group, ohms(unit), 1e3 * ohms(unit), y)
    pairs = [found[k] - found[(k + 1) % 3] for k in range(3)]
    np.testing.assert_allclose(pairs, [expected[k] - expected[(k + 1) % 3] for k in range(3)], rtol=1e-4)


# A delta at the other side, or a zigzag at this one, gives zero sequence a way of its own.
OWN_WAY = [g for g in GROUPS if "zn" in g or (g.startswith("D") and "yn" in g)]


@pytest.mark.parametrize("group", OWN_WAY)
def test_demand_from_phases_to_neutral(group: str) -> None:
    found, unit = solved(group, wye=True, z0_pct=5.0)
    y = np.diag([np.conj(DEMAND_VA[k]) / (U / sqrt(3)) ** 2 for k in "abc"])
    z1 = ohms(unit)
    np.testing.assert_allclose(found, by_hand(group, z1, z1 * 5.0 / (unit.impedance_pct or 1.0), y), rtol=1e-4)


@pytest.mark.parametrize("group", [g for g in GROUPS if g.startswith("YNyn")])
def test_two_earthed_stars_pass_zero_sequence_on(group: str) -> None:
    """A strong supply has no zero-sequence impedance of its own: what is left is that of the unit."""
    found, unit = solved(group, wye=True, z0_pct=7.0)
    y = np.diag([np.conj(DEMAND_VA[k]) / (U / sqrt(3)) ** 2 for k in "abc"])
    z1 = ohms(unit)
    np.testing.assert_allclose(found, by_hand(group, z1, z1 * 7.0 / (unit.impedance_pct or 1.0), y), rtol=1e-4)
