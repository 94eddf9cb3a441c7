"""Series and shunt matrices of lines over the conductors they have, from whatever is known about them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from math import log, pi

import numpy as np

from ...network import Line, LineGeometry, LineMatrix
from ..arrays import Complexes, Floats
from ..line_constants import depth_of_return_m, earth_resistance_ohm_per_km, line_constants, order_for, picked
from ._builder import AtOrder

_SPACING_MM = {"cable": 25.0, "overhead": 400.0}
_EARTH_OHM_M = 100.0
APART_M = 6.0  # between two circuits on one tower, where nothing is entered


@dataclass(frozen=True)
class LineKey:
    """All that the constants of a line depend on: equal keys have equal matrices.

    ``sequence``: r, x, b, r0, x0, b0 per km (Ω, Ω, µS); ``own``: neutral resistance or None, spacing in mm.
    """

    conductors: str
    reduced: bool
    frequency_hz: float
    sequence: tuple[float, ...] = ()
    own: tuple[float | None, float] = (None, 400.0)
    matrix: str | None = None
    geometry: str | None = None

    @classmethod
    def of(cls, e: Line, conductors: str, frequency_hz: float, matrix: LineMatrix | None,
           geometry: LineGeometry | None) -> LineKey:  # fmt: skip
        if matrix is not None:
            return cls(conductors, e.neutral == "reduced", frequency_hz, matrix=matrix.model_dump_json())
        own = (e.neutral_r_ohm_per_km, e.spacing_mm or _SPACING_MM[e.construction])
        if (
            geometry is not None
            and e.r_ohm_per_km is None
            and e.x_ohm_per_km is None
            and ("N" not in conductors or geometry.neutral == "kept")
        ):
            return cls(conductors, e.neutral == "reduced", frequency_hz, geometry=geometry.model_dump_json())
        r, x, b = e.r_ohm_per_km, e.x_ohm_per_km, e.b_us_per_km
        if geometry is not None:
            found = line_constants(geometry, frequency_hz)
            r, x, b = (g if g is not None else c for g, c in zip((r, x, b), (found.z1.real, found.z1.imag, found.b1),
                                                                 strict=True))  # fmt: skip
            zero = (found.z0.real, found.z0.imag, found.b0)
        else:
            zero = e.zero_sequence()
        return cls(conductors, e.neutral == "reduced", frequency_hz, (r or 0.0, x or 0.0, b or 0.0, *zero), own)


@lru_cache(maxsize=4096)
def conductor_matrix(key: LineKey) -> tuple[Complexes, Floats]:
    """Series impedance (k, k) in Ω/km with earth return and shunt susceptance (k, k) in µS/km over the conductors kept.

    A reduced neutral is not among them. Sources in this order: a matrix as given; a geometry (Carson); phase and
    neutral data per km with the coupling of conductors at their mean spacing; sequence data, of which own and
    mutual impedance are (z0 + 2 z1) / 3 and (z0 − z1) / 3.
    """
    kept = key.conductors.replace("N", "") if key.reduced else key.conductors
    if key.matrix is not None:
        given = LineMatrix.model_validate_json(key.matrix)
        z = np.array(given.z_ohm_per_km(), np.complex128)
        b = np.array(given.b_us() or np.zeros(z.shape), np.float64)
        return picked(z, b, order_for(given.order, key.conductors), kept, neutral_earthed=key.reduced)
    if key.geometry is not None:
        found = line_constants(LineGeometry.model_validate_json(key.geometry), key.frequency_hz, key.conductors)
        order = "".join(found.phases)
        return picked(found.z, found.y.imag * 1e6, order, kept, neutral_earthed=key.reduced)
    r, x, b1, r0, x0, b0 = key.sequence
    z1, z0 = complex(r, x), complex(r0, x0)
    k = len(kept)
    if "N" in kept:
        mutual = coupling_ohm_per_km(key.frequency_hz, key.own[1] / 1e3)
        z = np.full((k, k), mutual, np.complex128)
        neutral = key.own[0] if key.own[0] is not None else r
        own = [complex(neutral, x) if c == "N" else z1 for c in kept]
        z += np.diag(own)
    else:
        z = np.full((k, k), (z0 - z1) / 3) + np.eye(k) * z1
    phase = np.array([c != "N" for c in kept])
    b = np.where(np.outer(phase, phase), np.full((k, k), (b0 - b1) / 3) + np.eye(k) * b1, 0.0)
    return z, b


def conductor_matrix_beyond(key: LineKey, beyond: AtOrder, more: float) -> tuple[Complexes, Floats]:
    """The same at another frequency: own resistances are ``more`` times as large, the one they share (earth) with the order,
    reactances with it too. Of a geometry, where that is asked for, by Carson's equations at that frequency."""
    h = beyond.order
    if key.geometry is not None and beyond.lines == "geometry":
        z, b = conductor_matrix(replace(key, frequency_hz=key.frequency_hz * h))
        own = own_resistance(conductor_matrix(key)[0])
        return z + np.diag(own * (more - 1)), b
    z, b = conductor_matrix(key)
    own = own_resistance(z)
    shared = z.real - np.diag(own)
    return shared * h + np.diag(own * more) + 1j * z.imag * h, b * h


