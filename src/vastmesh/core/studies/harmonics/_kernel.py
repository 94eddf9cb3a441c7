"""Compiled: the nodal admittance matrix at an order.

Most of a network is lines that are short for the wave. Those go through one pass of plain arithmetic that the compiler lays side
by side; the few others are done once more by the exact equations. What only grows or falls with the order at a node is one number
for each node.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numba import njit

from ...catalogue import circuit_impedance

_circuit: Any = njit(cache=True, nogil=True, error_model="numpy")(circuit_impedance)

PARALLEL, SERIES, MOTOR_SHARE = 0, 1, 2
SHORT = 0.25  # of |z y|, up to which the series below are good to 1e-13


class Lines(NamedTuple):
    """Lines without ratio or shift and with capacitance alone: R and X at order 1, conductance and susceptance at both ends, and
    their entries of the matrix, (4, n); ``by``: which skin effect each has; ``longest``: their numbers, longest last."""

    r: Any
    x: Any
    by: Any
    g_from: Any
    b_from: Any
    g_to: Any
    b_to: Any
    slots: Any
    longest: Any


class Branches(NamedTuple):
    """All other branches; ``ff``, ``ft``, ``tt``: 1 over the products of their ratios; ``turn``: exp(j shift) of the sequence;
    ``long``: by the equations of a long line."""

    r: Any
    x: Any
    by: Any
    y_from: Any
    y_to: Any
    long: Any
    ff: Any
    ft: Any
    tt: Any
    turn: Any
    slots: Any


class Nodes(NamedTuple):
    """What stands at nodes. ``slot``: entries on the diagonal, with what stays, grows and falls with the order there; sources and
    machines 1/(r h^k + j h x - j xc/h); demand conj(S)/V² in a ``form`` that is not parallel; filters' circuits (n, 9)."""

    slot: Any
    stays: Any
    grows: Any
    falls: Any
    earth_slot: Any
    earth_r: Any
    earth_x: Any
    earth_k: Any
    earth_c: Any
    load_slot: Any
    load_y: Any
    form: int
    filter_slot: Any
    filters: Any


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract", "arcp", "nsz"})
def _short(h: float, r_: Any, x_: Any, gf: Any, bf: Any, gt: Any, bt: Any, out: Any) -> None:
    """Admittances of lines: in series, and with it at both ends, real and imaginary, each (n,). Resistances as at the order.

    With s = z y of the whole line: z' = z S and y' = y C/S, S = sinh(t)/t = sum s^n/(2n+1)!, C = 2 (cosh(t)-1)/s = 2 sum
    s^n/(2n+2)!.
    """
    yr_, yi_, fr_, fi_, tr_, ti_ = out
    for k in range(len(r_)):
        r, x = r_[k], x_[k] * h
        g, b = gf[k] + gt[k], (bf[k] + bt[k]) * h
        sr, si = r * g - x * b, r * b + x * g
        ar, ai = 1 + sr / 156, si / 156
        ar, ai = 1 + (sr * ar - si * ai) / 110, (sr * ai + si * ar) / 110
        ar, ai = 1 + (sr * ar - si * ai) / 72, (sr * ai + si * ar) / 72
        ar, ai = 1 + (sr * ar - si * ai) / 42, (sr * ai + si * ar) / 42
        ar, ai = 1 + (sr * ar - si * ai) / 20, (sr * ai + si * ar) / 20
        ar, ai = 1 + (sr * ar - si * ai) / 6, (sr * ai + si * ar) / 6
        cr, ci = 1 + sr / 182, si / 182
        cr, ci = 1 + (sr * cr - si * ci) / 132, (sr * ci + si * cr) / 132
        cr, ci = 1 + (sr * cr - si * ci) / 90, (sr * ci + si * cr) / 90
        cr, ci = 1 + (sr * cr - si * ci) / 56, (sr * ci + si * cr) / 56
        cr, ci = 1 + (sr * cr - si * ci) / 30, (sr * ci + si * cr) / 30
        cr, ci = 1 + (sr * cr - si * ci) / 12, (sr * ci + si * cr) / 12
        whole = 1 / (ar * ar + ai * ai)
        hr, hi = (cr * ar + ci * ai) * whole, (ci * ar - cr * ai) * whole
        zr, zi = r * ar - x * ai, r * ai + x * ar
        over = 1 / (zr * zr + zi * zi)
        yr, yi = zr * over, -zi * over
        yr_[k], yi_[k] = yr, yi
        fr_[k], fi_[k] = yr + gf[k] * hr - bf[k] * h * hi, yi + gf[k] * hi + bf[k] * h * hr
        tr_[k], ti_[k] = yr + gt[k] * hr - bt[k] * h * hi, yi + gt[k] * hi + bt[k] * h * hr


