"""From a network of objects to plain arrays, and from a condition to factors on them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from operator import is_

import numpy as np

from ..network import (
    Area,
    Bus,
    Condition,
    CurrentTransformer,
    Demand,
    Element,
    Item,
    LineGeometry,
    LineMatrix,
    Network,
    Settings,
    specs,
)
from .arrays import TABLES, Columns, Floats, Ints, NetArrays, stack
from .stamps import STAMPS, Context

# Impedance, p.u. on 100 MVA, below which a branch is taken as this much: what flows through it could not be told from
# rounding. It drops a ten-millionth of the voltage at 100 MVA.
_LEAST_PU = 1e-7

# Further fields of no effect on the equations, beside names, notes and places.
CLOTHES = {"origins", "substation", "customers", "type"}
# Items that elements refer to for their constants: the arrays are compiled anew when one changes.
BEHIND = (LineGeometry, LineMatrix, CurrentTransformer, Area)


@cache
def _clothes(kind: type[Item]) -> frozenset[str]:
    """Fields whose change leaves compiled arrays as they are."""
    groups = ("identity", "place", "protection", "earth", "sequence", "harmonics", "phases", "dispatch", "years")
    kept = {"fuse_a", "plug_a", "long_x", "matrix", "conductors"}
    return frozenset(f for f, s in specs(kind).items() if (s.group in groups and f not in kept) or f in CLOTHES) | {
        "origins"
    }


@dataclass
class Usable:
    """What is compiled: complete elements in service, buses apart; ``left_out``: blank required fields of the others."""

    buses: list[Bus] = field(default_factory=list)
    by_kind: dict[str, list[Element]] = field(default_factory=dict)
    left_out: dict[str, tuple[str, ...]] = field(default_factory=dict)


@dataclass
class Kept:
    """What a compilation leaves for the next one of the same network: items are frozen, so that the same object compiles to
    the same. Blank fields by id; the ground all stamps stand on; elements and columns of each kind."""

    blank: dict[str, tuple[Element, tuple[str, ...]]] = field(default_factory=dict)
    bases: tuple[float, float] = (0.0, 0.0)
    ground: list[object] = field(default_factory=list)
    groups: dict[str, int] = field(default_factory=dict)
    stamped: dict[str, tuple[list[Element], list[Element], dict[str, Columns]]] = field(default_factory=dict)


def _same(a: Sequence[object], b: Sequence[object]) -> bool:
    return len(a) == len(b) and all(map(is_, a, b))


def usable(network: Network, kept: Kept | None = None) -> Usable:
    """Sort out what of a network can be compiled, in order of entry."""
    found = Usable()
    before, now = (kept.blank if kept else {}), dict[str, tuple[Element, tuple[str, ...]]]()
    for item in network.items.values():
        if not isinstance(item, Element):
            continue
        known = before.get(item.id)
        now[item.id] = known = known if known is not None and known[0] is item else (item, item.missing())
        if blank := known[1]:
            found.left_out[item.id] = blank
        elif item.in_service:
            if isinstance(item, Bus):
                found.buses.append(item)
            else:
                found.by_kind.setdefault(item.kind, []).append(item)
    if kept is not None:
        kept.blank = now
    return found


def compile_network(network: Network, kept: Kept | None = None) -> NetArrays:
    """Compile all that is in service and complete, at 100 % demand and generation.

    Elements with blank required fields, or at a bus that is out of service or incomplete, are
    left out; the former are named in ``left_out``. ``kept``: of the last compilation, taken up and renewed.
    """
    settings = network.settings
    found = usable(network, kept)
    buses = found.buses
    bus_row = {b.id: i for i, b in enumerate(buses)}
    ctx = Context(
        bus_row=bus_row,
        bus_kv=np.fromiter((b.nominal_kv or 1.0 for b in buses), np.float64, len(buses)),
        base_mva=settings.base_mva,
        frequency_hz=settings.frequency_hz,
        find=network.items.get,
        at=at_switches(network),
    )
    kept = kept or Kept()
    ground: list[object] = [*buses, *(i for i in network.items.values() if isinstance(i, BEHIND))]
    ground += [
        network.items.get(e.along) for some in found.by_kind.values() for e in some if isinstance(e, Demand) and e.along
    ]
    bases = ctx.base_mva, ctx.frequency_hz
    if kept.bases == bases and _same(kept.ground, ground):
        ctx.groups = kept.groups
    else:
        kept.bases, kept.ground, kept.groups, kept.stamped = bases, ground, ctx.groups, {}
    ids: list[str] = []
    kinds: list[str] = []
    parts: dict[str, list[Columns]] = {name: [] for name in TABLES}
    unknown = {e.id: e.kind for k, es in found.by_kind.items() if k not in STAMPS for e in es}
    for kind, elements in found.by_kind.items():
        if kind not in STAMPS:
            continue
        at_hand = kept.stamped.get(kind)
        if at_hand is None or not _same(at_hand[0], elements):
            joined = [e for e in elements if all(b in bus_row for b in e.buses())]
            at_hand = elements, joined, STAMPS[kind](joined, ctx)
            if not ctx.inner:  # rows of points inside elements are given out as met
                kept.stamped[kind] = at_hand
        _, joined, stamped = at_hand
        for table, columns in stamped.items():
            parts[table].append({**columns, "element": columns["element"] + len(ids)})
        ids += [e.id for e in joined]
        kinds += [kind] * len(joined)
    tables = {name: stack(name, pieces) for name, pieces in parts.items()}
    branch = tables["branch"]
    branch["r"], branch["x"], raised = bounded(branch["r"], branch["x"], ctx.base_mva)
    areas = network.of(Area)
    number = {a.id: i for i, a in enumerate(areas)}
    bus_area = [number.get(b.area or "", -1) for b in buses] + [_area_inside(network, i, number) for i, _ in ctx.inner]
    return NetArrays(
        bus_area=np.array(bus_area, np.int64),
        area_id=list(number),
        area_export=np.array(
            [np.nan if a.export_mw is None else a.export_mw / ctx.base_mva for a in areas], np.float64
        ),
        base_mva=ctx.base_mva,
        frequency_hz=ctx.frequency_hz,
        bus_id=[b.id for b in buses] + [i for i, _ in ctx.inner],
        bus_kv=np.r_[ctx.bus_kv, [kv for _, kv in ctx.inner]],
        n_inner=len(ctx.inner),
        element_id=ids,
        element_kind=kinds,
        tables=tables,
        raised=[ids[e] for e in branch["element"][raised].tolist()],
        groups=list(ctx.groups),
        left_out=found.left_out,
        unknown=unknown,
    )


def bounded(r: Floats, x: Floats, base_mva: float) -> tuple[Floats, Floats, Ints]:
    """Series impedances no smaller than can be told from rounding, and the rows that were raised to that."""
    least = _LEAST_PU * base_mva / 100
    size = np.hypot(r, x)
    raised = np.flatnonzero(size < least)
    if not len(raised):
        return r, x, raised
    r, x = r.copy(), x.copy()
    none = raised[size[raised] == 0]
    some = raised[size[raised] > 0]
    r[some], x[some] = r[some] * (least / size[some]), x[some] * (least / size[some])
    x[none] = least
    return r, x, raised


def _area_inside(network: Network, ident: str, number: dict[str, int]) -> int:
    """Area of a star point inside an element: that of its first bus."""
    item = network[ident]
    first = network[item.buses()[0]] if isinstance(item, Element) else None
    return number.get(first.area or "", -1) if isinstance(first, Bus) else -1


def at_switches(network: Network) -> dict[str, list[CurrentTransformer]]:
    """Current transformers by the switch they stand at."""
    found: dict[str, list[CurrentTransformer]] = {}
    for t in network.of(CurrentTransformer):
        found.setdefault(t.at, []).append(t)
    return found


def patch(arrays: NetArrays, network: Network, changed: Iterable[str], previous: dict[str, Item]) -> bool:
    """Bring arrays up to date after value changes of some items, in place.

    ``previous`` holds the items as they were (those that were there). Returns False, with nothing altered, when a
    change reaches beyond the rows of its own element (connection, service, switching, bases):
    the caller then compiles anew.
    """
    writes: list[tuple[str, np.ndarray, Columns]] = []
    ctx = Context(
        bus_row=arrays.bus_row,
        bus_kv=arrays.bus_kv,
        base_mva=arrays.base_mva,
        frequency_hz=arrays.frequency_hz,
        groups={g: i for i, g in enumerate(arrays.groups)},
        find=network.items.get,
        at=at_switches(network),
    )
    for ident in changed:
        old, new = previous.get(ident), network.items.get(ident)
        if not isinstance(old, Element) and not isinstance(new, Element):
            if isinstance(new, Settings) and (new.base_mva, new.frequency_hz) != (arrays.base_mva, arrays.frequency_hz):
                return False
            if isinstance(new or old, BEHIND):
                return False
            continue  # conditions, limits and groups are not in the arrays
        if not isinstance(new, Element) or type(new) is not type(old):
            return False
        known, clothes = type(new).model_fields, _clothes(type(new))
        fields = [f for f in known if f not in clothes and getattr(new, f) != getattr(old, f)]
        if not fields:
            continue
        if isinstance(new, Bus) or new.buses() != old.buses() or old.missing() or new.missing():
            return False
        if getattr(new, "along", None) != getattr(old, "along", None):
            return False
        if not (new.in_service and old.in_service) or getattr(new, "closed", 0) != getattr(old, "closed", 0):
            return False
        position = arrays.position
        if ident not in position:  # at a bus that is itself out of service
            continue
        if new.kind not in STAMPS:
            continue
        for table, columns in STAMPS[new.kind]([new], ctx).items():
            rows = np.flatnonzero(arrays.tables[table]["element"] == position[ident])
            if len(rows) != len(columns["element"]):
                return False
            written = {c: v for c, v in columns.items() if c != "element"}
            if table == "branch":
                written["r"], written["x"], raised = bounded(written["r"], written["x"], arrays.base_mva)
                if len(raised) or ident in arrays.raised:
                    return False
            writes.append((table, rows, written))
    arrays.groups[:] = list(ctx.groups)
    for table, rows, columns in writes:
        for name, values in columns.items():
            arrays.tables[table][name][rows] = values
    return True


def apply_condition(arrays: NetArrays, condition: Condition) -> NetArrays:
    """Arrays with demand and generation scaled by the condition; everything else is shared."""
    demand = factors(arrays.groups, "class:", condition.demand_factor, condition.class_factors)
    energy = factors(arrays.groups, "energy:", condition.generation_factor, condition.energy_factors)
    load, injection = arrays.tables["load"], arrays.tables["injection"]
    by_area = factors(arrays.groups, "area:", 1.0, condition.area_factors)
    by_load = demand[load["group"]] * np.where(load["area"] >= 0, by_area[load["area"]], 1.0)
    by_machine = np.where(injection["group"] >= 0, energy[injection["group"]], 1.0)
    return replace(
        arrays,
        tables={
            **arrays.tables,
            "load": {**load, "p": load["p"] * by_load, "q": load["q"] * by_load},
            "injection": {**injection, "p": injection["p"] * by_machine, "q": injection["q"] * by_machine},
        },
    )


def factors(groups: Sequence[str], prefix: str, overall: float, further: Mapping[str, float]) -> Floats:
    """Factor of each group: the overall one, times a further one where the group bears the prefix and a name of it."""
    names = [g.removeprefix(prefix) if g.startswith(prefix) else "" for g in groups]
    return np.asarray(overall * np.array([further.get(n, 1.0) if n else 1.0 for n in names] or [1.0]))
