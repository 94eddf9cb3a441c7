"""Line constants from conductor geometry: Carson's equations with earth return, and Kron reduction.

Source: J. R. Carson, "Wave propagation in overhead wires with ground return", Bell System Technical Journal 5, 1926;
the series is cut after its first terms, so that earth adds one resistance and one depth of return. Cables with
screens: the screen is a conductor of its own around its phase (W. H. Kersting, "Distribution System Modeling and
Analysis", chapter 4). All impedances Ω/km, lengths m, potential coefficients km/F.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from math import exp, log, pi, sin, sqrt

import numpy as np
from numpy.typing import NDArray

from ..catalogue import at_temperature
from ..network import LineGeometry, LineMatrix
from .arrays import Complexes, Floats

_EPS0_F_PER_KM = 8.854187817e-9
_COPPER_OHM_MM2_PER_KM = 17.241


@dataclass(frozen=True)
class Wire:
    """One conductor: place in m, resistance in Ω/km at its temperature, geometric mean and outer radius in m."""

    name: str
    x: float
    y: float
    r: float
    gmr: float
    radius: float


def picked(z: Complexes, b: Floats, order: str, kept: str, *, neutral_earthed: bool) -> tuple[Complexes, Floats]:
    """Series and shunt matrices of a full set of conductors over those that a line has.

    A conductor that is not there carries no current and no charge: its rows fall away from the series matrix, and are
    eliminated from the shunt one. A neutral that is earthed all along has no voltage: the other way round.
    """
    rows = [order.index(c) for c in kept]
    earthed = [order.index("N")] if neutral_earthed and "N" in order and "N" not in kept else []
    absent = [i for i in range(len(order)) if i not in rows and i not in earthed]
    if absent:
        own = b[np.ix_(absent, absent)]
        if np.all(np.abs(np.diag(own)) > 0) and np.linalg.cond(own) < 1e12:
            b = b - b[:, absent] @ np.linalg.solve(own, b[absent, :])
    z = kron(z[np.ix_(rows + earthed, rows + earthed)], len(rows))
    return z, np.asarray(b[np.ix_(rows, rows)])


def order_for(order: str, conductors: str) -> str:
    """Conductors behind the rows of a matrix for a line: of as many phases as the matrix has, other letters change nothing."""
    mine, rows = conductors.replace("N", ""), order.replace("N", "")
    if set(mine) <= set(rows) or len(mine) != len(rows):
        return order
    return order.translate(str.maketrans(rows, mine))


def matrix_sequence(matrix: LineMatrix, conductors: str) -> tuple[complex, complex, float, float]:
    """Z1, Z0 in Ω/km and B1, B0 in µS/km of a line with a full matrix: its phases transposed, its neutral earthed.

    Of two phases or one the mean own term less the mean mutual one, which is what every phase of a balanced system sees.
    """
    z = np.array(matrix.z_ohm_per_km(), np.complex128)
    b = np.array(matrix.b_us() or np.zeros(z.shape), np.float64)
    order = order_for(matrix.order, conductors)
    kept = "".join(c for c in conductors if c in order and c != "N") or order.replace("N", "") or order
    z, b = picked(z, b, order, kept, neutral_earthed=True)
    z1, z0 = sequence(z)
    b1, b0 = sequence(b.astype(np.complex128))
    return z1, z0, b1.real, b0.real


@dataclass(frozen=True)
class Constants:
    """Constants of a line per km.

    ``wires``: names of the conductors of ``primitive`` (n, n). ``phases``: names behind ``z`` and ``y``
    (m, m), Ω/km and S/km, after the reduction of what is earthed. ``z1``, ``z0`` Ω/km, ``b1``, ``b0`` µS/km.
    """

    wires: tuple[str, ...]
    primitive: Complexes
    phases: tuple[str, ...]
    z: Complexes
    y: Complexes
    z1: complex
    z0: complex
    b1: float
    b0: float


def depth_of_return_m(frequency_hz: float, earth_ohm_m: float) -> float:
    """Equivalent depth of the earth return, 658.87 √(ρ/f) m.

    The first terms of Carson's series: X_e = 2ω·10⁻⁴ (−0.0386 + ln(2/k)), k = 4π√5·10⁻⁴ D √(f/ρ), D in m; with
    ln(1/D_ij) it becomes ln(D_e / D_ij).
    """
    k_per_m = 4 * pi * sqrt(5) * 1e-4 * sqrt(frequency_hz / earth_ohm_m)
    return 2 * exp(-0.0772157) / k_per_m


def earth_resistance_ohm_per_km(frequency_hz: float) -> float:
    """What the earth return adds to every term: ω·10⁻⁴·π/2, that is π² f 10⁻⁴ Ω/km."""
    return pi * pi * frequency_hz * 1e-4


def primitive_impedance(wires: list[Wire], frequency_hz: float, earth_ohm_m: float) -> Complexes:
    """Series impedance of every conductor with earth return, (n, n) symmetric, Ω/km.

    z_ii = r_i + r_e + jω 2·10⁻⁴ ln(D_e / GMR_i), z_ij = r_e + jω 2·10⁻⁴ ln(D_e / D_ij).
    """
    distance = distances(wires)
    np.fill_diagonal(distance, [w.gmr for w in wires])
    omega = 2 * pi * frequency_hz
    z = np.full(distance.shape, earth_resistance_ohm_per_km(frequency_hz), np.complex128)
    z += 1j * omega * 2e-4 * np.log(depth_of_return_m(frequency_hz, earth_ohm_m) / distance)
    return np.asarray(z + np.diag([w.r for w in wires]))


def distances(wires: list[Wire]) -> Floats:
    """Between all conductors, m, (n, n); a screen around a conductor is at its own radius from it."""
    place = np.array([complex(w.x, w.y) for w in wires])
    radius = np.array([w.radius for w in wires])
    distance = np.abs(place[:, None] - place[None, :])
    return np.asarray(np.where(distance == 0, np.maximum(radius[:, None], radius[None, :]), distance))


def potential_coefficients(wires: list[Wire]) -> Floats:
    """Maxwell's coefficients over perfect earth, (n, n), km/F: ln(2h/r), ln(S_ij/D_ij) over 2π ε0."""
    place = np.array([complex(w.x, w.y) for w in wires])
    distance = np.abs(place[:, None] - place[None, :])
    image = np.abs(place[:, None] - np.conj(place)[None, :])
    np.fill_diagonal(distance, [w.radius for w in wires])
    return np.asarray(np.log(image / distance) / (2 * pi * _EPS0_F_PER_KM))


