"""Compiled arrays: the treaty between the network model and the solvers.

One index space: row ``i`` of every ``bus_*`` array is the same bus. All impedances and powers
are per unit on ``base_mva`` and the nominal voltage of the bus; angles are in radians.
Every table has ``element`` (position in ``element_id``) as its first column. Solvers see only
these arrays.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]
Known = TypeVar("Known")
Complexes = NDArray[np.complex128]
Columns = dict[str, NDArray[Any]]

# Columns of each table with their types; a stamp fills what it knows, the rest is zero (or one).
TABLES: dict[str, dict[str, Any]] = {
    # Two-port: ideal ratio at each end (complex voltage = ratio * inner voltage; the angle of
    # ratio_from is shift), series admittance between, a shunt admittance at each inner end.
    "branch": {
        "element": np.int64, "from": np.int64, "to": np.int64, "r": np.float64, "x": np.float64,
        "shunt_from": np.complex128, "shunt_to": np.complex128, "ratio_from": np.float64, "ratio_to": np.float64,
        "shift": np.float64, "rating_from_a": np.float64, "rating_to_a": np.float64, "rating_mva": np.float64,
    },
    # Demand at nominal voltage; shares of constant current and impedance, the rest is constant power.
    "load": {
        "element": np.int64, "bus": np.int64, "p": np.float64, "q": np.float64, "share_i": np.float64,
        "share_z": np.float64, "group": np.int64, "area": np.int64,
    },
    # Injection. participation: weight in what is shared; p of one that holds voltage and angle is its schedule.
    # control 0: fixed p and q; 1: fixed p, holds voltage within q limits; 2: holds voltage and angle.
    "injection": {
        "element": np.int64, "bus": np.int64, "p": np.float64, "q": np.float64, "control": np.int64,
        "voltage": np.float64, "angle": np.float64, "q_min": np.float64, "q_max": np.float64, "weight": np.float64,
        "group": np.int64, "participation": np.float64,
    },
    "shunt": {"element": np.int64, "bus": np.int64, "y": np.complex128},
    # Machines among the injections whose reactive power follows the voltage: four voltages, and the reactive
    # power q delivered up to v1 and taken in from v4; what it is now: a + b V.
    "curve": {
        "element": np.int64, "bus": np.int64, "v1": np.float64, "v2": np.float64, "v3": np.float64, "v4": np.float64,
        "q": np.float64, "a": np.float64, "b": np.float64,
    },
    # Machines that hold the voltage of another bus than their own.
    "remote": {
        "element": np.int64, "bus": np.int64, "voltage": np.float64, "q_min": np.float64, "q_max": np.float64,
        "weight": np.float64,
    },
    # Automatic taps: ratio at the neutral position and turns per step of the branch's from (0) or to (1) side;
    # sense 1 when a higher position raises the voltage of the controlled bus; r, x: compensation, for the current
    # out of the branch's to end.
    "tap": {
        "element": np.int64, "bus": np.int64, "side": np.int64, "ratio": np.float64, "step": np.float64,
        "neutral": np.float64, "low": np.float64, "high": np.float64, "position": np.float64, "sense": np.int64,
        "target": np.float64, "band": np.float64, "r": np.float64, "x": np.float64, "continuous": np.bool_,
        "delay": np.float64,
    },
    # Phase shifters that hold the active power into their from end: shift = zero + position * step, rad.
    "phase": {
        "element": np.int64, "target": np.float64, "band": np.float64, "zero": np.float64, "step": np.float64,
        "position": np.float64, "most": np.float64,
    },
    # Automatic capacitors and reactors: admittance per step; sense 1 when a step raises the voltage.
    "bank": {
        "element": np.int64, "bus": np.int64, "y": np.complex128, "on": np.int64, "steps": np.int64, "sense": np.int64,
        "below": np.float64, "above": np.float64,
    },
    "switch": {"element": np.int64, "from": np.int64, "to": np.int64, "closed": np.bool_, "rating_a": np.float64},
}  # fmt: skip
ONES = {"ratio_from", "ratio_to", "weight"}
NONE = {"area"}  # -1 where a stamp gave none
FIXED, HOLDS_VOLTAGE, SLACK = 0, 1, 2


@dataclass(kw_only=True)
class NetArrays:
    """Everything a balanced study needs to know about a network.

    ``tables``: as declared in :data:`TABLES`. ``groups``: names behind ``group`` columns (demand
    classes, generator energies). ``left_out``: element id -> names of required fields that are blank. ``raised``: elements
    whose impedance is taken larger than entered, as it could not be told from rounding. ``unknown``: element id -> kind of what
    has no balanced equations.
    The last ``n_inner`` buses are star points inside elements, with the element's id. ``bus_area``: position in
    ``area_id`` of each bus, -1 where none; ``area_export``: agreed export, per unit, NaN where none.
    """

    base_mva: float
    frequency_hz: float
    bus_id: list[str]
    bus_kv: Floats
    element_id: list[str]
    element_kind: list[str]
    tables: dict[str, Columns]
    groups: list[str]
    n_inner: int = 0
    bus_area: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    area_id: list[str] = field(default_factory=list)
    area_export: Floats = field(default_factory=lambda: np.zeros(0))
    left_out: dict[str, tuple[str, ...]] = field(default_factory=dict)
    raised: list[str] = field(default_factory=list)
    unknown: dict[str, str] = field(default_factory=dict)
    # What follows from the ids and kinds alone: the same for all arrays made of these.
    _known: dict[str, Any] = field(default_factory=dict, repr=False, compare=False)

    @property
    def bus_row(self) -> dict[str, int]:
        """Position of each bus in ``bus_id``."""
        return self._once("bus_row", lambda: {b: i for i, b in enumerate(self.bus_id)})

    @property
    def position(self) -> dict[str, int]:
        """Position of each element in ``element_id``."""
        return self._once("position", lambda: {e: i for i, e in enumerate(self.element_id)})

    @property
    def one_branch(self) -> Bools:
        """Whether each element is one branch at most: all but units of three windings, (n_element,)."""
        count = len(self.element_kind)
        return self._once(
            "one", lambda: np.fromiter((k != "three_winding" for k in self.element_kind), np.bool_, count)
        )

    def _once(self, name: str, work: Callable[[], Known]) -> Known:
        if name not in self._known:
            self._known[name] = work()
        found: Known = self._known[name]
        return found

    @property
    def n_bus(self) -> int:
        return len(self.bus_id)

    def base_current_a(self) -> Floats:
        """Base current of each bus, A."""
        return np.asarray(self.base_mva * 1e3 / (np.sqrt(3) * self.bus_kv))


AUTOMATIC = ("curve", "remote", "tap", "phase", "bank")
"""Tables of what moves by itself."""


def without_controls(arrays: NetArrays) -> NetArrays:
    """The arrays in which nothing moves by itself."""
    quiet = {name: {c: x[:0] for c, x in arrays.tables[name].items()} for name in AUTOMATIC}
    return replace(arrays, tables={**arrays.tables, **quiet})


def with_rows(table: Columns, **values: Any) -> Columns:
    """A table with further rows of no element: columns that are given, zero elsewhere; ``bus`` says how many."""
    count = len(values["bus"])
    more = {c: np.zeros(count, x.dtype) for c, x in table.items()}
    more["element"][:] = -1
    for name, value in values.items():
        more[name][:] = value
    return {c: np.concatenate([x, more[c]]) for c, x in table.items()}


def stack(name: str, parts: Sequence[Columns]) -> Columns:
    """One table from the columns that several stamps gave, with defaults where a stamp gave none."""
    columns: Columns = {}
    lengths = [len(p["element"]) for p in parts]
    for column, dtype in TABLES[name].items():
        blank = 1 if column in ONES else -1 if column in NONE else 0
        pieces = [
            np.asarray(p[column], dtype) if column in p else np.full(n, blank, dtype)
            for p, n in zip(parts, lengths, strict=True)
        ]
        columns[column] = np.concatenate(pieces) if pieces else np.zeros(0, dtype)
    return columns
