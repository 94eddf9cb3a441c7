"""Compiled arrays in conductor coordinates: the treaty between the network and the load flow per phase.

A *node* is one conductor of one bus, or several joined by closed switches; earth is no node. A *terminal* is where an
element touches a node; everything linear stands in one block-diagonal terminal matrix in siemens, so that currents
of every element and conductor follow from one product. Voltages are to remote earth. Conductors are numbered
A 0, B 1, C 2, N 3; 4 is a star point inside an element.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from ..arrays import Columns, Complexes, Floats, Ints

EARTH, ABSENT = -1, -2
NEUTRAL, STAR = 3, 4
SLACK_MACHINE, PV_MACHINE, PQ_MACHINE, MOTOR = 0, 1, 2, 3

# Demand between two nodes (plant with a minus sign): power at the voltage u0 (V), shares of constant current and
# impedance. sign: 1 demand, -1 plant.
DEMAND = {
    "element": np.int64, "key_p": np.int64, "key_q": np.int64, "u0": np.float64, "s": np.complex128,
    "share_i": np.float64, "share_z": np.float64, "group": np.int64, "area": np.int64, "sign": np.int64,
    "curve": np.int64,
}  # fmt: skip
# Machines whose positive sequence is set: source, generator, inverter, motor. p, q: per unit of base power, delivered.
MACHINE = {
    "element": np.int64, "key_a": np.int64, "key_b": np.int64, "key_c": np.int64, "role": np.int64, "p": np.float64,
    "q": np.float64, "voltage": np.float64, "angle": np.float64, "q_min": np.float64, "q_max": np.float64,
    "weight": np.float64, "group": np.int64, "area": np.int64, "curve": np.int64,
}  # fmt: skip
# Conductors of lines and reactors whose losses are told apart: terminals at both ends, own resistance in Ω; what is left
# of an element's losses it shares with earth.
LOSS = {"element": np.int64, "first": np.int64, "second": np.int64, "own_ohm": np.float64}
# Limbs of transformers: copper loss is r |i|², iron loss g |u|², in W, with i and u summed over the terms of the limb.
LIMB = {"element": np.int64, "phase": np.int64, "r": np.float64, "g": np.float64}
# Of each limb: by how much the voltage (V) of a terminal adds to its current and to its voltage.
TERM = {"limb": np.int64, "terminal": np.int64, "i": np.complex128, "u": np.complex128}
# Q(V) curves: four voltages, and the most reactive power (per unit of base power); per demand row or machine.
CURVE = {"v1": np.float64, "v2": np.float64, "v3": np.float64, "v4": np.float64, "q": np.float64}


Positions = tuple[float, float, float]


@dataclass(frozen=True)
class Gap:
    """Something the model asks for that is not there: which element, field, what it means, how bad."""

    element: str
    field: str
    text: str
    breach: bool = True


@dataclass(frozen=True)
class TapSpot:
    """A branch whose ratio can change: the slice of terminal-matrix entries that follow, and how.

    ``build``: positions of phases A, B, C and the phase shift in rad -> admittances of the slice, in its order;
    ``terms``, ``build_terms``: likewise the terms of its limbs, columns i and u; ``moves``: of the bus on the HV side (else the
    LV side), which position moves each phase most, -1 where none does; found when it is asked for, as only regulators ask.
    """

    element: int
    entries: slice
    build: Callable[[Positions, float], Complexes]
    position: Positions
    shift_rad: float = 0.0
    terms: slice | None = None
    build_terms: Callable[[Positions, float], tuple[Complexes, Complexes]] | None = None
    moves: Callable[[bool], tuple[int, int, int]] = lambda hv: (0, 1, 2)


@dataclass(kw_only=True)
class ConductorArrays:
    """Everything the load flow per phase needs to know about a network, at 100 % demand and generation.

    ``node``: of each bus and conductor (n_bus, 4), EARTH where solidly earthed, ABSENT where there is none.
    ``node_of_key``: node of each key (bus * 4 + conductor, earth, then the star points); ``base_v``: phase-to-neutral
    base of each node, V. ``t_row``, ``t_col``, ``t_y``: entries of the terminal matrix, S; ``t_i``: currents that
    sources drive out of terminals, A. ``switched``: element,
    conductor and both keys of every closed pole. ``gaps``: what could not be connected. ``rating``,
    ``neutral_rating``: per element, A (kVA-wise A at 1 kV for transformers).
    """

    base_mva: float
    frequency_hz: float
    bus_id: list[str]
    bus_kv: Floats
    phase_v: Floats
    node: Ints
    node_of_key: Ints
    n_node: int
    base_v: Floats
    element_id: list[str]
    element_kind: list[str]
    terminal: Columns
    t_row: Ints
    t_col: Ints
    t_y: Complexes
    t_i: Complexes
    demand: Columns
    machine: Columns
    curve: Columns
    loss: Columns
    limb: Columns
    term: Columns
    groups: list[str]
    rating: Floats
    neutral_rating: Floats
    taps: dict[str, TapSpot] = field(default_factory=dict)
    banks: dict[str, tuple[slice, Complexes]] = field(default_factory=dict)
    switched: Ints = field(default_factory=lambda: np.zeros((0, 4), np.int64))
    gaps: list[Gap] = field(default_factory=list)
    left_out: dict[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def n_bus(self) -> int:
        return len(self.bus_id)

    def terminal_node(self) -> Ints:
        """Node of each terminal; EARTH where it is earthed."""
        return self.node_of_key[self.terminal["key"]]