def kron(matrix: NDArray[np.complex128], kept: int) -> Complexes:
    """Eliminate all but the first ``kept`` conductors, whose far ends are at zero: Z_kk − Z_ke Z_ee⁻¹ Z_ek."""
    if kept == len(matrix):
        return np.asarray(matrix)
    a, b = matrix[:kept, :kept], matrix[:kept, kept:]
    return np.asarray(a - b @ np.linalg.solve(matrix[kept:, kept:], matrix[kept:, :kept]))


def bundle_radius(radius: float, count: int, spacing: float) -> float:
    """Radius of one conductor that stands for a regular bundle: (n r R^(n−1))^(1/n), R the bundle's own radius."""
    if count == 1:
        return radius
    circle = spacing / (2 * sin(pi / count))
    return float((count * radius * circle ** (count - 1)) ** (1 / count))


def sequence(matrix: Complexes) -> tuple[complex, complex]:
    """Positive- and zero-sequence value of a matrix of up to three phases, couplings between sequences left out."""
    k = min(len(matrix), 3)
    own = np.trace(matrix[:k, :k]) / k
    mutual = (matrix[:k, :k].sum() / k - own) / (k - 1) if k > 1 else 0.0
    return complex(own - mutual), complex(own + 2 * mutual)


def transposed(matrix: Complexes, phases: int = 3) -> Complexes:
    """The mean over a full transposition cycle of the phases; a neutral keeps its place."""
    turn = [*range(1, phases), 0, *range(phases, len(matrix))]
    whole, last = matrix, matrix
    for _ in range(phases - 1):
        last = last[np.ix_(turn, turn)]
        whole = whole + last
    return np.asarray(whole / phases)


def line_constants(geometry: LineGeometry, frequency_hz: float, conductors: str | None = None) -> Constants:
    """All constants of a geometry, per km at the frequency; of a line that has only some of its ``conductors``, the others
    not being there."""
    there = geometry.phases if conductors is None else "".join(c for c in geometry.phases if c in conductors)
    data = geometry.model_dump_json(exclude={"id", "name", "origins"})
    return _cached(data, frequency_hz, there or geometry.phases)


