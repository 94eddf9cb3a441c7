"""What draws or gives power phase by phase, and machines by their sequences."""

from __future__ import annotations

from collections.abc import Sequence
from math import sqrt

import numpy as np

from ....catalogue import r_and_x
from ....network import (
    IDEAL,
    Demand,
    Filter,
    Generator,
    InductionMotor,
    Inverter,
    Load,
    LumpedLoad,
    Shunt,
    Source,
    SynchronousMotor,
    neutral_ohm,
)
from ...arrays import Complexes
from .._arrays import MOTOR, NEUTRAL, PQ_MACHINE, PV_MACHINE, SLACK_MACHINE, STAR, Gap
from .._builder import NUMBER, Builder
from .._windings import circulant
from . import stamp

_PAIRS = ((0, 1), (1, 2), (2, 0))
_ABC = (0, 1, 2)
MACHINE_X_OVER_R = 20.0  # of sub-transient reactances, where it matters


@stamp(Load)
def load(loads: Sequence[Load], b: Builder) -> None:
    for i, e in enumerate(loads):
        _demand(i, e, b, e.constant_current_pct / 100, e.constant_impedance_pct / 100)


@stamp(LumpedLoad)
def lumped(loads: Sequence[LumpedLoad], b: Builder) -> None:
    for i, e in enumerate(loads):
        _demand(i, e, b, e.current_pct / 100, e.impedance_pct / 100)
        if b.beyond is None or not b.beyond.machines or len(e.conductors.replace("N", "")) < 3:
            continue
        z = e.motor_ohm(float(b.bus_kv[b.bus_row[e.bus]]))
        if z is not None and _three_phases(e.id, e.bus, b):
            _sequences(i, e.bus, b, 1 / b.ohm(z, b.order**0.5), 0j)


def _demand(i: int, e: Demand, b: Builder, share_i: float, share_z: float) -> None:
    group = b.group(f"class:{e.demand_class}")
    area = b.group(f"area:{getattr(b.find(e.bus), 'area', None) or ''}")
    at = e.drawn_at(b.find) if e.along else (e.bus,)
    if not all(bus in b.bus_row and all(b.has(bus, c) for c in e.conductors) for bus in at):
        at = (e.bus,)
    part = 1 / len(at)
    each = tuple(s * part for s in e.phase_powers_mva() or ()) or None
    for bus in at:
        for p, q, _, volts, s in legs_of(e.id, bus, e.conductors, e.connection, each, e.power_mva() * part, b):
            b.demand.append((b.offset + i, p, q, volts, s * 1e6, share_i, share_z, group, area, 1, -1))


Leg = tuple[int, int, int, float, complex]


def legs_of(
    ident: str, bus: str, conductors: str, connection: str, each: tuple[complex, ...] | None, total: complex, b: Builder
) -> list[Leg]:
    """Legs of a load: keys of both ends, phase, nominal voltage in V, power in MVA.

    Two phases without neutral are one leg between them. A star whose point has no neutral is taken as the delta that
    is equal to it at nominal voltage. A leg whose conductors are not all there is left out, and is a gap.
    """
    found = b.present(ident, conductors, bus)
    phases = [NUMBER[c] for c in conductors if c != "N"]
    there = [p for p in phases if "ABC"[p] in found]
    row = b.bus_row[bus]
    nominal, apart = b.phase_v[row], b.bus_kv[row] * 1e3
    if len(there) < len(phases) or not phases:
        return []  # nothing half connected: the gap says so
    neutral = "N" in found
    base = row * 4
    if connection == "delta" or (not neutral and len(phases) == 2):
        pairs = [p for p in _PAIRS if p[0] in phases and p[1] in phases]
        if not pairs:
            return []
        power = [total / len(pairs)] * len(pairs) if each is None else [each[_PAIRS.index(p)] for p in pairs]
        if each is not None and len(pairs) == 1:
            power = [total]
        return [
            (base + p, base + q, 3 + _PAIRS.index((p, q)), apart, s) for (p, q), s in zip(pairs, power, strict=True)
        ]
    power = [total / len(phases)] * len(phases) if each is None else [each[p] for p in phases]
    if neutral:
        return [(base + p, base + NEUTRAL, p, nominal, s) for p, s in zip(phases, power, strict=True)]
    if len(phases) == 1:  # to earth, where there is no neutral
        return [(base + phases[0], b.earth_key, phases[0], nominal, power[0])]
    a, c, d = power
    if a == c == d:
        return [(base + p, base + q, 3 + k, apart, a) for k, (p, q) in enumerate(_PAIRS)]
    # The equal delta of three impedances draws less than they would with a neutral; scaled, it draws the total entered.
    whole, products = a + c + d, a * c + c * d + d * a
    if abs(products) < 1e-9 * abs(whole) ** 2 or not whole:
        if whole:
            b.gaps.append(
                Gap(ident, "connection", "one phase of a star without a neutral has no way back: it draws nothing")
            )
        return []
    b.gaps.append(Gap(ident, "connection", "unequal phases of a star without a neutral: its star point floats, so the total is "
                      "drawn as entered, but shared otherwise by the phases", breach=False))  # fmt: skip
    return [
        (base + p, base + q, 3 + k, apart, power[p] * power[q] * whole / products) for k, (p, q) in enumerate(_PAIRS)
    ]


