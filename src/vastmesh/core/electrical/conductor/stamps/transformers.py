"""Transformers of every vector group, with a tap for each phase and an impedance in each neutral."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from math import sqrt
from typing import Any

import numpy as np

from ....catalogue import zero_sequence_share
from ....network import ThreeWinding, Transformer, neutral_ohm, tap_positions
from ...arrays import Complexes, Floats
from .._arrays import STAR, Gap, Positions, TapSpot
from .._builder import NAMES, NUMBER, Builder
from .._windings import TwoWinding, two_winding_admittance
from . import stamp

_ABC = (0, 1, 2)


@stamp(Transformer)
def transformer(units: Sequence[Transformer], b: Builder) -> None:
    for i, e in enumerate(units):
        if e.single_phase():
            _single_phase(i, e, b)
        elif e.vector_group.startswith("V"):
            _open_delta(i, e, b)
        else:
            _three_phase(i, e, b)


def _turns(e: Transformer, positions: Positions) -> Positions:
    a, c, d = (1 + (p - e.tap_neutral) * e.tap_step_pct / 100 for p in positions)
    return a, c, d


def _three_phase(i: int, e: Transformer, b: Builder) -> None:
    amps = (e.rated_mva or 0) * 1e3 / sqrt(3)
    b.rating[b.offset + i] = (amps, amps)
    lv_conductors = e.lv_conductors or ("ABCN" if b.has(e.lv_bus, "N") else "ABC")
    ends = ((e.hv_bus, e.conductors), (e.lv_bus, lv_conductors))
    if any(len(b.present(e.id, "ABC", bus)) < 3 for bus, _ in ends):
        return
    hv, lv, clock = e.winding_groups()
    stars = (_star(i, e, b, 0, hv in ("YN", "ZN")), _star(i, e, b, 1, lv in ("yn", "zn", "a")))
    z1, z0 = b.ohm(e.impedance_pu(), b.more(e)), _zero(e)
    unit = two_winding_admittance(
        (hv, lv, int(clock)), ((e.hv_kv or 1) * 1e3, (e.lv_kv or 1) * 1e3), (e.rated_mva or 1) * 1e6, z1,
        b.ohm(z0, b.more(e)) if z0 is not None else None,
        stars=(stars[0] is not None, stars[1] is not None), shift_rad=np.radians(e.phase_shift_deg),
        no_load_pu=b.siemens(e.magnetising_pu()), turns_on=e.tap_side,
    )  # fmt: skip
    keys, sides, conductors = _terminals(b, ends, (unit.hv.star, unit.lv.star), stars)

    further = np.radians(e.phase_shift_deg)

    def at(shift: float) -> TwoWinding:
        return unit if shift == further else replace(unit, lead_rad=unit.lead_rad + shift - further, further_rad=shift)

    def build(positions: Positions, shift: float = further) -> Complexes:
        return at(shift).admittance(_turns(e, positions))

    def build_terms(positions: Positions, shift: float = further) -> tuple[Complexes, Complexes]:
        return at(shift).limbs(_turns(e, positions))

    position = tap_positions(e)
    terms = b.limbs(i, _ABC, [unit.limb_ohm] * 3, [unit.shunt.real] * 3, build_terms(position))
    entries = b.linear(np.array([i]), sides, conductors, np.array([keys]), build(position)[None])
    b.taps[e.id] = TapSpot(b.offset + i, entries, build, position, further, terms, build_terms, unit.limb_that_moves)


def _zero(e: Transformer) -> complex | None:
    """Zero-sequence impedance per unit: entered, typical of group and core, or none."""
    z1 = e.impedance_pu()
    share = (
        e.z0_pct / abs(e.impedance_pct or 1.0) if e.z0_pct is not None else zero_sequence_share(e.vector_group, e.core)
    )
    if share is None:
        return None
    if e.x0_over_r0 is None:
        return z1 * share
    size = abs(z1) * share
    r = size / sqrt(1 + e.x0_over_r0**2)
    return complex(r, r * e.x0_over_r0)


def _star(i: int, e: Any, b: Builder, side: int, brought_out: bool) -> int | None:
    """Key of a star point: the neutral of the bus, else a node of its own where it is earthed; None where it floats."""
    if not brought_out:
        return None
    bus, word = ((e.hv_bus, "hv"), (e.lv_bus, "lv"))[side]
    conductors = e.conductors if side == 0 else (e.lv_conductors or "ABCN")
    return star_point(i, b, bus, conductors, getattr(e, f"{word}_neutral"), neutral_ohm(
        getattr(e, f"{word}_neutral"), getattr(e, f"{word}_neutral_ohm"), getattr(e, f"{word}_neutral_a"),
        getattr(e, f"{word}_kv")), side)  # fmt: skip


def star_point(
    i: int, b: Builder, bus: str, conductors: str, earthing: str, ohm: complex | None, side: int
) -> int | None:
    """Key of a star point, earthed as it is said."""
    star = b.star_or_neutral(bus, conductors)
    if star is None:
        if earthing == "isolated" or ohm is None:
            return None
        star = b.star(b.phase_v[b.bus_row[bus]])
    if earthing == "solid":
        b.joined.append((star, b.earth_key))
    elif ohm is not None and earthing != "isolated":
        b.linear(np.array([i]), (side,), (STAR,), np.array([[star]]), np.array([[[1 / b.ohm(ohm)]]]))
    return star


def _terminals(
    b: Builder,
    ends: tuple[tuple[str, str], tuple[str, str]],
    has: tuple[bool, bool],
    stars: tuple[int | None, int | None],
) -> tuple[list[int], list[int], list[int]]:
    """Keys, sides and conductors of a unit in the order of its admittance matrix."""
    keys: list[int] = []
    sides: list[int] = []
    conductors: list[int] = []
    for side, (bus, _) in enumerate(ends):
        keys += [b.key(bus, c) for c in "ABC"]
        sides += [side] * 3
        conductors += _ABC
        star = stars[side]
        if has[side] and star is not None:
            keys.append(star)
            sides.append(side)
            conductors.append(3)
    return keys, sides, conductors


def _single_phase(i: int, e: Transformer, b: Builder) -> None:
    """One limb: its HV winding between two conductors; its LV winding likewise, or in two halves with the middle at N."""
    split = e.vector_group.startswith("Iii")
    lv_conductors = e.lv_conductors or _ends_at(b, e.lv_bus, split=split, like=e.conductors)
    hv = b.present(e.id, e.conductors, e.hv_bus)
    low = b.present(e.id, lv_conductors, e.lv_bus)
    amps = (e.rated_mva or 0) * 1e3
    b.rating[b.offset + i] = (amps, amps)
    if len(hv) != 2 or len(low) != (3 if split else 2):
        if hv == e.conductors and low == lv_conductors:
            b.gaps.append(
                Gap(e.id, "lv_conductors", f"can't connect its LV side to {low or 'nothing'}: name its conductors")
            )
        return
    _earth_neutral(i, e, b)
    limb = _limb(e, split, b)
    order = [NUMBER[c] for c in hv] + (
        [NUMBER[c] for c in low] if not split else [NUMBER[c] for c in _split_order(low)]
    )
    names = [NAMES[n] for n in order]
    keys = [b.key(e.hv_bus, c) for c in names[:2]] + [b.key(e.lv_bus, c) for c in names[2:]]
    phase = next((n for n in order if n < 3), 0)

    sides = [0, 0] + [1] * (len(order) - 2)
    _wound(i, e, b, Wound(lambda p: limb(_turns(e, p)[phase]), (phase,) * (2 if split else 1)), sides, order, keys)


def _split_order(low: str) -> list[str]:
    """First end, middle, second end."""
    ends = [c for c in low if c != "N"]
    return [ends[0], "N", ends[1]]


def _ends_at(b: Builder, bus: str, *, split: bool, like: str) -> str:
    """Conductors of the LV side where nobody named them: all of the bus's when their number fits, else as the HV side."""
    found = b.conductors[b.bus_row[bus]]
    if len(found) == (3 if split else 2):
        return found
    return like if not split and all(c in found for c in like) else found


