"""Compiled kernels of the Newton load flow in polar form.

Unknowns per node, interleaved: angle, and the logarithm of the voltage magnitude (so that a
column of the Jacobian needs no division). Matrices are kept by rows. Source: Tinney and Hart, "Power flow solution by
Newton's method", IEEE Trans. PAS-86, 1967; the logarithmic form scales its |V| columns.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

PQ, PV, REF = 0, 1, 2
ROUNDING = 1e-14  # what it leaves of a sum, as a share of its largest terms
_F = NDArray[np.float64]
_I = NDArray[np.int64]


# Minimax polynomials of sine and cosine on [-π/4, π/4] and π/2 in two parts (Cody and Waite reduction),
# as in the freely distributable C mathematics library of Sun Microsystems, 1993.
_S = (-1.66666666666666324348e-01, 8.33333333332248946124e-03, -1.98412698298579493134e-04,
      2.75573137070700676789e-06, -2.50507602534068634195e-08, 1.58969099521155010221e-10)  # fmt: skip
_C = (4.16666666666666019037e-02, -1.38888888888741095749e-03, 2.48015872894767294178e-05,
      -2.75573143513906633035e-07, 2.08757232129817482790e-09, -1.13596475577881948265e-11)  # fmt: skip
_HALF_PI, _HALF_PI_REST = 1.57079632673412561417e00, 6.07710050650619224932e-11


@njit(cache=True, nogil=True)
def rectangular(v: Any, theta: Any, e: Any, h: Any) -> None:
    """Voltage parts e = v cos θ, h = v sin θ, (n,), to a few units in the last place for |θ| < 1e5 rad.

    Free of branches and calls, so that it compiles to vector instructions: ten times as fast as
    the library's functions one by one, which took half of a Newton evaluation.
    """
    for j in range(len(v)):
        turns = np.floor(theta[j] / _HALF_PI + 0.5)
        r = (theta[j] - turns * _HALF_PI) - turns * _HALF_PI_REST
        z = r * r
        s = r + r * z * (_S[0] + z * (_S[1] + z * (_S[2] + z * (_S[3] + z * (_S[4] + z * _S[5])))))
        c = 1.0 - 0.5 * z + z * z * (_C[0] + z * (_C[1] + z * (_C[2] + z * (_C[3] + z * (_C[4] + z * _C[5])))))
        quarter = turns - 4.0 * np.floor(turns * 0.25)
        odd = quarter - 2.0 * np.floor(quarter * 0.5)
        sine, cosine = c * odd + s * (1.0 - odd), s * odd + c * (1.0 - odd)
        e[j] = v[j] * cosine * (1.0 if quarter == 0.0 or quarter == 3.0 else -1.0)
        h[j] = v[j] * sine * (1.0 if quarter < 2.0 else -1.0)


@njit(cache=True, nogil=True, fastmath={"contract", "nsz", "arcp"})
def mismatch_and_jacobian(
    indptr: Any, indices: Any, diagonal: Any, g: Any, b: Any, theta: Any, v: Any, p0: Any, q0: Any, p1: Any, q1: Any, p2: Any,
    q2: Any, node_type: Any, f: Any, jac: Any, p: Any, q: Any,
) -> float:  # fmt: skip
    """Fill mismatch ``f`` (2n,) and Jacobian values ``jac`` (4 nnz,); return the largest mismatch
    of apparent power at any node.

    ``g``, ``b``: nodal admittance values by rows (nnz,); ``diagonal``: place of each diagonal entry in them (n,). The
    Jacobian is given by rows too, two for each node: what a node injects is one sum over its own entries, and rows that
    do not apply are its own. Index arrays are unsigned, which spares a check at every access.
    Net injection wanted at a node of voltage V: p0 + p1 V + p2 V², likewise q. ``p``, ``q`` (n,) receive
    the injections that the voltages imply.
    Rows that do not apply (both of a reference node, the reactive one of a voltage-controlled
    node) become identity with zero mismatch. All per unit, angles in rad.
    """
    n = len(indptr) - 1
    e, h = np.empty(n), np.empty(n)
    rectangular(v, theta, e, h)
    worst = 0.0
    for j in range(n):
        first = indptr[j]
        count = indptr[j + 1] - first
        at = 4 * first
        to_q = 2 * count
        ej, hj = e[j], h[j]
        pj = qj = 0.0
        for k in range(first, first + count):
            i = indices[k]
            # t = V_j * conj(Y_ji V_i)
            cr = g[k] * e[i] - b[k] * h[i]
            ci = g[k] * h[i] + b[k] * e[i]
            tr = ej * cr + hj * ci
            ti = hj * cr - ej * ci
            pj += tr
            qj += ti
            jac[at] = ti
            jac[at + 1] = tr
            jac[at + to_q] = -tr
            jac[at + to_q + 1] = ti
            at += 2
        p[j], q[j] = pj, qj
        own_p = 2 * (first + diagonal[j])
        own_q = own_p + to_q
        kind = node_type[j]
        vj = v[j]
        fp = pj - (p0[j] + p1[j] * vj + p2[j] * vj * vj)
        fq = qj - (q0[j] + q1[j] * vj + q2[j] * vj * vj)
        if kind == PQ:
            jac[own_p] -= qj
            jac[own_p + 1] += pj - p1[j] * vj - 2 * p2[j] * vj * vj
            jac[own_q] += pj
            jac[own_q + 1] += qj - q1[j] * vj - 2 * q2[j] * vj * vj
        else:
            if kind == REF:
                for k in range(4 * first, 4 * first + to_q):
                    jac[k] = 0.0
                jac[own_p] = 1.0
                fp = 0.0
            else:
                jac[own_p] -= qj
                jac[own_p + 1] += pj - p1[j] * vj - 2 * p2[j] * vj * vj
            for k in range(4 * first + to_q, 4 * first + 2 * to_q):
                jac[k] = 0.0
            jac[own_q + 1] = 1.0
            fq = 0.0
        f[2 * j], f[2 * j + 1] = fp, fq
        worst = max(worst, fp * fp + fq * fq)
    return float(np.sqrt(worst))


@njit(cache=True, nogil=True, fastmath={"contract", "nsz", "arcp"})
def mismatch(
    indptr: Any, indices: Any, g: Any, b: Any, theta: Any, v: Any, p0: Any, q0: Any, p1: Any, q1: Any, p2: Any, q2: Any,
    node_type: Any, f: Any, p: Any, q: Any,
) -> float:  # fmt: skip
    """:func:`mismatch_and_jacobian` without the Jacobian: for a state that is likely to be the answer."""
    n = len(indptr) - 1
    e, h = np.empty(n), np.empty(n)
    rectangular(v, theta, e, h)
    worst = 0.0
    for j in range(n):
        cr = ci = 0.0
        for k in range(indptr[j], indptr[j + 1]):
            i = indices[k]
            cr += g[k] * e[i] - b[k] * h[i]
            ci += g[k] * h[i] + b[k] * e[i]
        pj, qj = e[j] * cr + h[j] * ci, h[j] * cr - e[j] * ci
        p[j], q[j] = pj, qj
        kind = node_type[j]
        vj = v[j]
        fp = 0.0 if kind == REF else pj - (p0[j] + p1[j] * vj + p2[j] * vj * vj)
        fq = qj - (q0[j] + q1[j] * vj + q2[j] * vj * vj) if kind == PQ else 0.0
        f[2 * j], f[2 * j + 1] = fp, fq
        worst = max(worst, fp * fp + fq * fq)
    return float(np.sqrt(worst))


@njit(cache=True, nogil=True)
def hold(node_type: Any, voltage: Any, v: Any) -> None:
    """Put voltages that are held at what is wanted, in place."""
    for i in range(len(v)):
        if node_type[i] != PQ:
            v[i] = voltage[i]


@njit(cache=True, nogil=True)
def same_references(node_type: Any, angle: Any, reference: Any, angles: Any) -> bool:
    """Whether the reference nodes and their angles are these."""
    found = 0
    for i in range(len(node_type)):
        if node_type[i] == REF:
            if found == len(reference) or reference[found] != i or angles[found] != angle[i]:
                return False
            found += 1
    return found == len(reference)


@njit(cache=True, nogil=True)
def largest_power(p0: Any, q0: Any, p1: Any, q1: Any, p2: Any, q2: Any) -> float:
    """The largest power that any node shall inject, p.u."""
    most = 0.0
    for i in range(len(p0)):
        most = max(most, abs(p0[i]) + abs(p1[i]) + abs(p2[i]), abs(q0[i]) + abs(q1[i]) + abs(q2[i]))
    return most


@njit(cache=True, nogil=True)
def switch_types(
    v: Any, q: Any, held: Any, wanted_q0: Any, q1: Any, q2: Any, q_low: Any, q_high: Any, voltage: Any, stiffness: Any,
    node_type: Any, q0: Any, at_limit: Any, returns: Any, q_slack: float, one: bool,
) -> int:  # fmt: skip
    """Let machines go that are past a reactive limit, take back those that should hold again; how many.

    The conditions: within the range at the set-point; at the upper limit with the voltage at or below it; at the lower
    one with the voltage at or above it. None switched means that all of them hold.
    ``held``: nodes with machines that hold a voltage. ``at_limit``: 1 upper, -1 lower, 0 free; with ``node_type``, ``q0``,
    ``returns`` and the voltages of nodes taken back it is altered in place. ``one``: only the worst of them, reactive power
    and voltage compared by ``stiffness``, the reactive power that a node's voltage draws from its neighbours, p.u.
    """
    count, worst, chosen, chosen_side = 0, 0.0, -1, 0
    for i in held:
        side, excess = 0, 0.0
        if node_type[i] == PV:
            needed = q[i] - (wanted_q0[i] + q1[i] * v[i] + q2[i] * v[i] * v[i])
            if needed > q_high[i] + q_slack:
                side, excess = 1, needed - q_high[i]
            elif needed < q_low[i] - q_slack:
                side, excess = -1, q_low[i] - needed
            else:
                continue
        else:
            off = at_limit[i] * (v[i] - voltage[i])
            if off <= 1e-9:
                continue
            excess = off * stiffness[i]
        if one:
            if excess > worst:
                worst, chosen, chosen_side = excess, i, side
            continue
        _switch(i, side, wanted_q0, q_low, q_high, voltage, v, node_type, q0, at_limit, returns)
        count += 1
    if chosen >= 0:
        _switch(chosen, chosen_side, wanted_q0, q_low, q_high, voltage, v, node_type, q0, at_limit, returns)
        count = 1
    return count


@njit(cache=True, inline="always")
def _switch(
    i: int, side: int, wanted_q0: Any, q_low: Any, q_high: Any, voltage: Any, v: Any, node_type: Any, q0: Any, at_limit: Any,
    returns: Any,
) -> None:  # fmt: skip
    at_limit[i] = side
    if side:
        node_type[i] = PQ
        q0[i] = wanted_q0[i] + (q_high[i] if side > 0 else q_low[i])
    else:
        node_type[i] = PV
        q0[i] = wanted_q0[i]
        v[i] = voltage[i]
        returns[i] += 1


@njit(cache=True, nogil=True)
def natural_types(
    v: Any, q: Any, held: Any, wanted_q0: Any, q1: Any, q2: Any, q_low: Any, q_high: Any, voltage: Any, stiffness: Any,
    node_type: Any, q0: Any, at_limit: Any,
) -> None:  # fmt: skip
    """Which row counts for every machine at some voltages: what it delivers less what its voltage lacks, held against
    its range. In place on ``node_type``, ``q0``, ``at_limit``."""
    for i in held:
        needed = q[i] - (wanted_q0[i] + q1[i] * v[i] + q2[i] * v[i] * v[i])
        tried = needed - stiffness[i] * np.log(v[i] / voltage[i])
        side = 1 if tried > q_high[i] else -1 if tried < q_low[i] else 0
        at_limit[i] = side
        node_type[i] = PQ if side else PV
        q0[i] = wanted_q0[i] + (q_high[i] if side > 0 else q_low[i] if side < 0 else 0.0)


@njit(cache=True, nogil=True)
def flow_at_nodes(frm: Any, to: Any, branches: Any, ports: Any, v: Any, theta: Any, g: Any, b: Any, diagonal: Any, flow: Any,
                  rounding: Any) -> None:  # fmt: skip
    """What flows at every node, (n,): nearly the largest apparent power of any branch there; and what rounding leaves of it.

    ``frm``, ``to``: nodes of live branches, which are the columns ``branches`` of ``ports`` (4, n_branch). Rounding: a few
    units in the last place of the largest terms that cancel in the sum of a node's powers.
    """
    n = len(v)
    e, h = np.empty(n), np.empty(n)
    rectangular(v, theta, e, h)
    for i in range(n):
        at = diagonal[i]
        flow[i] = 0.0
        rounding[i] = ROUNDING * (abs(g[at]) + abs(b[at])) * v[i] * v[i]
    for k in range(len(frm)):
        i, j, m = frm[k], to[k], branches[k]
        own, other = ports[0, m], ports[1, m]
        cr = own.real * e[i] - own.imag * h[i] + other.real * e[j] - other.imag * h[j]
        ci = own.real * h[i] + own.imag * e[i] + other.real * h[j] + other.imag * e[j]
        out = abs(e[i] * cr + h[i] * ci) + abs(h[i] * cr - e[i] * ci)
        flow[i] = max(flow[i], out)
        flow[j] = max(flow[j], out)  # less the losses, which don't matter here


@njit(cache=True, nogil=True)
def lowest_share(v: Any, node_type: Any, usual: Any, voltage: Any) -> float:
    """The lowest voltage as a share of the usual one, which is the set-point where one is held."""
    low = np.inf
    for i in range(len(v)):
        low = min(low, v[i] / (usual[i] if node_type[i] == PQ else voltage[i]))
    return low


@njit(cache=True, nogil=True)
def widest_angle(theta: Any, usual: Any, frm: Any, to: Any) -> float:
    """The largest angle between the ends of a branch beyond what is usual there, rad, whole turns left out."""
    wide = 0.0
    for k in range(len(frm)):
        i, j = frm[k], to[k]
        turn = (theta[i] - usual[i]) - (theta[j] - usual[j])
        wide = max(wide, abs(turn - 2 * np.pi * np.round(turn / (2 * np.pi))))
    return wide


@njit(cache=True, nogil=True)
def surely_met(
    f: Any, node_type: Any, p: Any, q: Any, v: Any, stiffness: Any, indptr: Any, most: float, share: float
) -> bool:
    """Whether :func:`largest_excess` is below 1, seen from injections alone: of what a node takes in or gives some branch
    carries at least an equal part. False says nothing."""
    for i in range(len(v)):
        if node_type[i] == REF:
            continue
        size2 = f[2 * i] ** 2 + f[2 * i + 1] ** 2
        rounding = ROUNDING * stiffness[i] * v[i] * v[i]
        carried = share * max(abs(p[i]), abs(q[i])) / (indptr[i + 1] - indptr[i])
        allowed = max(min(carried, most), rounding)
        if size2 > allowed * allowed:
            return False
    return True


@njit(cache=True, nogil=True)
def same(a: Any, b: Any) -> bool:
    """Whether two arrays of one type and length hold the same; a loop, as compiled code has no generators."""
    for i in range(len(a)):  # noqa: SIM110
        if a[i] != b[i]:
            return False
    return True


@njit(cache=True, nogil=True)
def largest_excess(f: Any, node_type: Any, flow: Any, rounding: Any, most: float, share: float) -> tuple[float, int]:
    """Largest ratio of the mismatch of a node to what is allowed there (above 1: not met), and that node.

    Allowed is the ``share`` of what flows there and never above ``most``, but no less than rounding leaves.
    """
    worst, at = 0.0, 0
    for i in range(len(flow)):
        if node_type[i] == REF:
            continue
        allowed = max(min(share * flow[i], most), rounding[i], 1e-300)
        ratio2 = (f[2 * i] ** 2 + f[2 * i + 1] ** 2) / (allowed * allowed)
        if ratio2 > worst:
            worst, at = ratio2, i
    return float(np.sqrt(worst)), at


@njit(cache=True, nogil=True)
def ease_low_voltage(
    v: Any, low: float, constant_p: Any, constant_q: Any, eased: Any, p0: Any, q0: Any, q0_now: Any, p2: Any, q2: Any
) -> None:
    """Below ``low`` let constant-power demand follow the square of the voltage, above it be constant again; in place.

    The demand is continuous at ``low``. ``eased``: where that is so now, (n,).
    """
    for i in range(len(v)):
        if (v[i] < low) != eased[i]:
            sign = -1.0 if v[i] < low else 1.0
            eased[i] = not eased[i]
            p0[i] += sign * constant_p[i]
            q0[i] += sign * constant_q[i]
            q0_now[i] += sign * constant_q[i]
            p2[i] -= sign * constant_p[i] / low**2
            q2[i] -= sign * constant_q[i] / low**2


@njit(cache=True, nogil=True)
def gauss_seidel(
    indptr: Any, indices: Any, transposed: Any, diagonal: Any, g: Any, b: Any, e: Any, h: Any, p0: Any, q0: Any, p1: Any,
    q1: Any, p2: Any, q2: Any, node_type: Any, voltage: Any, faster: float, sweeps: int,
) -> None:  # fmt: skip
    """Sweeps of the Gauss-Seidel method over all nodes, on voltages e + jh (n,) in place.

    Node by node V = (S*/V* - sum of Y_ij V_j) / Y_ii, overrelaxed by ``faster``; where a voltage is held, its magnitude is
    kept and the reactive power is what the voltages imply. ``transposed``: place of entry (j, i) for each (i, j).
    Source: Stott, "Review of load-flow calculation methods", Proc. IEEE 62, 1974, section III.
    """
    n = len(indptr) - 1
    for _ in range(sweeps):
        for i in range(n):
            if node_type[i] == REF:
                continue
            re = im = 0.0
            for k in range(indptr[i], indptr[i + 1]):
                j = indices[k]
                if j != i:
                    at = transposed[k]
                    re += g[at] * e[j] - b[at] * h[j]
                    im += g[at] * h[j] + b[at] * e[j]
            at = diagonal[i]
            yii = complex(g[at], b[at])
            v = complex(e[i], h[i])
            size = abs(v)
            p = p0[i] + p1[i] * size + p2[i] * size * size
            if node_type[i] == PV:
                q = (v * (complex(re, im) + yii * v).conjugate()).imag
            else:
                q = q0[i] + q1[i] * size + q2[i] * size * size
            new = (complex(p, -q) / v.conjugate() - complex(re, im)) / yii
            if node_type[i] == PV:
                new *= voltage[i] / abs(new)
            else:
                new = v + faster * (new - v)
            e[i], h[i] = new.real, new.imag


@njit(cache=True, nogil=True)
def take_step(theta: Any, v: Any, step: Any, share: float) -> None:
    """Move angles and voltages by a share of the Newton step, in place."""
    for j in range(len(v)):
        theta[j] += share * step[2 * j]
        # exp(x) nearly, (1 + x/2) / (1 - x/2): exact to second order, and a voltage can't turn negative.
        half = 0.5 * min(max(share * step[2 * j + 1], -1.0), 1.0)
        v[j] *= (1.0 + half) / (1.0 - half)


@njit(cache=True, nogil=True)
def mismatch_of_several(
    indptr: Any, indices: Any, g: Any, b: Any, theta: Any, v: Any, net: Any, q0: Any, node_type: Any, active: Any, f: Any, p: Any,
    q: Any, worst: Any, met: Any, stiffness: Any, left: float, share: float, frm: Any, to: Any, branches: Any, ports: Any,
    own_g: Any, own_b: Any, diagonal: Any, flow: Any, rounding: Any,
) -> None:  # fmt: skip
    """:func:`mismatch` of the ``active`` rows of ``theta``, ``v`` (k, n), and which of them are met as :func:`surely_met` or,
    where that says nothing, :func:`largest_excess` tells. ``flow``, ``rounding``: room for what flows at nodes, (n,)."""
    for t in active:
        worst[t] = mismatch(
            indptr, indices, g, b, theta[t], v[t], net[t, 0], q0[t], net[t, 2], net[t, 3], net[t, 4], net[t, 5], node_type, f[t],
            p[t], q[t],
        )  # fmt: skip
        met[t] = worst[t] <= left and surely_met(f[t], node_type, p[t], q[t], v[t], stiffness, indptr, left, share)
        if worst[t] <= left and not met[t]:
            flow_at_nodes(frm, to, branches, ports, v[t], theta[t], own_g, own_b, diagonal, flow, rounding)
            met[t] = largest_excess(f[t], node_type, flow, rounding, left, share)[0] <= 1.0


@njit(cache=True, nogil=True)
def chord_steps(theta: Any, v: Any, steps: Any, active: Any) -> None:
    """:func:`take_step` of the ``active`` rows, (k, n), each by its row of ``steps`` (m, 2n)."""
    for k in range(len(active)):
        take_step(theta[active[k]], v[active[k]], steps[k], 1.0)


@njit(cache=True, nogil=True)
def holds_as_it_is(
    v: Any, q: Any, net: Any, held: Any, q_low: Any, q_high: Any, voltage: Any, node_type: Any, at_limit: Any, slack: float,
    usual: Any, lowest: float, low_voltage: float, met: Any,
) -> None:  # fmt: skip
    """Take back from ``met`` (k,) whose machines should switch, and whose voltages ask for a second look.

    Machines as in :func:`switch_types`; a voltage below ``lowest`` of the usual one may be the lower of two answers, and
    below ``low_voltage`` demand eases.
    """
    for t in range(len(met)):
        if not met[t]:
            continue
        for i in held:
            if node_type[i] == PV:
                needed = q[t, i] - (net[t, 1, i] + net[t, 3, i] * v[t, i] + net[t, 5, i] * v[t, i] * v[t, i])
                if needed > q_high[i] + slack or needed < q_low[i] - slack:
                    met[t] = False
            elif at_limit[i] * (v[t, i] - voltage[i]) > 1e-9:
                met[t] = False
        for i in range(v.shape[1]):
            share = v[t, i] / (usual[i] if node_type[i] == PQ else voltage[i])
            if share <= lowest or v[t, i] < low_voltage:
                met[t] = False


@njit(cache=True, nogil=True)
def spread(indptr: Any, indices: Any, lead: Any, lift: Any, node_type: Any, angle: Any, size: Any) -> None:
    """Give every node the angle and the size of voltage it has at no load, walking outwards from the reference nodes.

    ``lead``, ``lift`` (nnz,): angle by which the node of the row leads the node of the column, and ratio of their voltages,
    through the transformer between them. ``angle``, ``size`` (n,): in, those of reference nodes; out, of all.
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
                size[i] = size[j] * lift[at]
                queue[tail] = i
                tail += 1