@stamp(Shunt)
def shunt(shunts: Sequence[Shunt], b: Builder) -> None:
    """Constant admittances; of a star without neutral the equal delta."""
    for i, e in enumerate(shunts):
        row = b.bus_row[e.bus]
        sign = 1.0 if e.device == "capacitor" else -1.0
        per_step = complex(e.step_loss_kw / 1e3, -sign * e.step_mvar if e.step_mvar else 0.0)
        rated = e.rated_kv or b.bus_kv[row]
        total = per_step * (b.bus_kv[row] / rated) ** 2
        first, one = None, []
        for p, q, phase, volts, s in shunt_legs(e, total, b):
            y = b.siemens(np.conj(s * 1e6) / volts**2)
            where = b.between(i, 0, phase, p, q, y * e.steps_on)
            first = where.start if first is None else first
            one += [y, -y, -y, y]
        if first is not None:
            b.banks[e.id] = (slice(first, first + len(one)), np.array(one, np.complex128))


@stamp(Filter)
def harmonic_filter(filters: Sequence[Filter], b: Builder) -> None:
    """The steps in service, leg by leg like a bank; of a star without neutral the equal delta."""
    for i, e in enumerate(filters):
        row = b.bus_row[e.bus]
        kv = float(b.bus_kv[row])
        total = complex(np.conj(e.steps_on * kv**2 / e.circuit(kv, b.frequency_hz).impedance(b.order)))
        for p, q, phase, volts, s in shunt_legs(e, total, b):
            b.between(i, 0, phase, p, q, complex(np.conj(s * 1e6) / volts**2))


def shunt_legs(e: Shunt | Filter, total: complex, b: Builder) -> list[Leg]:
    """Legs of what draws ``total`` MVA at the nominal voltage of its bus."""
    if e.connection != "earthed":
        return legs_of(e.id, e.bus, e.conductors, e.connection, None, total, b)
    phases = e.conductors.replace("N", "")
    volts = float(b.phase_v[b.bus_row[e.bus]])
    return [
        (b.key(e.bus, c), b.earth_key, NUMBER[c], volts, total / len(phases)) for c in b.present(e.id, phases, e.bus)
    ]


def _machine(
    i: int, bus: str, b: Builder, role: int, p: float, q: float, *, voltage: float = 0.0, angle: float = 0.0,
    limits: tuple[float, float] = (-np.inf, np.inf), weight: float = 1.0, group: int = -1, area: int = -1, curve: int = -1,
) -> None:  # fmt: skip
    a, c, d = (b.key(bus, k) for k in "ABC")
    b.machine.append((b.offset + i, a, c, d, role, p, q, voltage, angle, *limits, weight, group, area, curve))


def _sequences(
    i: int, bus: str, b: Builder, y2: complex, y0: complex, star: int | None = None, behind: Complexes | None = None
) -> None:
    """Negative- and zero-sequence admittance of a machine over its phases (and star point); positive has its own current, but
    for other frequencies than the network's, at which it sees what the negative does.

    The matrix for "negative sequence only" is circulant and not symmetric. ``behind``: zero and negative sequence of the
    voltage behind the admittances, V: they drive a current of their own.
    """
    turn = np.exp(2j * np.pi / 3)
    # V2 = (Va + a² Vb + a Vc)/3; its current comes back as I2 (1, a, a²).
    negative = np.outer(np.array([1, turn, turn**2]), np.array([1, turn**2, turn])) / 3
    block = y2 * negative + circulant(0, y0) if b.beyond is None else circulant(y2, y0)
    keys = [b.key(bus, c) for c in "ABC"]
    conductors = list(_ABC)
    if star is not None and y0:
        column = -block @ np.ones((3, 1))
        row = -np.ones((1, 3)) @ block
        block = np.block([[block, column], [row, -row @ np.ones((3, 1))]])
        keys, conductors = [*keys, star], [*conductors, 3]
    if behind is not None and np.any(behind):
        phases = behind[0] + behind[1] * np.array([1, turn, turn**2])
        b.drive(block[:, :3] @ phases)
    b.linear(np.array([i]), [0] * len(keys), conductors, np.array([keys]), block[None])


