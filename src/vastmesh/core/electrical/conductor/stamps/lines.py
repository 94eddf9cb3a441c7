"""Lines, and what stands in them: reactors and regulators."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from math import inf

import numpy as np

from ....network import Line, LineGeometry, LineMatrix, Regulator, SeriesReactor, tap_positions
from ...arrays import Complexes
from ...line_constants import order_for
from .._arrays import Gap, Positions, TapSpot
from .._builder import NUMBER, Builder
from .._lines import (
    LineKey,
    conductor_matrix,
    conductor_matrix_beyond,
    earthed_along,
    long_line,
    mutual_ohm_per_km,
    own_resistance,
)
from . import stamp

# Position among the lines, the line, Ω/km over the conductors kept, µS/km.
Member = tuple[int, Line, Complexes, Complexes]
_POOREST = 1e-12  # Ω: below it a conductor is taken as this


@stamp(Line)
def line(lines: Sequence[Line], b: Builder) -> None:
    """Nominal pi over the conductors, in batches of equal conductors; ohms stay ohms between unequal bases."""
    batches: dict[str, list[Member]] = {}
    coupled: dict[str, tuple[str, Member]] = {}
    beside = {x for e in lines if e.beside for x in (e.id, e.beside)}
    for i, e in enumerate(lines):
        matrix, geometry = b.find(e.matrix or ""), b.find(e.geometry or "")
        matrix = matrix if isinstance(matrix, LineMatrix) and not matrix.missing() else None
        geometry = geometry if isinstance(geometry, LineGeometry) and not geometry.missing() else None
        wanted = e.conductors
        order = order_for(matrix.order, wanted) if matrix is not None else ""
        if matrix is not None and (lost := [c for c in wanted if c not in order]):
            b.gaps.append(Gap(e.id, "matrix", f"its matrix has no conductor {''.join(lost)}"))
            wanted = "".join(c for c in wanted if c in order)
        if matrix is None and geometry is not None and (lost := [c for c in wanted if c not in geometry.phases + "N"]):
            b.gaps.append(Gap(e.id, "geometry", f"its geometry has no conductor {''.join(lost)}"))
            wanted = "".join(c for c in wanted if c not in lost)
        found = b.present(e.id, wanted, e.from_bus, e.to_bus)
        given = next((x.rating_a for x in (e, matrix, geometry) if x is not None and x.rating_a), None)
        amps = given * e.parallel if given else inf
        neutral = e.neutral_rating_a * e.parallel if e.neutral_rating_a else amps
        b.rating[b.offset + i] = (amps, neutral)
        if e.neutral == "reduced":
            for bus in e.buses():
                if b.has(bus, "N"):
                    b.joined.append((b.key(bus, "N"), b.earth_key))
        elif "N" not in found and all(b.has(bus, "N") for bus in e.buses()):
            b.gaps.append(Gap(e.id, "conductors", "carries no neutral between two buses that have one: it is broken there",
                              breach=False))  # fmt: skip
        kept = found.replace("N", "") if e.neutral == "reduced" else found
        if not kept:
            continue
        key = LineKey.of(e, found, b.frequency_hz, matrix, geometry)
        key = replace(key, conductors=found)
        if b.beyond is None:
            z, susceptance = conductor_matrix(key)
        else:
            z, susceptance = conductor_matrix_beyond(key, b.beyond, b.more(e))
        member = (i, e, z, susceptance.astype(np.complex128))
        if e.id in beside and not (e.earthing_every_km and e.earthing_ohm and "N" in kept):
            coupled[e.id] = (kept, member)
        else:
            batches.setdefault(kept, []).append(member)
    for group in _side_by_side(lines, coupled, b):
        if len(group.members) > 1:
            _coupled(group, b)
        else:
            batches.setdefault(group.members[0][0], []).append(group.members[0][1])
    for kept, members in batches.items():
        _batch(kept, members, b)


@dataclass
class _Group:
    """Lines on the same towers: what each keeps, and the mutual impedances in Ω between two of them by position."""

    members: list[tuple[str, Member]]
    mutual: dict[tuple[int, int], complex] = field(default_factory=dict)


def _side_by_side(lines: Sequence[Line], found: dict[str, tuple[str, Member]], b: Builder) -> list[_Group]:
    """Groups of lines that are coupled with each other, in order of entry. What can't be coupled is a gap."""
    home: dict[str, dict[str, None]] = {x: {x: None} for x in found}
    pairs: dict[frozenset[str], tuple[str, str, complex]] = {}
    own = {x: _zero_ohm(member) for x, (_, member) in found.items()}
    for e in lines:
        other = b.find(e.beside or "")
        if not isinstance(other, Line):
            continue
        pair = frozenset((e.id, other.id))
        if pair in pairs:
            b.gaps.append(
                Gap(e.id, "beside", f"{other.name} names it already: what is entered there counts", breach=False)
            )
            continue
        if e.id not in found or other.id not in found:
            if other.in_service and not other.missing() and (e.earthing_every_km or other.earthing_every_km):
                b.gaps.append(Gap(e.id, "beside", f"its coupling with {other.name} is left out: one of them has electrodes "
                                  "along its route", breach=False))  # fmt: skip
            continue
        shorter = min(e.length_km or 0.0, other.length_km or 0.0)
        if e.beside_km is not None and e.beside_km > shorter * (1 + 1e-9):
            b.gaps.append(Gap(e.id, "beside_km", f"it can't be longer side by side with {other.name} than the shorter of both, "
                              f"{shorter:g} km: that is taken", breach=False))  # fmt: skip
        km = min(e.beside_km or shorter, shorter)
        z = mutual_ohm_per_km(e, b.frequency_hz) * km
        joined = home[e.id] | home[other.id]
        tried = {**pairs, pair: (e.id, other.id, -z if e.beside_way == "opposite" else z)}
        if not _possible(list(joined), own, tried.values()):
            b.gaps.append(Gap(e.id, "beside", f"its coupling with {other.name} is left out: a mutual impedance of "
                              f"{abs(3 * z):.3g} Ω in the zero sequence is more than lines of {abs(own[e.id]):.3g} and "
                              f"{abs(own[other.id]):.3g} Ω can have together with what else they are coupled with"))  # fmt: skip
            continue
        pairs = tried
        home.update(dict.fromkeys(joined, joined))
    groups: list[_Group] = []
    seen: set[str] = set()
    for x in found:
        if x in seen:
            continue
        idents = list(home[x])
        seen |= home[x].keys()
        place = {ident: k for k, ident in enumerate(idents)}
        mutual = {(place[p], place[q]): z for p, q, z in pairs.values() if p in place and q in place}
        groups.append(_Group([found[i] for i in idents], mutual))
    return groups