def coupling_ohm_per_km(frequency_hz: float, spacing_m: float) -> complex:
    """Mutual impedance with earth return of two conductors: π² f 10⁻⁴ + jω 2·10⁻⁴ ln(D_e / D), soil of 100 Ω·m."""
    depth = depth_of_return_m(frequency_hz, _EARTH_OHM_M)
    return complex(earth_resistance_ohm_per_km(frequency_hz), 2 * pi * frequency_hz * 2e-4 * log(depth / spacing_m))


def mutual_ohm_per_km(e: Line, frequency_hz: float) -> complex:
    """Between any conductor of a line and any of the line beside it, Ω/km: a third of the zero-sequence one that is entered;
    what is not follows from the distance of the circuits, with earth return."""
    z = coupling_ohm_per_km(frequency_hz, e.beside_m or APART_M)
    r0, x0 = e.beside_r0_ohm_per_km, e.beside_x0_ohm_per_km
    return complex(z.real if r0 is None else r0 / 3, z.imag if x0 is None else x0 / 3)


def own_resistance(z: Complexes) -> Floats:
    """Resistance that belongs to each conductor alone: what its own term has beyond the mean of the mutual ones."""
    k = len(z)
    if k == 1:
        return np.asarray([max(z[0, 0].real, 0.0)])
    shared = (z.real.sum() - np.trace(z.real)) / (k * (k - 1))
    return np.asarray(np.diag(z).real - shared)


def long_line(z: Complexes, y: Complexes) -> Complexes:
    """Two-port admittances (n, 2k, 2k), S, of n lines by the exact equations of a long line of k conductors, from series
    impedances and shunt admittances of their whole length, (n, k, k)."""
    k = z.shape[1]
    chain = _long_chain(z, y)
    return two_port(chain[:, :k, :k], chain[:, :k, k:], chain[:, k:, :k], chain[:, k:, k:])


def _long_chain(z: Complexes, y: Complexes) -> Complexes:
    """Their chain matrices (n, 2k, 2k), exp [[0, z], [y, 0]]."""
    n, k, _ = z.shape
    sizes = [np.abs(m).max(axis=(1, 2), initial=0.0) for m in (z, y)]
    with np.errstate(divide="ignore", invalid="ignore"):
        scale = np.where(sizes[1] > 0, np.sqrt(sizes[1] / sizes[0]), 1.0)[
            :, None, None
        ]  # so that both are alike in size
    whole = np.zeros((n, 2 * k, 2 * k), np.complex128)
    whole[:, :k, k:], whole[:, k:, :k] = z * scale, y / scale
    chain = _exponential(whole)
    chain[:, :k, k:] /= scale
    chain[:, k:, :k] *= scale
    return chain


def _short_chain(z: Complexes, y: Complexes) -> Complexes:
    """Chain matrices (n, 2k, 2k) of nominal pi sections."""
    eye = np.eye(z.shape[1])
    rows = ((eye + z @ y / 2, z), (y + y @ z @ y / 4, eye + y @ z / 2))
    return np.asarray(np.concatenate([np.concatenate(r, axis=-1) for r in rows], axis=-2))


def _exponential(a: Complexes) -> Complexes:
    """exp of many small matrices, (n, k, k), by its series: halved until that converges at once, then squared as often."""
    halvings = max(0, int(np.ceil(np.log2(max(np.abs(a).sum(axis=2).max(initial=0.0), 1e-30) / 0.25))))
    a = a / 2**halvings
    term = found = np.broadcast_to(np.eye(a.shape[1], dtype=np.complex128), a.shape)
    for n in range(1, 14):
        term = term @ a / n
        found = found + term
    for _ in range(halvings):
        found = found @ found
    return np.asarray(found)


def two_port(a: Complexes, b: Complexes, c: Complexes, d: Complexes) -> Complexes:
    """Admittances of a two-port from its chain matrices, of one or of many at once."""
    inverse = np.linalg.inv(b)
    rows = (d @ inverse, c - d @ inverse @ a), (-inverse, inverse @ a)
    return np.asarray(np.concatenate([np.concatenate(r, axis=-1) for r in rows], axis=-2))


def earthed_along(
    z: Complexes, y: Complexes, neutral: int, length_km: float, every_km: float, ohm: float, *, long: bool
) -> Complexes:
    """Two-port admittance (2k, 2k), S, of a line whose neutral has electrodes at equal distances along the route, from its series
    impedance and shunt admittance by length, (k, k), Ω/km and S/km.

    Sections with their charging, each a nominal pi or, ``long``, a long line, and an electrode between each two: their chain
    matrices multiply. Distances count from the from end; the last section is what is left, and the ends have no electrode.
    """
    k = len(z)
    electrodes = max(int(np.ceil(length_km / every_km - 1e-9)) - 1, 0)
    lengths = np.array([every_km, length_km - electrodes * every_km])[:, None, None]
    section, last = (_long_chain if long else _short_chain)(z * lengths, y * lengths)
    shunt = np.eye(2 * k, dtype=np.complex128)
    shunt[k + neutral, neutral] = 1 / ohm
    chain = np.linalg.matrix_power(section @ shunt, electrodes) @ last
    return two_port(chain[:k, :k], chain[:k, k:], chain[k:, :k], chain[k:, k:])