@njit(cache=True, nogil=True)
def gather(
    row: Any, l_bus: Any, l_p: Any, l_q: Any, share_i: Any, share_z: Any, m_bus: Any, m_p: Any, m_q: Any, control: Any,
    wanted: Any, wanted_angle: Any, m_low: Any, m_high: Any, c_bus: Any, c_a: Any, c_b: Any, net: Any, node_type: Any,
    held: Any, clash: Any,
) -> None:  # fmt: skip
    """Loads, machines and curves onto nodes; ``row`` of a bus is -1 where dead.

    ``net`` (8, n): p0, q0, p1, q1, p2, q2 and, of p0 and q0, what is demand of constant power. ``held`` (4, n): voltage,
    angle, lowest and highest reactive power of what holds the voltage there. The first element in order rules, sources
    over machines; ``clash`` where another wants something else.
    """
    for k in range(len(l_bus)):
        i = row[l_bus[k]]
        if i >= 0:
            rest = 1.0 - share_i[k] - share_z[k]
            net[0, i] -= l_p[k] * rest
            net[1, i] -= l_q[k] * rest
            net[6, i] -= l_p[k] * rest
            net[7, i] -= l_q[k] * rest
            net[2, i] -= l_p[k] * share_i[k]
            net[3, i] -= l_q[k] * share_i[k]
            net[4, i] -= l_p[k] * share_z[k]
            net[5, i] -= l_q[k] * share_z[k]
    for k in range(len(c_bus)):
        i = row[c_bus[k]]
        if i >= 0:
            net[1, i] += c_a[k]
            net[3, i] += c_b[k]
    for k in range(len(m_bus)):
        i = row[m_bus[k]]
        if i < 0:
            continue
        net[0, i] += m_p[k]
        kind = control[k]
        if kind == 0:
            net[1, i] += m_q[k]
            continue
        if kind == 1:
            held[2, i] += m_low[k]
            held[3, i] += m_high[k]
        if kind > node_type[i]:
            if node_type[i] and abs(held[0, i] - wanted[k]) > 1e-9:
                clash[i] = True
            node_type[i] = kind
            held[0, i] = wanted[k]
            held[1, i] = wanted_angle[k]
        elif abs(held[0, i] - wanted[k]) > 1e-9 or (kind == 2 and abs(held[1, i] - wanted_angle[k]) > 1e-9):
            clash[i] = True