def _possible(idents: list[str], own: dict[str, complex], pairs: Iterable[tuple[str, str, complex]]) -> bool:
    """Whether lines with these impedances can be: their zero-sequence currents store energy, and lose it, whatever they are."""
    place = {x: k for k, x in enumerate(idents)}
    z0 = np.diag([own[x] for x in idents])
    for p, q, z in pairs:
        if p in place and q in place:
            z0[place[p], place[q]] = z0[place[q], place[p]] = 3 * z
    stored, lost = (np.linalg.eigvalsh(part) for part in (z0.imag, z0.real))
    return bool(stored.min() > 0 and lost.min() >= -1e-9 * abs(lost).max())


def _zero_ohm(member: Member) -> complex:
    """Mean own and mutual terms of a line as its zero-sequence impedance, Ω."""
    _, e, z, _ = member
    k = len(z)
    own = np.trace(z) / k
    shared = (z.sum() - np.trace(z)) / (k * (k - 1)) if k > 1 else own
    return complex(own + 2 * shared) * (e.length_km or 0.0) / e.parallel


def _coupled(group: _Group, b: Builder) -> None:
    """One admittance over the ends of all lines of a group: their series impedances in one matrix, then inverted."""
    sizes = [len(kept) for kept, _ in group.members]
    starts = np.cumsum([0, *sizes])
    total = int(starts[-1])
    z, half = np.zeros((total, total), np.complex128), np.zeros((total, total), np.complex128)
    spans = [slice(int(a), int(c)) for a, c in pairwise(starts)]
    for span, (_, (_, e, per_km, susceptance)) in zip(spans, group.members, strict=True):
        km = e.length_km or 0.0
        z[span, span] = per_km * km / e.parallel
        half[span, span] = 0.5j * 1e-6 * susceptance * km * e.parallel
    for (p, q), mutual in group.mutual.items():
        z[spans[p], spans[q]] = mutual * b.order
        z[spans[q], spans[p]] = mutual * b.order
    block = _pi((z + np.eye(total) * _POOREST)[None], half[None], b)[0]
    order: list[int] = []
    elements, sides, conductors, keys = [], [], [], []
    for span, (kept, (i, e, per_km, _)) in zip(spans, group.members, strict=True):
        resistance = own_resistance(per_km) * (e.length_km or 0.0) / e.parallel
        b.losses(i, 0, resistance.tolist(), before=len(order))
        for side, bus in enumerate(e.buses()):
            order += [side * total + c for c in range(span.start, span.stop)]
            elements += [i] * len(kept)
            sides += [side] * len(kept)
            conductors += [NUMBER[c] for c in kept]
            keys += [b.key(bus, c) for c in kept]
    b.together(np.array(elements, np.int64), sides, conductors, np.array(keys, np.int64), block[np.ix_(order, order)])