@njit(cache=True, nogil=True, error_model="numpy")
def assemble(order: float, skin: Any, n_short: int, lines: Any, work: Any, branches: Any, nodes: Any, out: Any) -> bool:
    """Fill ``out`` (nnz,) with the matrix at an order; whether all of it is finite.

    ``skin``: how many times its resistance each group of branches has at this order; ``n_short``: how many lines are short for
    the wave at it; ``work``: seven arrays (n_line,), overwritten.
    """
    out[:] = 0
    r_, x_, by, gf, bf, gt, bt, slots, longest = lines
    r_h, yr, yi, fr, fi, tr, ti = work
    for k in range(len(r_)):
        r_h[k] = r_[k] * skin[by[k]]
    _short(order, r_h, x_, gf, bf, gt, bt, (yr, yi, fr, fi, tr, ti))
    for m in range(n_short, len(longest)):
        k = longest[m]
        y, yf, yt = _long(complex(r_h[k], x_[k] * order), complex(gf[k], bf[k] * order), complex(gt[k], bt[k] * order))
        yr[k], yi[k] = y.real, y.imag
        fr[k], fi[k] = (y + yf).real, (y + yf).imag
        tr[k], ti[k] = (y + yt).real, (y + yt).imag
    for k in range(len(r_)):
        across = complex(yr[k], yi[k])
        out[slots[0, k]] += complex(fr[k], fi[k])
        out[slots[1, k]] -= across
        out[slots[2, k]] -= across
        out[slots[3, k]] += complex(tr[k], ti[k])
    r_, x_, by, y_from, y_to, long, ff, ft, tt, turn, slots = branches
    for k in range(len(r_)):
        z = complex(r_[k] * skin[by[k]], x_[k] * order)
        yf, yt = scaled(y_from[k], order), scaled(y_to[k], order)
        if long[k] and (yf != 0 or yt != 0):
            y, yf, yt = _long(z, yf, yt)
        else:
            y = 1 / z
        across = y * ft[k]
        out[slots[0, k]] += (y + yf) * ff[k]
        out[slots[1, k]] -= across * turn[k]
        out[slots[2, k]] -= across * turn[k].conjugate()
        out[slots[3, k]] += (y + yt) * tt[k]
    _at_nodes(order, nodes, out)
    return bool(np.isfinite(_total(out.view(np.float64))))


@njit(cache=True, nogil=True, fastmath={"reassoc"})
def _total(values: Any) -> float:
    total = 0.0
    for k in range(values.shape[0]):
        total += values[k]
    return total


@njit(cache=True, nogil=True, error_model="numpy")
def _long(z: complex, yf: complex, yt: complex) -> Any:
    """Admittance in series and at both ends of a line by its exact equations."""
    t = np.sqrt(z * (yf + yt))
    half = np.tanh(t / 2) / (t / 2)
    return t / (z * np.sinh(t)), yf * half, yt * half


@njit(cache=True, nogil=True, error_model="numpy")
def _at_nodes(order: float, nodes: Any, out: Any) -> None:
    slot, stays, grows, falls, earth, r, x, exponent, c, load, load_y, form, filtered, circuits = nodes
    for k in range(len(slot)):
        out[slot[k]] += complex(stays[k], grows[k] * order + falls[k] / order)
    for k in range(len(earth)):
        out[earth[k]] += 1 / complex(r[k] * order ** exponent[k], order * x[k] - c[k] / order)
    for k in range(len(load)):
        out[load[k]] += demand(load_y[k], order, form)
    for k in range(len(filtered)):
        q = circuits[k]
        out[filtered[k]] += 1 / _circuit(order, q[0], q[1], q[2], q[3], q[4], q[5], q[6], q[7], q[8])


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