def _earth_neutral(i: int, e: Transformer, b: Builder) -> None:
    """A neutral that the unit itself earths, on the side that has one."""
    if not b.has(e.lv_bus, "N") or e.lv_neutral == "isolated":
        return
    star = b.key(e.lv_bus, "N")
    if e.lv_neutral == "solid":
        b.joined.append((star, b.earth_key))
    elif ohm := neutral_ohm(e.lv_neutral, e.lv_neutral_ohm, e.lv_neutral_a, e.lv_kv):
        b.linear(np.array([i]), (1,), (STAR,), np.array([[star]]), np.array([[[1 / b.ohm(ohm)]]]))


@dataclass(frozen=True)
class Limbs:
    """Single-phase limbs over k terminals: ``m`` what acts on each leakage, (n, k); ``a`` the HV voltages per unit, one
    or as many, (1 or n, k); leakage (one or one each) and no-load admittance of each, VA at rated voltage."""

    m: Floats
    a: Floats
    y: complex | Complexes
    no_load: complex

    def admittance(self) -> Complexes:
        return np.asarray(self.m.T @ (self.m * self._each) + self.a.T @ self.a * self.no_load, np.complex128)

    @property
    def _each(self) -> Complexes:
        return np.broadcast_to(np.asarray(self.y, np.complex128), (len(self.m),))[:, None]

    @property
    def ohm(self) -> list[float]:
        """Resistance of each leakage, W per VA² at rated voltage."""
        return [float((1 / y).real) for y in self._each[:, 0]]

    def terms(self) -> tuple[Complexes, Complexes]:
        volts = np.zeros(self.m.shape, np.complex128)
        volts[: len(self.a)] = self.a
        return (self.m * self._each).astype(np.complex128), volts


