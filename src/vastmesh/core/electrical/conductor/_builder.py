"""Collects what the stamps give: keys of nodes, terminals, admittances, demand and machines."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ...network import CurrentTransformer, Item, resistance_factor
from ..arrays import Complexes, Floats, Ints
from ._arrays import STAR, Gap, TapSpot

NAMES = "ABCN"
NUMBER = {c: i for i, c in enumerate(NAMES)}


@dataclass(frozen=True)
class AtOrder:
    """Another frequency than the network's own, at which machines are impedances too.

    ``fault_level``: of the sources, "highest" or "lowest"; ``source_exponent``: their resistance grows with the order to this
    power; ``lines``: "nominal", "long", or "geometry" (long, and what has a geometry computed anew at every frequency);
    ``machines``: whether motors count.
    """

    order: float
    fault_level: str = "highest"
    source_exponent: float = 0.0
    lines: str = "long"
    machines: bool = True


@dataclass
class Builder:
    """``key``: number of a conductor of a bus, bus row * 4 + conductor; ``earth_key``: the one of earth."""

    bus_row: dict[str, int]
    bus_kv: Floats
    phase_v: Floats
    conductors: list[str]
    base_mva: float
    frequency_hz: float
    find: Callable[[str], Item | None]
    at: dict[str, list[CurrentTransformer]]
    gaps: list[Gap] = field(default_factory=list)
    groups: dict[str, int] = field(default_factory=dict)
    joined: list[tuple[int, int]] = field(default_factory=list)
    switched: list[tuple[int, int, int, int]] = field(default_factory=list)
    taps: dict[str, TapSpot] = field(default_factory=dict)
    banks: dict[str, tuple[slice, Complexes]] = field(default_factory=dict)
    loss: list[tuple[int, int, int, float]] = field(default_factory=list)
    limb: list[tuple[int, int, float, float]] = field(default_factory=list)
    demand: list[tuple[Any, ...]] = field(default_factory=list)
    machine: list[tuple[Any, ...]] = field(default_factory=list)
    curve: list[tuple[float, ...]] = field(default_factory=list)
    driven: list[tuple[Ints, Complexes]] = field(default_factory=list)
    rating: dict[int, tuple[float, float]] = field(default_factory=dict)
    beyond: AtOrder | None = None  # None: the load flow, in which machines set the positive sequence by themselves

    def __post_init__(self) -> None:
        self.earth_key = 4 * len(self.bus_kv)
        self.star_kv: list[float] = []
        self.offset = 0  # of the elements of the kind being stamped
        self._terminals: list[tuple[Ints, Ints, Ints, Ints]] = []
        self._entries: list[tuple[Ints, Ints, Complexes]] = []
        self._terms: list[tuple[Ints, Ints, Complexes, Complexes]] = []
        self._t, self._e, self._u = 0, 0, 0

    @property
    def order(self) -> float:
        return self.beyond.order if self.beyond is not None else 1.0

    def ohm(self, z: complex, more: float = 1.0) -> complex:
        """An impedance as it is at this order, its resistance so many times what it is."""
        z = complex(z)
        return complex(z.real * more, z.imag * self.order)

    def more(self, e: Any) -> float:
        """How many times its resistance an element has at this order."""
        return resistance_factor(e, self.order)

    def siemens(self, y: complex) -> complex:
        """A shunt admittance as it is at this order: a capacitance grows, an inductance falls."""
        y = complex(y)
        return complex(y.real, y.imag * self.order if y.imag > 0 else y.imag / self.order)

    # Nodes

    def key(self, bus: str, conductor: str) -> int:
        return self.bus_row[bus] * 4 + NUMBER[conductor]

    def has(self, bus: str, conductor: str) -> bool:
        return conductor in self.conductors[self.bus_row[bus]]

    def star(self, volts: float) -> int:
        """Key of a new star point inside an element; ``volts``: its phase-to-neutral base."""
        self.star_kv.append(volts)
        return self.earth_key + len(self.star_kv)

    def present(self, ident: str, wanted: str, *buses: str) -> str:
        """Those of the wanted conductors that all the buses have; what is not there becomes a gap."""
        found = "".join(c for c in wanted if all(self.has(b, c) for b in buses))
        if found != wanted:
            lost = "".join(c for c in wanted if c not in found)
            where = next(b for b in buses if any(not self.has(b, c) for c in lost))
            named = self.find(where)
            words = f"{' and '.join(lost)} {'is' if len(lost) == 1 else 'are'} not there at {named.name if named else where}"
            self.gaps.append(Gap(ident, "conductors", f"asks for conductor {lost}, but {words}"))
        return found

    def group(self, name: str) -> int:
        return self.groups.setdefault(name, len(self.groups))

    # Linear parts

    def linear(
        self, elements: Ints, sides: Sequence[int], conductors: Sequence[int], keys: Ints, y: Complexes
    ) -> slice:
        """Admittances of n elements over k terminals each: ``keys`` (n, k), ``y`` (n, k, k) in S; sides and conductors
        (k,). Returns the slice of the entries."""
        n, k = keys.shape
        return self._stamped(
            np.repeat(elements, k), np.tile(np.asarray(sides, np.int64), n), np.tile(np.asarray(conductors, np.int64), n),
            keys, y,
        )  # fmt: skip

    def together(
        self, elements: Ints, sides: Sequence[int], conductors: Sequence[int], keys: Ints, y: Complexes
    ) -> slice:
        """Admittances (k, k) in S over k terminals of several elements: all of them (k,). Returns the slice of the entries."""
        where = np.asarray(sides, np.int64), np.asarray(conductors, np.int64)
        return self._stamped(elements, *where, keys[None], y[None])

    def _stamped(self, elements: Ints, sides: Ints, conductors: Ints, keys: Ints, y: Complexes) -> slice:
        n, k = keys.shape
        first = self._t + np.arange(n)[:, None] * k + np.arange(k)
        self._terminals.append((elements + self.offset, sides, conductors, keys.ravel().astype(np.int64)))
        rows = np.repeat(first[:, :, None], k, axis=2)
        cols = np.repeat(first[:, None, :], k, axis=1)
        self._entries.append((rows.ravel(), cols.ravel(), y.ravel()))
        where = slice(self._e, self._e + n * k * k)
        self._t, self._e = self._t + n * k, where.stop
        return where

    def drive(self, current_a: Complexes) -> None:
        """Currents that sources behind admittances drive out of the next terminals, A, one for each of them."""
        self.driven.append((self._t + np.arange(len(current_a)), current_a))

    def losses(self, i: int, n: int, own_ohm: Sequence[float], *, before: int = 0) -> None:
        """Tell the losses of an element's conductors apart: its terminals are the next ones (those after n further
        elements of as many, or ``before`` terminals of others), first all of its from end, then all of its to end."""
        k = len(own_ohm)
        first = self._t + n * 2 * k + before
        self.loss += [(self.offset + i, first + c, first + k + c, ohm) for c, ohm in enumerate(own_ohm)]

    def limbs(
        self, i: int, phases: Sequence[int], r: Sequence[float], g: Sequence[float], terms: tuple[Complexes, Complexes]
    ) -> slice:
        """Tell the losses of a transformer's limbs apart: ``terms`` (limbs, terminals) over its next terminals; W."""
        current, volts = terms
        first = len(self.limb)
        self.limb += [(self.offset + i, *each) for each in zip(phases, r, g, strict=True)]
        count, k = current.shape
        limb, terminal = np.repeat(first + np.arange(count), k), np.tile(self._t + np.arange(k), count)
        self._terms.append((limb, terminal, current.ravel(), volts.ravel()))
        where = slice(self._u, self._u + count * k)
        self._u = where.stop
        return where

    def terms(self) -> list[Any]:
        """Columns of the terms of all limbs."""
        return [np.concatenate([t[i] for t in self._terms]) if self._terms else () for i in range(4)]

    def between(self, element: int, side: int, conductor: int, key_p: int, key_q: int, y: complex) -> slice:
        """An admittance between two nodes; the second terminal counts as the same conductor's return."""
        block = np.array([[[y, -y], [-y, y]]], np.complex128)
        return self.linear(np.array([element]), (side, side), (conductor, STAR), np.array([[key_p, key_q]]), block)

    def collected(self) -> tuple[dict[str, Ints], Ints, Ints, Complexes]:
        """Terminals and entries of everything stamped."""
        none: Ints = np.zeros(0, np.int64)
        columns = [np.concatenate([t[i] for t in self._terminals]) if self._terminals else none for i in range(4)]
        names = ("element", "side", "conductor", "key")
        entries = [np.concatenate([e[i] for e in self._entries]) if self._entries else none for i in range(3)]
        return dict(zip(names, columns, strict=True)), entries[0], entries[1], entries[2].astype(np.complex128)

    def star_or_neutral(self, bus: str, conductors: str) -> int | None:
        """Key of the neutral of a bus when an element's conductors and the bus have one."""
        return self.key(bus, "N") if "N" in conductors and self.has(bus, "N") else None


__all__ = ["NAMES", "NUMBER", "Builder"]
