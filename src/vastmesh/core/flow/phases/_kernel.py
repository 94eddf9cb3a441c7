"""Compiled loops of the load flow per phase: what would otherwise run over all entries for every few of them."""

from __future__ import annotations

from typing import Any

from numba import njit


@njit(cache=True, nogil=True)
def add_entries(values: Any, place: Any, slots: Any, alpha: Any, beta: Any) -> None:
    """Add entries whose current is α dV + β dV* to the real values of the Jacobian, in place.

    ``place`` (4, n_entry): places of the parts (re,re), (im,re), (re,im), (im,im) of each complex entry; ``slots`` (k,):
    entry of each α and β, -1 where it falls away.
    """
    for k in range(len(slots)):
        s = slots[k]
        if s < 0:
            continue
        total, differ = alpha[k] + beta[k], alpha[k] - beta[k]
        values[place[0, s]] += total.real
        values[place[1, s]] += total.imag
        values[place[2, s]] -= differ.imag
        values[place[3, s]] += differ.real


@njit(cache=True, nogil=True)
def add_demand(
    values: Any, place: Any, slots: Any, p: Any, q: Any, base_v: Any, u_scale: Any, alpha: Any, beta: Any
) -> None:
    """The same for demand between two nodes each, over (p, p), (p, q), (q, p), (q, q); ``slots`` (4, k).

    α and β are per unit of the demand's own nominal voltage ``u_scale``, V; ``p``, ``q``: rows, -1 for earth.
    """
    for k in range(len(alpha)):
        inverse = 1.0 / (u_scale[k] * u_scale[k])
        for part in range(4):
            s = slots[part, k]
            if s < 0:
                continue
            one = p[k] if part < 2 else q[k]
            other = p[k] if part == 0 or part == 2 else q[k]
            scale = base_v[one] * base_v[other] * inverse
            if part == 1 or part == 2:
                scale = -scale
            total, differ = (alpha[k] + beta[k]) * scale, (alpha[k] - beta[k]) * scale
            values[place[0, s]] += total.real
            values[place[1, s]] += total.imag
            values[place[2, s]] -= differ.imag
            values[place[3, s]] += differ.real


@njit(cache=True, nogil=True)
def draw(f: Any, p: Any, q: Any, base_v: Any, u_scale: Any, current: Any) -> None:
    """Take demand's currents from the first node of each to the second into account at the nodes, in place."""
    for k in range(len(current)):
        amount = current[k] / u_scale[k]
        if p[k] >= 0:
            f[p[k]] += amount * base_v[p[k]]
        if q[k] >= 0:
            f[q[k]] -= amount * base_v[q[k]]


@njit(cache=True, nogil=True)
def demand_currents(
    v: Any, p: Any, q: Any, base_v: Any, u_scale: Any, power: Any, current: Any, impedance: Any, low: float, i: Any, alpha: Any,
    beta: Any,
) -> None:  # fmt: skip
    """Current of each demand per unit of S_base / u0, and its derivatives by the voltage over it and its conjugate.

    ``power``, ``current``, ``impedance``: conjugate powers at nominal voltage; below ``low`` that of constant power goes
    with the voltage squared.
    """
    for k in range(len(p)):
        up = v[p[k]] * base_v[p[k]] if p[k] >= 0 else 0j
        uq = v[q[k]] * base_v[q[k]] if q[k] >= 0 else 0j
        u = (up - uq) / u_scale[k]
        size = max(abs(u), 1e-9)
        z, c, s = impedance[k], current[k], power[k]
        if size < low:
            z, s = z + s / low**2, 0j
        turn = u / size
        i[k] = z * u + c * turn + s * u / (size * size)
        alpha[k] = z + c / (2 * size)
        beta[k] = -(c * turn * turn / (2 * size) + s * (u / (size * size)) ** 2)