@dataclass(frozen=True)
class Wound:
    """How the limbs of a unit follow its tap positions, the phase that each limb counts for, and the position that moves each
    phase."""

    at: Callable[[Positions], Limbs]
    phases: tuple[int, ...]
    moves: tuple[int, int, int] = (0, 1, 2)


def _wound(
    i: int, e: Transformer, b: Builder, unit: Wound, sides: Sequence[int], conductors: Sequence[int], keys: list[int]
) -> None:
    position = tap_positions(e)
    now, n = unit.at(position), len(unit.phases)
    terms = b.limbs(i, unit.phases, now.ohm, [now.no_load.real] * n, now.terms())
    entries = b.linear(np.array([i]), sides, conductors, np.array([keys]), now.admittance()[None])
    b.taps[e.id] = TapSpot(b.offset + i, entries, lambda p, _: unit.at(p).admittance(), position, 0.0, terms,
                           lambda p, _: unit.at(p).terms(), lambda _: unit.moves)  # fmt: skip


def _limb(e: Transformer, split: bool, b: Builder) -> Callable[[float], Limbs]:
    """One limb over both HV ends and the LV ends (or first end, middle, second end), as a function of the turns. The
    leakage lies in the LV winding; of a centre-tapped one a half in each half (its own rated power), but for the share in
    the HV winding, which is common to both."""
    rated = (e.rated_mva or 1.0) * 1e6
    hv_v, lv_v = (e.hv_kv or 1.0) * 1e3, (e.lv_kv or 1.0) * 1e3
    y = rated / b.ohm(e.impedance_pu(), b.more(e))
    no_load = rated * b.siemens(e.magnetising_pu())
    sign = -1.0 if e.vector_group == "Ii6" else 1.0
    own = 1 - e.primary_share_pct / 100

    def build(turns: float) -> Limbs:
        hv, lv = (turns, 1.0) if e.tap_side == "hv" else (1.0, turns)
        a = np.array([[1.0, -1.0]]) / (hv_v * hv)
        if split:
            half = np.array([[1.0, -1.0, 0.0], [0.0, 1.0, -1.0]]) * 2 / (lv_v * lv)
            # Both halves loaded alike see all of the leakage, against each other what does not lie in the HV winding.
            alike = np.array([[1.0, 1.0], [1.0, -1.0]]) / sqrt(2)
            m = alike @ np.hstack([-np.vstack([a, a]), half])
            return Limbs(
                m, np.hstack([a, np.zeros((1, m.shape[1] - 2))]), np.array([y, y / own], np.complex128) / 2, no_load
            )
        m = np.hstack([-sign * a, np.array([[1.0, -1.0]]) / (lv_v * lv)])
        return Limbs(m, np.hstack([a, np.zeros((1, m.shape[1] - 2))]), y, no_load)

    return build


