"""What the rows of result tables stand for, and what tables of solved states share."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Protocol

import numpy as np

from ..electrical.arrays import Bools, Complexes, Floats, Ints
from ..network import Area, Bus, Element, Item, Network, Role, ThreeWinding, VoltageLimits, roles_of
from ._table import Column, Table

PU, DEG, KV, MW, MVAR, AMP, PCT = "p.u.", "°", "kV", "MW", "Mvar", "A", "%"


class Compiled(Protocol):
    """What rows need to know of compiled arrays, balanced or per phase."""

    bus_id: list[str]
    element_id: list[str]


class Rows:
    """What the rows of the tables stand for: fixed while no element is added, removed or reconnected."""

    def __init__(self, network: Network, arrays: Compiled) -> None:
        items = network.items
        self.buses: list[Bus] = network.of(Bus)
        # What joins two buses is a branch, what hangs from one an injection: a new kind finds its table by itself.
        elements = [i for i in items.values() if isinstance(i, Element)]
        self.branch_ids = [e.id for e in elements if len(e.terminals()) == 2]
        self.injection_ids = [e.id for e in elements if len(e.terminals()) == 1]
        self.winding_units = [e for e in elements if isinstance(e, ThreeWinding)]
        self.bus_column = [b.id for b in self.buses]
        self.bus_names = [b.name for b in self.buses]
        self.areas = [b.area for b in self.buses]
        self.bus_kv = np.array([b.nominal_kv or np.nan for b in self.buses])
        self.in_service = np.array([b.in_service for b in self.buses], np.bool_)
        self.area_names = sorted({a for a in self.areas if a})
        number = {a: i for i, a in enumerate(self.area_names)}
        self.area_of_bus = np.array([number.get(a or "", -1) for a in self.areas], np.int64)
        row = {b: i for i, b in enumerate(b.id for b in self.buses)}
        numbers = {v.id: i for i, v in enumerate(network.of(VoltageLimits))}
        self.own_limits = np.array([numbers.get(b.limits or "", -1) for b in self.buses], np.int64)
        limit = (getattr(items[i], "loading_limit_pct", None) for i in self.branch_ids)
        self.loading_limit = np.array([np.nan if x is None else x for x in limit], np.float64)
        self.branch_names = [items[i].name for i in self.branch_ids]
        self.branch_kinds = [items[i].kind for i in self.branch_ids]
        ends = [items[i].buses() for i in self.branch_ids]  # type: ignore[attr-defined]
        self.branch_from, self.branch_to = [e[0] for e in ends], [e[1] for e in ends]
        self.area_from = self.area_of_bus[[row[b] for b in self.branch_from]]
        self.area_to = self.area_of_bus[[row[b] for b in self.branch_to]]
        taps = [getattr(items[i], "tap_position", None) for i in self.branch_ids]
        self.tap_entered = np.array([np.nan if t is None else t for t in taps], np.float64)
        self.is_switch = np.array([r is Role.SWITCH for r in roles_of(self.branch_kinds)], np.bool_)
        self.injection_names = [items[i].name for i in self.injection_ids]
        self.injection_kinds = [items[i].kind for i in self.injection_ids]
        self.branch_number = {b: i for i, b in enumerate(self.branch_ids)}
        self.assumed: list[str] | None = None  # said by the account, kept with the rows
        self.injection_bus = [items[i].buses()[0] for i in self.injection_ids]  # type: ignore[attr-defined]

        self.attach(arrays)

    def attach(self, arrays: Compiled) -> None:
        """Find the rows in arrays that were compiled anew."""
        compiled = {b: i for i, b in enumerate(arrays.bus_id)}
        position = {e: i for i, e in enumerate(arrays.element_id)}
        self.bus_row = np.array([compiled.get(b.id, -1) for b in self.buses], np.int64)
        self.winding_element, self.branch_element, self.injection_element = (
            np.array([position.get(i, -1) for i in ids], np.int64)
            for ids in ([e.id for e in self.winding_units], self.branch_ids, self.injection_ids)
        )

    def follow(self, idents: Iterable[str], items: Mapping[str, Item]) -> None:
        """Take up positions of taps that were set anew."""
        for ident in idents:
            row = self.branch_number.get(ident)
            if row is not None:
                tap = getattr(items[ident], "tap_position", None)
                self.tap_entered[row] = np.nan if tap is None else tap


# What of an element the rows of the tables tell beside its solution; taps are followed one by one.
_TOLD = ("name", "conductors", "area", "nominal_kv", "limits", "loading_limit_pct")


def rows_stay(idents: Iterable[str], previous: Mapping[str, Item], items: Mapping[str, Item]) -> bool:
    """Whether changes of some items leave what the rows of the tables stand for, positions of taps apart."""
    for ident in idents:
        old, new = previous.get(ident), items.get(ident)
        if type(old) is not type(new) or isinstance(new, VoltageLimits | Area):
            return False
        if isinstance(old, Element) and isinstance(new, Element):
            if old.buses() != new.buses():
                return False
            if any(getattr(old, f, None) != getattr(new, f, None) for f in _TOLD):
                return False
            if isinstance(new, Bus) and old.in_service != new.in_service:
                return False
    return True


def picked(values: np.ndarray, rows: Ints, missing: complex = np.nan) -> np.ndarray:
    """values[rows] with ``missing`` where a row is -1."""
    blank = np.full((1, *values.shape[1:]), missing)
    return np.concatenate([values, blank])[rows]


def state_words(live: Bools) -> list[str]:
    """What is written in the column of the state."""
    words = ("dead", "live")
    return [words[on] for on in live.tolist()]


def angle_deg(v: Complexes) -> Floats:
    """Angles from -180° to 180°; NaN where there is nothing."""
    return np.where(np.isfinite(v.real), np.degrees(np.arctan2(v.imag, v.real)), np.nan)


def power_factor(s: Complexes) -> Floats:
    """Active over apparent power of powers in MVA; NaN where nothing flows."""
    size = np.abs(s)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(size > 1e-9, np.abs(s.real) / size, np.nan)


def area_table(rows: Rows, generation: Complexes, demand: Complexes, loss: Floats) -> Table:
    """Totals of each area from what each bus has (MVA) and each branch loses (MW); a branch's losses count in halves for
    the areas of its two buses."""
    names = rows.area_names

    def total(area: Ints, values: Floats) -> Floats:
        inside = area >= 0
        return np.bincount(area[inside], values[inside], len(names)).astype(np.float64)

    losses = total(rows.area_from, loss / 2) + total(rows.area_to, loss / 2)
    gen, dem = total(rows.area_of_bus, generation.real), total(rows.area_of_bus, demand.real)
    return Table(
        "areas", "Areas",
        [
            Column("id", "Area", names),
            Column("generation_mw", "Generation", gen, MW, 3),
            Column("generation_mvar", "Generation", total(rows.area_of_bus, generation.imag), MVAR, 3),
            Column("demand_mw", "Demand", dem, MW, 3),
            Column("demand_mvar", "Demand", total(rows.area_of_bus, demand.imag), MVAR, 3),
            Column("active_loss_mw", "Losses", losses, MW, 4, "Losses of branches between areas count half in each"),
            Column("export_mw", "Export", gen - dem - losses, MW, 3, "Generation less demand and losses"),
        ],
    )  # fmt: skip