@njit(cache=True, nogil=True)
def gather_several(
    row: Any, l_bus: Any, l_p: Any, l_q: Any, share_i: Any, share_z: Any, m_bus: Any, m_p: Any, m_q: Any, control: Any,
    wanted: Any, wanted_angle: Any, m_low: Any, m_high: Any, c_bus: Any, c_a: Any, c_b: Any, net: Any, node_type: Any,
    held: Any, clash: Any,
) -> None:  # fmt: skip
    """:func:`gather` for every row of the powers ``l_p``, ``l_q``, ``m_p``, ``m_q``, (k, elements), into ``net`` (k, 8, n)."""
    for t in range(len(net)):
        node_type[:] = 0
        held[:] = 0.0
        gather(
            row, l_bus, l_p[t], l_q[t], share_i, share_z, m_bus, m_p[t], m_q[t], control, wanted, wanted_angle, m_low, m_high,
            c_bus, c_a, c_b, net[t], node_type, held, clash,
        )  # fmt: skip


@njit(cache=True, nogil=True)
def assemble(
    branches: Any, slots: Any, r: Any, x: Any, shunt_from: Any, shunt_to: Any, ratio_from: Any, ratio_to: Any, shift: Any,
    ports: Any, g: Any, b: Any,
) -> None:  # fmt: skip
    """Two-ports of all branches into ``ports`` (4, n_branch), and those of live ``branches`` into ``g``, ``b``.

    The same formulas as :func:`vastmesh.core.electrical.two_ports`, in one pass; a test compares them.
    """
    for k in range(len(r)):
        y = 1.0 / complex(r[k], x[k])
        turn = complex(1.0, 0.0) if shift[k] == 0.0 else complex(np.cos(shift[k]), np.sin(shift[k]))
        across = y / (ratio_from[k] * ratio_to[k])
        ports[0, k] = (y + shunt_from[k]) / (ratio_from[k] * ratio_from[k])
        ports[1, k] = -across * turn
        ports[2, k] = -across * turn.conjugate()
        ports[3, k] = (y + shunt_to[k]) / (ratio_to[k] * ratio_to[k])
    m = len(branches)
    for n in range(m):
        for part in range(4):
            value = ports[part, branches[n]]
            at = slots[part * m + n]
            g[at] += value.real
            b[at] += value.imag