@lru_cache(maxsize=256)
def _cached(data: str, frequency_hz: float, phases: str) -> Constants:
    geometry = LineGeometry.model_validate_json(data[:-1] + ',"id":"geometry"}')
    wires, kept = geometry_wires(geometry, phases)
    count = len(phases)
    primitive = primitive_impedance(wires, frequency_hz, geometry.earth_ohm_m)
    z = kron(primitive, kept)
    names = tuple(w.name for w in wires)[:kept]
    omega = 2 * pi * frequency_hz
    if geometry.construction == "overhead":
        reduced = kron(potential_coefficients(wires).astype(np.complex128), kept).real
        y: Complexes = np.asarray(1j * omega * np.linalg.inv(reduced), np.complex128)
    else:
        y = np.asarray(1j * omega * np.diag([_cable_capacitance(geometry)] * count), np.complex128)
        if geometry.neutral == "kept" and geometry.screen != "none":
            # All screens together are the neutral: one voltage, the sum of their currents; they take the charge.
            joined = np.eye(len(wires))[:, : count + 1]
            joined[count:, count] = 1.0
            z = np.asarray(np.linalg.inv(joined.T @ np.linalg.inv(primitive) @ joined))
            y = np.block([[y, -y @ np.ones((count, 1))], [-np.ones((1, count)) @ y, np.array([[y.sum()]])]])
            names = (*names[:count], "N")
    if geometry.transposed:
        z, y = transposed(z, count), transposed(y, count)
    # The sequence values of a four-wire line are those with its neutral earthed at both ends.
    z3 = kron(z, count)
    y3 = np.asarray(y[:count, :count])
    z1, z0 = sequence(z3)
    y1, y0 = sequence(y3)
    return Constants(tuple(w.name for w in wires), primitive, names, z, y, z1, z0, y1.imag * 1e6, y0.imag * 1e6)


def geometry_wires(geometry: LineGeometry, phases: str = "ABC") -> tuple[list[Wire], int]:
    """The conductors of a geometry with some of its phases, and how many of them stay after the reduction."""
    return (_overhead if geometry.construction == "overhead" else _cable)(geometry, phases)


def _overhead(g: LineGeometry, phases: str) -> tuple[list[Wire], int]:
    r = at_temperature(g.r20_ohm_per_km or 0.0, g.material, g.temperature_c)
    gmr, radius = (g.gmr_mm or 1.0) / 1e3, (g.diameter_mm or 1.0) / 2e3
    phase = (
        r / g.bundle,
        bundle_radius(gmr, g.bundle, g.bundle_spacing_m),
        bundle_radius(radius, g.bundle, g.bundle_spacing_m),
    )
    wires = []
    for name, (x, y) in g.positions():
        if name in "ABC" and name not in phases:
            continue
        if name == "N":
            own = (at_temperature(g.n_r20_ohm_per_km or g.r20_ohm_per_km or 0.0, g.material, g.temperature_c),
                   (g.n_gmr_mm or g.gmr_mm or 1.0) / 1e3, (g.n_diameter_mm or g.diameter_mm or 1.0) / 2e3)  # fmt: skip
        elif name.startswith("W"):
            own = (g.w_r20_ohm_per_km, g.w_gmr_mm / 1e3, g.w_diameter_mm / 2e3)
        else:
            own = phase
        wires.append(Wire(name, x, y, *own))
    return wires, len(phases) + (g.neutral == "kept")


def _cable(g: LineGeometry, phases: str) -> tuple[list[Wire], int]:
    s = g.spacing_m
    places = (
        [(-s, 0.0), (0.0, 0.0), (s, 0.0)]
        if g.formation == "flat"
        else [(-s / 2, 0.0), (s / 2, 0.0), (0.0, s * sqrt(3) / 2)]
    )
    r = at_temperature(g.r20_ohm_per_km or 0.0, g.material, g.temperature_c)
    gmr, radius = (g.gmr_mm or 1.0) / 1e3, (g.diameter_mm or 1.0) / 2e3
    wires = [Wire(n, x, y, r, gmr, radius) for n, (x, y) in zip("ABC", places, strict=True) if n in phases]
    if g.screen == "none":
        return wires, len(wires)
    # A screen is a tube: its mean radius is its distance from its own conductor, and its geometric mean radius.
    if g.screen == "tape":
        mean = (g.screen_over_mm - g.tape_mm) / 2e3
        area = pi * 2 * mean * 1e3 * g.tape_mm
        screen_r = g.screen_r_ohm_per_km or _COPPER_OHM_MM2_PER_KM / area
        screen_gmr = mean
    else:
        mean = (g.screen_over_mm - g.screen_wire_mm) / 2e3
        one = g.screen_r_ohm_per_km or _COPPER_OHM_MM2_PER_KM / (pi * g.screen_wire_mm**2 / 4)
        screen_r = one / g.screen_wires
        own = 0.7788 * g.screen_wire_mm / 2e3
        screen_gmr = float((own * g.screen_wires * mean ** (g.screen_wires - 1)) ** (1 / g.screen_wires))
    wires += [Wire(f"S{w.name}", w.x, w.y, screen_r, screen_gmr, mean) for w in wires]
    return wires, len(phases)


def _cable_capacitance(g: LineGeometry) -> float:
    """Capacitance of one core to its screen, F/km: 2π ε0 εr over ln(outer/inner radius of the insulation)."""
    inner = (g.diameter_mm or 1.0) / 2
    return 2 * pi * _EPS0_F_PER_KM * g.permittivity / log((inner + g.insulation_mm) / inner)