def _open_delta(i: int, e: Transformer, b: Builder) -> None:
    """Two single-phase limbs between A and B, and B and C, on both sides."""
    if any(len(b.present(e.id, "ABC", bus)) < 3 for bus in (e.hv_bus, e.lv_bus)):
        return
    amps = (e.rated_mva or 0) * 1e3 / sqrt(3)
    b.rating[b.offset + i] = (amps, amps)
    # Each limb carries the full line current at line-to-line voltage: rated for the bank's power over the square root of 3.
    each = (e.rated_mva or 1.0) * 1e6 / sqrt(3)
    y, no_load = each / b.ohm(e.impedance_pu(), b.more(e)), each * b.siemens(e.magnetising_pu())
    pairs = np.array([[1.0, -1.0, 0.0], [0.0, 1.0, -1.0]])

    def at(positions: Positions) -> Limbs:
        turns = np.array(_turns(e, positions)[:2])[:, None]
        hv, lv = (turns, 1.0) if e.tap_side == "hv" else (1.0, turns)
        a, c = pairs / ((e.hv_kv or 1.0) * 1e3) / hv, pairs / ((e.lv_kv or 1.0) * 1e3) / lv
        return Limbs(np.hstack([-a, c]), np.hstack([a, np.zeros((2, 3))]), y, no_load)

    keys = [b.key(bus, c) for bus in (e.hv_bus, e.lv_bus) for c in "ABC"]
    # Both limbs meet at B, which is moved by neither alone.
    _wound(i, e, b, Wound(at, (0, 1), (0, -1, 1)), [0] * 3 + [1] * 3, _ABC * 2, keys)


@stamp(ThreeWinding)
def three_winding(units: Sequence[ThreeWinding], b: Builder) -> None:
    """Three two-winding units to an inner three-phase point: star where the clock number is even, delta where odd."""
    for i, e in enumerate(units):
        if any(len(b.present(e.id, "ABC", bus)) < 3 for bus in e.buses()):
            continue
        rated = (e.hv_mva or 1.0) * 1e6
        inner_v = (e.hv_kv or 1.0) * 1e3
        inner = [b.star(inner_v / sqrt(3)) for _ in range(3)]
        clocks = (0, e.mv_clock, e.lv_clock)
        amps = (e.hv_mva or 0.0) * 1e3 / sqrt(3)
        b.rating[b.offset + i] = (amps, amps)
        for side, (name, own_z, clock) in enumerate(zip(("hv", "mv", "lv"), e.star_pu(), clocks, strict=True)):
            z = b.ohm(own_z, b.more(e))
            bus, kv = getattr(e, f"{name}_bus"), (getattr(e, f"{name}_kv") or 1.0) * 1e3
            mode = getattr(e, f"{name}_neutral", "isolated")
            ohm = neutral_ohm(
                mode, getattr(e, f"{name}_neutral_ohm", None), getattr(e, f"{name}_neutral_a", None), kv / 1e3
            )
            delta = clock % 2 == 1
            star = None if delta else star_point(i, b, bus, e.conductors, mode, ohm, side)
            hv = "D" if delta else "YN" if star is not None else "Y"
            # Seen from the winding: the inner point lags the winding by minus its clock number.
            unit = two_winding_admittance(
                (hv, "yn", (-clock) % 12),
                (kv, inner_v),
                rated,
                z,
                None if hv == "Y" else z,
                stars=(star is not None, True),
            )
            own = (e.turns(),) * 3 if side == 0 else (1.0, 1.0, 1.0)
            keys = [b.key(bus, c) for c in "ABC"] + ([star] if star is not None else []) + inner + [b.earth_key]
            conductors = [*_ABC, *([3] if star is not None else []), 5, 5, 5, 5]
            b.limbs(i, _ABC, [unit.limb_ohm] * 3, [0.0] * 3, unit.limbs(own))
            b.linear(np.array([i]), [side] * len(keys), conductors, np.array([keys]), unit.admittance(own)[None])
        no_load = np.asarray(np.eye(3) * (rated * b.siemens(e.magnetising_pu()) / inner_v**2), np.complex128)
        b.limbs(
            i,
            _ABC,
            [0.0] * 3,
            [no_load[0, 0].real] * 3,
            (np.zeros((3, 3), np.complex128), np.eye(3, dtype=np.complex128)),
        )
        b.linear(np.array([i]), [0] * 3, [5] * 3, np.array([inner]), no_load[None])
