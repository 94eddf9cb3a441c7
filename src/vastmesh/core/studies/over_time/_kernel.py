"""What a solved step comes to, in one pass over its branches and buses."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from ...flow.balanced import rectangular


@njit(cache=True, nogil=True)
def at_buses(theta: Any, v: Any, row: Any, e: Any, h: Any, volts: Any) -> None:
    """Node voltages brought onto buses: parts and size into ``e``, ``h``, ``volts`` (n_bus,), zero where dead, ``row`` -1."""
    real, imaginary = np.empty(len(v)), np.empty(len(v))
    rectangular(v, theta, real, imaginary)
    for i in range(len(row)):
        j = row[i]
        e[i], h[i], volts[i] = (real[j], imaginary[j], v[j]) if j >= 0 else (0.0, 0.0, 0.0)


@njit(cache=True, nogil=True)
def branch_figures(
    e: Any, h: Any, frm: Any, to: Any, ff: Any, ft: Any, tf: Any, tt: Any, most_from: Any, most_to: Any, base: float, used: Any,
    size: Any, lost: Any,
) -> None:  # fmt: skip
    """Of every branch at bus voltages e + jh (n_bus,), zero where dead: current over what is allowed, apparent power at the end
    that has more, MVA, and losses, MW, into ``used``, ``size``, ``lost`` (n_branch,). ``ff`` to ``tt``: the two-ports."""
    for k in range(len(frm)):
        vf, vt = complex(e[frm[k]], h[frm[k]]), complex(e[to[k]], h[to[k]])
        i_f, i_t = ff[k] * vf + ft[k] * vt, tf[k] * vf + tt[k] * vt
        s_f, s_t = vf * i_f.conjugate(), vt * i_t.conjugate()
        one, other = i_f.real**2 + i_f.imag**2, i_t.real**2 + i_t.imag**2
        used[k] = np.sqrt(max(one / (most_from[k] * most_from[k]), other / (most_to[k] * most_to[k])))
        size[k] = np.sqrt(max(s_f.real**2 + s_f.imag**2, s_t.real**2 + s_t.imag**2)) * base
        lost[k] = (s_f.real + s_t.real) * base


@njit(cache=True, nogil=True)
def drawn(p: Any, share_i: Any, share_z: Any, bus: Any, volts: Any, low: float) -> float:
    """Active power of all loads at bus voltages ``volts``, zero where dead, p.u.; below ``low`` that of constant power eases."""
    total = 0.0
    for k in range(len(p)):
        v = volts[bus[k]]
        if v > 0.0:
            constant = 1.0 - share_i[k] - share_z[k]
            if low > 0.0 and v < low:
                constant *= (v / low) ** 2
            total += p[k] * (constant + share_i[k] * v + share_z[k] * v * v)
    return total


@njit(cache=True, nogil=True)
def take_down(
    n: int, hours: float, used: Any, size: Any, lost: Any, low: Any, high: Any, in_view: Any, least: Any, most: Any, peak: Any,
    peak_at: Any, over: Any, beyond: Any, lost_mwh: Any, lowest: Any, lowest_at: Any, highest: Any, highest_at: Any, outside: Any,
    told: Any,
) -> None:  # fmt: skip
    """Add step ``n`` to what is kept of all, (n_branch,) and (n_bus,), and what it comes to as a whole to ``told`` (9,):
    losses, largest use and where, lowest voltage and where, highest and where, furthest outside its band in per cent, places
    outside. ``least``, ``most``: the band of every bus."""
    losses, top, at, broken = 0.0, -1.0, -1, 0
    for k in range(len(used)):
        u = used[k]
        losses += lost[k]
        lost_mwh[k] += lost[k] * hours
        if u > peak[k]:
            peak[k], peak_at[k] = u, n
        if u > 1.0:
            over[k] += hours
            beyond[k] += size[k] * (1.0 - 1.0 / u) * hours
            broken += 1
        if u > top:
            top, at = u, k
    told[0], told[1], told[2] = losses, 100.0 * top if at >= 0 else np.nan, at
    deep, deep_at, tall, tall_at, out = np.inf, -1, -np.inf, -1, -np.inf
    for i in range(len(low)):
        if not in_view[i] or not np.isfinite(low[i]):
            continue
        if low[i] < lowest[i]:
            lowest[i], lowest_at[i] = low[i], n
        if high[i] > highest[i]:
            highest[i], highest_at[i] = high[i], n
        if low[i] < deep:
            deep, deep_at = low[i], i
        if high[i] > tall:
            tall, tall_at = high[i], i
        away = -np.inf
        below, above = least[i] / low[i] - 1.0, high[i] / most[i] - 1.0
        if below == below:  # a band may have one side only
            away = below
        if above == above and above > away:
            away = above
        out = max(out, away)
        if away > 1e-12:
            outside[i] += hours
            broken += 1
    told[8] = broken
    if deep_at >= 0:
        told[3], told[4], told[5], told[6] = deep, deep_at, tall, tall_at
        told[7] = 100.0 * out if out > -np.inf else np.nan
