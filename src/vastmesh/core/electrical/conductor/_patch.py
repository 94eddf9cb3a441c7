"""Bringing compiled arrays up to date after an edit: what only alters demand or set-points needs nothing compiled anew."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cache

import numpy as np

from ...network import (
    Bus,
    Element,
    Generator,
    Inverter,
    Item,
    Load,
    LumpedLoad,
    Network,
    Settings,
    specs,
)
from ..compile import BEHIND, CLOTHES
from ._arrays import CURVE, DEMAND, MACHINE, ConductorArrays
from ._builder import Builder
from .stamps import STAMPS

_PATCHED = (Load, LumpedLoad, Generator, Inverter)
# What rows of the tables may have of their own and still be the same rows: everything else must stay.
_FIGURES = {"demand": ("s", "share_i", "share_z", "group", "area"), "machine": ("p", "q", "q_min", "q_max", "weight", "group"),
            "curve": tuple(CURVE)}  # fmt: skip


@cache
def _dressed(kind: type[Item]) -> frozenset[str]:
    """Fields whose change leaves the arrays as they are: names, notes, places."""
    groups = ("identity", "place", "harmonics", "years")
    return frozenset(CLOTHES | {f for f, s in specs(kind).items() if s.group in groups})


def patch_conductors(
    arrays: ConductorArrays, network: Network, changed: Iterable[str], previous: dict[str, Item]
) -> bool | None:
    """Bring arrays up to date in place. Returns whether anything had to be altered; None, with nothing altered, where a
    change reaches further than demand and set-points: the caller then compiles anew.

    ``previous``: the items as they were, those that were there.
    """
    writes: list[tuple[str, slice | np.ndarray, dict[str, np.ndarray]]] = []
    position: dict[str, int] | None = None
    for ident in changed:
        old, new = previous.get(ident), network.items.get(ident)
        if not isinstance(old, Element) and not isinstance(new, Element):
            bases = isinstance(new, Settings) and (new.base_mva, new.frequency_hz) != (
                arrays.base_mva, arrays.frequency_hz
            )  # fmt: skip
            if bases or isinstance(new or old, BEHIND):
                return None
            continue
        if not isinstance(new, Element) or type(new) is not type(old):
            return None
        dressed = _dressed(type(new))
        if not any(f not in dressed and getattr(new, f) != getattr(old, f) for f in type(new).model_fields):
            continue
        if not isinstance(new, _PATCHED) or old.missing() or new.missing():
            return None
        if not (new.in_service and old.in_service) or new.buses() != old.buses():
            return None
        position = position or {e: i for i, e in enumerate(arrays.element_id)}
        if ident not in position:  # at a bus that is itself out of service
            continue
        found = _rows(arrays, network, new, position[ident])
        if found is None:
            return None
        writes += found
    for table, rows, columns in writes:
        target = getattr(arrays, table)
        for name, values in columns.items():
            target[name][rows] = values
    return bool(writes)


def _rows(
    arrays: ConductorArrays, network: Network, element: Element, position: int
) -> list[tuple[str, slice | np.ndarray, dict[str, np.ndarray]]] | None:
    """The rows of one element as they are now; None where something else of it than its figures is another."""
    groups = {g: i for i, g in enumerate(arrays.groups)}
    buses = [network.items[b] for b in arrays.bus_id]
    b = Builder(
        bus_row={i: k for k, i in enumerate(arrays.bus_id)}, bus_kv=arrays.bus_kv, phase_v=arrays.phase_v,
        conductors=[x.conductors if isinstance(x, Bus) else "" for x in buses], base_mva=arrays.base_mva,
        frequency_hz=arrays.frequency_hz, find=network.items.get, at={}, groups=groups,
    )  # fmt: skip
    b.offset = position
    STAMPS[element.kind]([element], b)
    if len(groups) != len(arrays.groups) or b.gaps or any(g.element == element.id for g in arrays.gaps):
        return None
    if not _same_admittances(arrays, b, position):
        return None
    found: list[tuple[str, slice | np.ndarray, dict[str, np.ndarray]]] = []
    first_curve = -1
    for table, kinds, rows in (("demand", DEMAND, b.demand), ("machine", MACHINE, b.machine)):
        there = np.flatnonzero(getattr(arrays, table)["element"] == position)
        if len(there) != len(rows):
            return None
        if not rows:
            continue
        now = dict(zip(kinds, map(np.array, zip(*rows, strict=True)), strict=True))
        for name in kinds:
            if name in _FIGURES[table] or name == "curve":
                continue
            if not np.array_equal(getattr(arrays, table)[name][there], now[name]):
                return None
        was = getattr(arrays, table)["curve"][there]
        if np.any((was < 0) != (now["curve"] < 0)):
            return None
        first_curve = int(was.max(initial=-1))
        found.append((table, there, {n: now[n] for n in _FIGURES[table]}))
    if b.curve and first_curve >= 0:
        columns = dict(zip(CURVE, map(np.array, zip(*b.curve, strict=True)), strict=True))
        found.append(("curve", slice(first_curve, first_curve + len(b.curve)), columns))
    return found


def _same_admittances(arrays: ConductorArrays, b: Builder, position: int) -> bool:
    terminal, _, _, t_y = b.collected()
    here = np.flatnonzero(arrays.terminal["element"] == position)
    if not np.array_equal(arrays.terminal["key"][here], terminal["key"]):
        # Star points inside an element have keys of their own, which this does not know: then anew.
        return False
    entries = np.isin(arrays.t_row, here)
    return np.array_equal(arrays.t_y[entries], t_y)