def _three_phases(ident: str, bus: str, b: Builder) -> bool:
    return len(b.present(ident, "ABC", bus)) == 3


@stamp(Source)
def source(sources: Sequence[Source], b: Builder) -> None:
    """Holds the positive-sequence voltage of its bus; negative and zero sequence see its impedance."""
    for i, e in enumerate(sources):
        if not _three_phases(e.id, e.bus, b):
            continue
        kv = b.bus_kv[b.bus_row[e.bus]]
        y2 = _source_y(e, kv, b)
        star = b.star_or_neutral(e.bus, "N")  # the neutral of a four-wire bus begins at its source
        if star is None and e.neutral != "isolated":
            star = b.earth_key
        if star is not None and star != b.earth_key and e.neutral != "isolated":
            b.joined.append((star, b.earth_key))
        y0 = y2 / e.z0_over_z1 if star is not None else 0j
        behind = (
            e.voltage_pu
            * kv
            * 1e3
            / sqrt(3)
            / 100
            * np.array(
                [
                    e.zero_pct * np.exp(1j * np.radians(e.zero_deg)),
                    e.negative_pct * np.exp(1j * np.radians(e.negative_deg)),
                ]
            )
        )
        _sequences(i, e.bus, b, y2, y0, star, behind)
        _machine(i, e.bus, b, SLACK_MACHINE, 0.0, 0.0, voltage=e.voltage_pu, angle=np.radians(e.angle_deg),
                 weight=e.fault_max_mva)  # fmt: skip


def _source_y(e: Source, kv: float, b: Builder) -> complex:
    more = IDEAL if e.ideal else 1.0
    if b.beyond is None:
        return more / r_and_x(kv**2 / e.fault_max_mva, e.x_over_r)
    level = e.fault_max_mva if b.beyond.fault_level == "highest" else e.fault_min_mva
    return more / b.ohm(r_and_x(kv**2 / level, e.x_over_r), b.order**b.beyond.source_exponent)


@stamp(Generator)
def generator(machines: Sequence[Generator], b: Builder) -> None:
    """Positive sequence as set; negative sequence by the sub-transient reactance; zero as its star point is earthed."""
    for i, e in enumerate(machines):
        group = b.group(f"energy:{e.energy}")
        p, q = (e.active_power_mw or 0.0), e.set_reactive_mvar()
        if len(e.conductors.replace("N", "")) < 3:
            _plant(i, e.id, e.bus, e.conductors, complex(p, q), group, -1, b)
            continue
        if not _three_phases(e.id, e.bus, b):
            continue
        kv = b.bus_kv[b.bus_row[e.bus]]
        size = e.rated_mva or abs(complex(p, q))
        if b.beyond is not None:
            size = e.rated_mva or 0.0
        if size:
            y2 = 1 / _subtransient(e.xd_pct / 100 * kv**2 / size, b)
            ohm = neutral_ohm(e.neutral, e.neutral_ohm, e.neutral_a, kv)
            star = b.star_or_neutral(e.bus, e.conductors)
            if star is None and ohm is not None:
                star = b.earth_key if ohm == 0 else b.star(b.phase_v[b.bus_row[e.bus]])
            if star is not None and star != b.earth_key and ohm is not None:
                if ohm == 0:
                    b.joined.append((star, b.earth_key))
                else:
                    b.linear(np.array([i]), (0,), (STAR,), np.array([[star]]), np.array([[[1 / ohm]]]))
            _sequences(i, e.bus, b, y2, 2 * y2 if star is not None else 0j, star)
        own = e.control == "voltage" and (e.held_bus is None or e.held_bus == e.bus)
        low = e.q_min_mvar if e.q_min_mvar is not None else -np.inf
        high = e.q_max_mvar if e.q_max_mvar is not None else np.inf
        _machine(i, e.bus, b, PV_MACHINE if own else PQ_MACHINE, p / b.base_mva, q / b.base_mva, voltage=e.voltage_pu,
                 limits=(low / b.base_mva, high / b.base_mva), weight=e.rated_mva or abs(p) or 1.0, group=group)  # fmt: skip


