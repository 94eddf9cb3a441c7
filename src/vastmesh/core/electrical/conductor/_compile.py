"""From a network of objects to arrays in conductor coordinates."""

from __future__ import annotations

from collections.abc import Callable
from math import sqrt
from typing import Any

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from ...network import Bus, Demand, Element, Line, Network
from ..arrays import Columns
from ..compile import at_switches, usable
from ._arrays import ABSENT, CURVE, DEMAND, EARTH, LIMB, LOSS, MACHINE, TERM, ConductorArrays, Gap
from ._builder import NAMES, AtOrder, Builder
from .stamps import STAMPS


def compile_conductors(network: Network, beyond: AtOrder | None = None) -> ConductorArrays:
    """Compile all that is in service and complete, at 100 % demand and generation; ``beyond``: at another frequency."""
    return _arranged(*_stamped(network, lambda e: True, beyond))


def find_gaps(network: Network) -> list[Gap]:
    """The gaps that compiling a network would tell, found without what can have none: plain lines and loads."""
    beside = {x for e in network.of(Line) if e.beside for x in (e.id, e.beside)}
    bare = {b.id for b in network.of(Bus) if b.conductors == "ABC"}

    def telling(e: Element) -> bool:
        if e.conductors != "ABC" or not all(b in bare for b in e.buses()):
            return True
        if isinstance(e, Line):
            return bool(e.matrix or e.geometry) or e.id in beside
        return not isinstance(e, Demand) or bool(e.along) or e.phase_powers_mva() is not None

    return _stamped(network, telling)[0].gaps


def _stamped(
    network: Network, wanted: Callable[[Element], bool], beyond: AtOrder | None = None
) -> tuple[Builder, list[Bus], list[str], list[str], dict[str, Any]]:
    settings = network.settings
    found = usable(network)
    buses = found.buses
    row = {b.id: i for i, b in enumerate(buses)}
    kv = np.fromiter((b.nominal_kv or 1.0 for b in buses), np.float64, len(buses))
    phase_v = kv * 1e3 / np.array([2.0 if b.split_phase else sqrt(3) for b in buses])
    builder = Builder(
        bus_row=row, bus_kv=kv, phase_v=phase_v, conductors=[b.conductors for b in buses], base_mva=settings.base_mva,
        frequency_hz=settings.frequency_hz, find=network.items.get, at=at_switches(network), beyond=beyond,
    )  # fmt: skip
    for b in buses:
        if b.neutral == "earthed" and "N" in b.conductors:
            builder.joined.append((builder.key(b.id, "N"), builder.earth_key))
    ids: list[str] = []
    kinds: list[str] = []
    for kind, elements in found.by_kind.items():
        joined = [e for e in elements if all(x in row for x in e.buses()) and wanted(e)]
        builder.offset = len(ids)
        ids += [e.id for e in joined]
        kinds += [kind] * len(joined)
        if kind in STAMPS:
            STAMPS[kind](joined, builder)
        else:
            label = type(joined[0]).label.lower() if joined else kind
            text = f"the load flow per phase does not know what a {label} does: it is left out"
            builder.gaps += [Gap(e.id, "kind", text) for e in joined]
    return builder, buses, ids, kinds, found.left_out


def _arranged(
    b: Builder, buses: list[Bus], ids: list[str], kinds: list[str], left_out: dict[str, Any]
) -> ConductorArrays:
    """Number the nodes: conductors joined by switches are one, whatever is joined to earth is earth."""
    n, stars = len(buses), np.array(b.star_kv, np.float64)
    count = 4 * n + 1 + len(stars)
    joined = np.array(b.joined, np.int64).reshape(-1, 2)
    graph = coo_array((np.ones(len(joined), np.int8), (joined[:, 0], joined[:, 1])), shape=(count, count))
    _, label = connected_components(graph, directed=False)
    present = np.zeros(count, np.bool_)
    present[: 4 * n] = np.array([c in bus.conductors for bus in buses for c in NAMES], np.bool_)
    present[4 * n + 1 :] = True
    earth = label == label[b.earth_key]
    labels, number = np.unique(label[present & ~earth], return_inverse=True)
    node = np.full(count, ABSENT, np.int64)
    node[present & ~earth] = number
    node[present & earth] = EARTH
    node[b.earth_key] = EARTH
    volts = np.r_[np.repeat(b.phase_v, 4), 1.0, stars]
    base = np.ones(len(labels))
    base[node[node >= 0]] = volts[node >= 0]
    terminal, t_row, t_col, t_y = b.collected()
    driven = np.zeros(len(terminal["key"]), np.complex128)
    for at, amps in b.driven:
        driven[at] += amps
    rating = np.full((len(ids), 2), np.inf)
    for i, pair in b.rating.items():
        rating[i] = pair
    return ConductorArrays(
        base_mva=b.base_mva, frequency_hz=b.frequency_hz, bus_id=[x.id for x in buses], bus_kv=b.bus_kv,
        phase_v=b.phase_v, node=node[: 4 * n].reshape(n, 4), node_of_key=node, n_node=len(labels), base_v=base,
        element_id=ids, element_kind=kinds, terminal=dict(terminal), t_row=t_row, t_col=t_col, t_y=t_y, t_i=driven,
        demand=_table(DEMAND, b.demand), machine=_table(MACHINE, b.machine), curve=_table(CURVE, b.curve),
        groups=list(b.groups), rating=rating[:, 0], neutral_rating=rating[:, 1], taps=b.taps, banks=b.banks,
        loss=_table(LOSS, b.loss), limb=_table(LIMB, b.limb), term=_term_table(b),
        switched=np.array(b.switched, np.int64).reshape(-1, 4), gaps=b.gaps, left_out=left_out,
    )  # fmt: skip


def _table(columns: dict[str, Any], rows: list[tuple[Any, ...]]) -> Columns:
    lists = list(zip(*rows, strict=True)) if rows else [() for _ in columns]
    return {name: np.array(values, dtype) for (name, dtype), values in zip(columns.items(), lists, strict=True)}


def _term_table(b: Builder) -> Columns:
    return {name: np.array(values, kind) for (name, kind), values in zip(TERM.items(), b.terms(), strict=True)}