def _batch(kept: str, members: list[Member], b: Builder) -> None:
    k = len(kept)
    elements = np.array([m[0] for m in members], np.int64)
    scale = np.array([(m[1].length_km or 0.0) / m[1].parallel for m in members])
    length = np.array([(m[1].length_km or 0.0) * m[1].parallel for m in members])
    z = np.array([m[2] for m in members]) * scale[:, None, None]
    half = 0.5j * 1e-6 * np.array([m[3] for m in members]) * length[:, None, None]
    block = _pi(z + np.eye(k) * _POOREST, half, b)
    long = _long(b)
    for n, (_, e, per_km, susceptance) in enumerate(members):
        if e.earthing_every_km and e.earthing_ohm and e.length_km and "N" in kept:
            y = 1j * 1e-6 * susceptance * e.parallel
            block[n] = earthed_along(
                per_km / e.parallel, y, kept.index("N"), e.length_km, e.earthing_every_km, e.earthing_ohm, long=long
            )
    numbers = [NUMBER[c] for c in kept]
    ends = [[b.bus_row[bus] * 4 + c for bus in m[1].buses() for c in numbers] for m in members]
    for n, (i, _, per_km, _) in enumerate(members):
        b.losses(i, n, (own_resistance(per_km) * scale[n]).tolist())
    b.linear(elements, [0] * k + [1] * k, numbers * 2, np.array(ends, np.int64), block)


def _long(b: Builder) -> bool:
    """Whether lines are long ones: at another frequency, where that is asked for."""
    return b.beyond is not None and b.beyond.lines != "nominal"


def _pi(z: Complexes, half: Complexes, b: Builder) -> Complexes:
    """Admittances of lines, (n, 2k, 2k): a nominal pi, or at another frequency, where it is asked for, a long line."""
    if _long(b):
        return long_line(z, 2 * half)
    y = np.linalg.inv(z)
    return np.concatenate([np.concatenate([y + half, -y], axis=2), np.concatenate([-y, y + half], axis=2)], axis=1)


@stamp(SeriesReactor)
def series_reactor(units: Sequence[SeriesReactor], b: Builder) -> None:
    """An impedance in each phase; a neutral it is connected to passes straight through."""
    for i, e in enumerate(units):
        found = b.present(e.id, e.conductors, *e.buses())
        if "N" in found:
            b.joined.append((b.key(e.from_bus, "N"), b.key(e.to_bus, "N")))
        x = e.x_ohm or 1.0
        own = b.ohm(complex(x / e.x_over_r, x), b.more(e))
        amps = e.rating_a or inf
        b.rating[b.offset + i] = (amps, amps)
        phases = found.replace("N", "")
        k = len(phases)
        if not k:
            continue
        y = np.eye(k) / own
        keys = [b.key(bus, c) for bus in e.buses() for c in phases]
        numbers = [NUMBER[c] for c in phases]
        b.losses(i, 0, [own.real] * k)
        b.linear(np.array([i]), [0] * k + [1] * k, numbers * 2, np.array([keys]), np.block([[y, -y], [-y, y]])[None])


@stamp(Regulator)
def regulator(units: Sequence[Regulator], b: Builder) -> None:
    """An autotransformer in each phase around the neutral, or around the mean of the phases where there is none."""
    for i, e in enumerate(units):
        found = b.present(e.id, e.conductors, *e.buses())
        amps = e.rating_a or inf
        b.rating[b.offset + i] = (amps, amps)
        phases = found.replace("N", "")
        k = len(phases)
        if not k:
            continue
        star = None
        if "N" in found:
            b.joined.append((b.key(e.from_bus, "N"), b.key(e.to_bus, "N")))
            star = b.key(e.from_bus, "N")
        keys = [b.key(bus, c) for bus in e.buses() for c in phases]
        numbers = [NUMBER[c] for c in phases]
        conductors, sides = numbers * 2, [0] * k + [1] * k
        if star is not None:
            keys, conductors, sides = [*keys, star], [*conductors, 3], [*sides, 0]
        kv = [b.bus_kv[b.bus_row[bus]] for bus in e.buses()]

        def build(positions: Positions, _shift: float, e: Regulator = e, numbers: list[int] = numbers,
                  with_star: bool = star is not None) -> Complexes:  # fmt: skip
            return regulator_admittance(e, [positions[n] for n in numbers], with_star) / b.order

        position = tap_positions(e)
        entries = b.linear(np.array([i]), sides, conductors, np.array([keys]), build(position, 0.0)[None])
        b.taps[e.id] = TapSpot(b.offset + i, entries, build, position)
        if abs(kv[0] - kv[1]) > 1e-6 * kv[0]:
            b.gaps.append(Gap(e.id, "to_bus", "joins buses of different nominal voltage; per phase its ratio is in volts",
                              breach=False))  # fmt: skip


def regulator_admittance(e: Regulator, positions: Sequence[float], with_star: bool) -> Complexes:
    """Over the supply phases, the regulated phases and the star: the reactance, then the ratio of each phase. S.

    w = V_supply − V_regulated' with V_regulated' the regulated voltage over the ratio, taken from the star point.
    """
    k = len(positions)
    ratio = np.array([1 + p * e.step_pct / 100 for p in positions])
    share = np.zeros((k, 1)) if with_star else np.full((k, k), 1 / k)
    # Only what lies above the star point is transformed.
    down = np.diag(1 / ratio)
    if with_star:
        m = np.hstack([np.eye(k), -down, (1 / ratio - 1)[:, None]])
    else:
        m = np.hstack([np.eye(k), -(down @ (np.eye(k) - share) + share)])
    return np.asarray(m.T @ (np.eye(k) / complex(0.0, e.x_ohm)) @ m, np.complex128)