def _subtransient(x: float, b: Builder) -> complex:
    """Reactance of a machine's damper; at other frequencies with a resistance that grows with the root of the order."""
    return complex(0.0, x) if b.beyond is None else b.ohm(complex(x / MACHINE_X_OVER_R, x), b.order**0.5)


@stamp(Inverter)
def inverter(plants: Sequence[Inverter], b: Builder) -> None:
    """Each phase by itself, or three equal currents of the positive sequence."""
    for i, e in enumerate(plants):
        group = b.group(f"energy:{e.energy}")
        p, q = (e.active_power_mw or 0.0), e.set_reactive_mvar()
        curve = -1
        if e.control == "voltage_curve":
            curve = len(b.curve)
            b.curve.append(
                (e.v1_pu, e.v2_pu, e.v3_pu, e.v4_pu, e.curve_q_pct / 100 * (e.rated_mva or 0.0) / b.base_mva)
            )
        if len(e.conductors.replace("N", "")) < 3 or e.phase_control == "each_phase":
            _plant(i, e.id, e.bus, e.conductors, complex(p, q), group, curve, b, e.phase_powers_mva())
        elif _three_phases(e.id, e.bus, b):
            rated = (e.rated_mva or 0.0) / b.base_mva
            _machine(i, e.bus, b, PQ_MACHINE, p / b.base_mva, q / b.base_mva, limits=(-rated, rated), group=group,
                     weight=e.rated_mva or 1.0, curve=curve)  # fmt: skip


def _plant(
    i: int, ident: str, bus: str, conductors: str, power: complex, group: int, curve: int, b: Builder,
    each: tuple[complex, ...] | None = None,
) -> None:  # fmt: skip
    for p, q, _, volts, s in legs_of(ident, bus, conductors, "wye", each, power, b):
        b.demand.append((b.offset + i, p, q, volts, -s * 1e6, 0.0, 0.0, group, -1, -1, curve))


@stamp(InductionMotor)
def induction_motor(motors: Sequence[InductionMotor], b: Builder) -> None:
    """Positive sequence: constant power. Negative: nearly the locked rotor. No zero sequence."""
    for i, e in enumerate(motors):
        kv = b.bus_kv[b.bus_row[e.bus]]
        rated = e.rated_input_mva(e.power_factor)
        pf = e.starting_power_factor
        z = complex(pf, sqrt(1 - pf * pf)) / e.starting_current_x
        _motor(i, e, e.power_mva(), rated / ((e.rated_kv or kv) ** 2 * b.ohm(z, b.order**0.5)) if rated else 0j, b)


@stamp(SynchronousMotor)
def synchronous_motor(motors: Sequence[SynchronousMotor], b: Builder) -> None:
    """Positive sequence: constant power. Negative: the sub-transient reactance."""
    for i, e in enumerate(motors):
        kv = b.bus_kv[b.bus_row[e.bus]]
        rated = e.rated_input_mva(e.power_factor if abs(e.power_factor) >= 0.05 else 1.0)
        _motor(
            i,
            e,
            e.power_mva(),
            rated / ((e.rated_kv or kv) ** 2 * _subtransient(e.xd_pct / 100, b)) if rated else 0j,
            b,
        )


def _motor(i: int, e: InductionMotor | SynchronousMotor, power: complex, y2: complex, b: Builder) -> None:
    group = b.group(f"class:{e.demand_class}")
    area = b.group(f"area:{getattr(b.find(e.bus), 'area', None) or ''}")
    if len(e.conductors.replace("N", "")) < 3:
        for p, q, _, volts, s in legs_of(e.id, e.bus, e.conductors, "wye", None, power, b):
            b.demand.append((b.offset + i, p, q, volts, s * 1e6, 0.0, 0.0, group, area, 1, -1))
        return
    if not _three_phases(e.id, e.bus, b):
        return
    if y2 and (b.beyond is None or b.beyond.machines):
        _sequences(i, e.bus, b, y2, 0j)
    _machine(i, e.bus, b, MOTOR, -power.real / b.base_mva, -power.imag / b.base_mva, group=group, area=area)


__all__ = ["legs_of"]
