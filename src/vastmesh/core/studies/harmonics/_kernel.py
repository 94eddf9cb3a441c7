"""Compiled: the nodal admittance matrix at an order, in one pass over branches, shunts and what stands to earth."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from ...catalogue import circuit_impedance

_circuit: Any = njit(cache=True, nogil=True)(circuit_impedance)

PARALLEL, SERIES, MOTOR_SHARE = 0, 1, 2


@njit(cache=True, nogil=True)
def assemble(
    order: float, r: Any, x: Any, which: Any, skin: Any, shunt_from: Any, shunt_to: Any, long: Any, ff: Any, ft: Any, tt: Any,
    turn: Any, slots: Any, shunt: Any, earth_slot: Any, earth_r: Any, earth_x: Any, earth_k: Any, earth_c: Any, load_slot: Any,
    load_y: Any, form: int, filter_slot: Any, filters: Any, out: Any,
) -> None:  # fmt: skip
    """Fill ``out`` (nnz,) with the matrix at an order.

    Branches (n,) of the live part: ``r``, ``x`` at order 1; ``skin[which]``: how many times its resistance each has at this
    order; complex ``shunt_from``, ``shunt_to``; ``long``: by the equations of a long line; ``ff``, ``ft``, ``tt``: 1 over the
    products of its ratios; ``turn``: exp(j shift) of the sequence. ``slots``: (4 n + n_shunt,) as of the nodal pattern.
    ``load_y``: conj(S)/V² at order 1, in a ``form``. ``filters``: circuits of what is in service, per unit, (n, 9).
    """
    out[:] = 0
    n = len(r)
    for k in range(n):
        z = complex(r[k] * skin[which[k]], x[k] * order)
        yf, yt = scaled(shunt_from[k], order), scaled(shunt_to[k], order)
        both = yf + yt
        if long[k] and (both.real != 0 or both.imag != 0):
            s = z * both
            if abs(s.real) + abs(s.imag) < 1e-2:  # short for the wave: the series, good to 1e-12 and ten times as fast
                z = z * (1 + s * (1 / 6) * (1 + s * (1 / 20) * (1 + s * (1 / 42))))
                half = 1 - s * (1 / 12) * (1 - s * (1 / 10) * (1 - s * (17 / 168)))
            else:
                t = np.sqrt(s)
                z = z * np.sinh(t) / t
                half = np.tanh(t / 2) / (t / 2)
            yf, yt = yf * half, yt * half
        size = 1 / (z.real * z.real + z.imag * z.imag)
        y = complex(z.real * size, -z.imag * size)
        out[slots[k]] += (y + yf) * ff[k]
        across = y * ft[k]
        out[slots[n + k]] -= across * turn[k]
        out[slots[2 * n + k]] -= across * turn[k].conjugate()
        out[slots[3 * n + k]] += (y + yt) * tt[k]
    for k in range(len(shunt)):
        out[slots[4 * n + k]] += scaled(shunt[k], order)
    for k in range(len(earth_slot)):
        out[earth_slot[k]] += 1 / complex(earth_r[k] * order ** earth_k[k], order * earth_x[k] - earth_c[k] / order)
    for k in range(len(load_slot)):
        out[load_slot[k]] += demand(load_y[k], order, form)
    for k in range(len(filter_slot)):
        c = filters[k]
        out[filter_slot[k]] += 1 / _circuit(order, c[0], c[1], c[2], c[3], c[4], c[5], c[6], c[7], c[8])


@njit(cache=True, nogil=True)
def demands(y: Any, order: float, form: int) -> Any:
    """Admittances of demand at an order, from those at order 1, (n,)."""
    found = np.empty(len(y), np.complex128)
    for k in range(len(y)):
        found[k] = demand(y[k], order, form)
    return found


@njit(cache=True, nogil=True)
def scaled(y: complex, order: float) -> complex:
    """A shunt admittance at an order: capacitive susceptance times it, inductive over it."""
    return complex(y.real, y.imag * order if y.imag > 0 else y.imag / order)


@njit(cache=True, nogil=True)
def demand(y: complex, order: float, form: int) -> complex:
    """Admittance of demand at an order from conj(S)/V² at the network's frequency."""
    if form == PARALLEL:
        return scaled(y, order)
    if form == SERIES:
        z = 1 / y
        return 1 / complex(z.real, z.imag * order if z.imag > 0 else z.imag / order)
    r = 1 / y.real
    found = 1 / complex(r, 0.073 * order * r)
    motors = 6.7 * (-y.imag) / y.real - 0.74
    if motors > 1e-3:
        found += motors / complex(0.0, order * r)
    return found
