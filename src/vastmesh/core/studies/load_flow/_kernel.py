"""Compiled kernels of the Newton load flow in polar form.

Unknowns per node, interleaved: angle, and the logarithm of the voltage magnitude (so that a
column of the Jacobian needs no division). Source: Tinney and Hart, "Power flow solution by
Newton's method", IEEE Trans. PAS-86, 1967; the logarithmic form scales its |V| columns.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

PQ, PV, REF = 0, 1, 2
_F = NDArray[np.float64]
_I = NDArray[np.int64]


def jacobian_pattern(indptr: _I, indices: _I) -> tuple[_I, _I]:
    """Pattern of the (2n, 2n) Jacobian, compressed columns, from that of the (n, n) nodal matrix.

    Every node keeps both its rows and columns whatever its type, so that one symbolic analysis
    serves all switching between voltage control and fixed reactive power.
    """
    counts = np.diff(indptr)
    columns = np.repeat(2 * counts, 2)
    ptr = np.concatenate([[0], np.cumsum(columns)])
    rows: _I = np.empty(4 * len(indices), np.int64)
    starts = np.repeat(4 * indptr[:-1], counts)
    within = 2 * (np.arange(len(indices)) - np.repeat(indptr[:-1], counts))
    for shift in (0, 1):
        offset = starts + within + shift * np.repeat(2 * counts, counts)
        rows[offset], rows[offset + 1] = 2 * indices, 2 * indices + 1
    return ptr, rows


@njit(cache=True)
def mismatch_and_jacobian(
    indptr: Any, indices: Any, g: Any, b: Any, theta: Any, v: Any, p0: Any, q0: Any, p1: Any, q1: Any, p2: Any,
    q2: Any, node_type: Any, f: Any, jac: Any, p: Any, q: Any,
) -> float:  # fmt: skip
    """Fill mismatch ``f`` (2n,) and Jacobian values ``jac`` (4 nnz,); return the largest mismatch
    of apparent power at any node.

    ``g``, ``b``: nodal admittance values (nnz,). Net injection wanted at a node of voltage V:
    p0 + p1 V + p2 V², likewise q. ``p``, ``q`` (n,) receive the injections that the voltages imply.
    Rows that do not apply (both of a reference node, the reactive one of a voltage-controlled
    node) become identity with zero mismatch. All per unit, angles in rad.
    """
    n = len(indptr) - 1
    e = v * np.cos(theta)
    h = v * np.sin(theta)
    p[:] = 0.0
    q[:] = 0.0
    for j in range(n):
        first = indptr[j]
        count = indptr[j + 1] - first
        a0 = 4 * first
        v0 = a0 + 2 * count
        for k in range(count):
            i = indices[first + k]
            gij, bij = g[first + k], b[first + k]
            # t = V_i * conj(Y_ij V_j)
            cr = gij * e[j] - bij * h[j]
            ci = gij * h[j] + bij * e[j]
            tr = e[i] * cr + h[i] * ci
            ti = h[i] * cr - e[i] * ci
            p[i] += tr
            q[i] += ti
            at = 2 * k
            if node_type[i] == REF:
                jac[a0 + at] = jac[a0 + at + 1] = jac[v0 + at] = jac[v0 + at + 1] = 0.0
            else:
                jac[a0 + at] = ti
                jac[v0 + at] = tr
                if node_type[i] == PQ:
                    jac[a0 + at + 1] = -tr
                    jac[v0 + at + 1] = ti
                else:
                    jac[a0 + at + 1] = jac[v0 + at + 1] = 0.0
    worst = 0.0
    for j in range(n):
        first = indptr[j]
        count = indptr[j + 1] - first
        k = 0
        while indices[first + k] != j:
            k += 1
        at_angle = 4 * first + 2 * k
        at_volt = at_angle + 2 * count
        kind = node_type[j]
        if kind == REF:
            jac[at_angle] = jac[at_volt + 1] = 1.0
            f[2 * j] = f[2 * j + 1] = 0.0
            continue
        vj = v[j]
        f[2 * j] = p[j] - (p0[j] + p1[j] * vj + p2[j] * vj * vj)
        jac[at_angle] -= q[j]
        jac[at_volt] += p[j] - p1[j] * vj - 2 * p2[j] * vj * vj
        if kind == PV:
            jac[at_volt + 1] = 1.0
            f[2 * j + 1] = 0.0
            worst = max(worst, abs(f[2 * j]))
        else:
            f[2 * j + 1] = q[j] - (q0[j] + q1[j] * vj + q2[j] * vj * vj)
            jac[at_angle + 1] += p[j]
            jac[at_volt + 1] += q[j] - q1[j] * vj - 2 * q2[j] * vj * vj
            worst = max(worst, np.hypot(f[2 * j], f[2 * j + 1]))
    return worst


@njit(cache=True)
def take_step(theta: Any, v: Any, step: Any, share: float) -> None:
    """Move angles and voltages by a share of the Newton step, in place."""
    for j in range(len(v)):
        theta[j] += share * step[2 * j]
        # A logarithmic step: exact to first order, and a voltage can't turn negative.
        v[j] *= np.exp(min(max(share * step[2 * j + 1], -1.0), 1.0))


@njit(cache=True)
def spread_angles(indptr: Any, indices: Any, lead: Any, node_type: Any, angle: Any) -> None:
    """Give every node the angle it has at no load, walking outwards from the reference nodes.

    ``lead`` (nnz,): angle by which the node of the row leads the node of the column, through the
    transformer between them. ``angle`` (n,): in, the angles of reference nodes; out, of all.
    """
    n = len(indptr) - 1
    seen = np.zeros(n, np.bool_)
    queue = np.empty(n, np.int64)
    tail = 0
    for i in range(n):
        if node_type[i] == REF:
            seen[i] = True
            queue[tail] = i
            tail += 1
    head = 0
    while head < tail:
        j = queue[head]
        head += 1
        for at in range(indptr[j], indptr[j + 1]):
            i = indices[at]
            if not seen[i]:
                seen[i] = True
                angle[i] = angle[j] + lead[at]
                queue[tail] = i
                tail += 1
