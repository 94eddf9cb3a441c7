"""The linear model of a feeder, flat, and the compiled descent on it.

Voltages and currents are linear in the choices, the objectives are not: powers are products of two of them, and the
largest of many counts. So each candidate costs one addition over all fields and one pass over the objectives; losses, a
quadratic form of the choices, are known from a table. Compiled, that is a few microseconds for a street, and all moves and
all pairs of moves can be tried.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numba import njit

from ...electrical.arrays import Floats, Ints
from ._model import Layout, Measures


class Flat(NamedTuple):
    """Fields of an assignment x: ``base`` + the sum of ``added[first[u] + x[u]]``, each (n_field,) floats.

    The fields stand in blocks, each with all real and then all imaginary parts: voltage to neutral and current at n_p phases
    of from ends; n_n neutral currents; V1 and V2 of n_b buses. ``branch``: (n, 3) places among the n_p, -1 for a phase that
    is not there; the heads of the conditions come first. Losses are ``loss`` + the sums of ``loss_linear`` over the choices j
    taken and of ``loss_square`` over all pairs of them. Weights are points for each share of the mean (heads), W
    (branches), W² (squares), A (neutral), and share of V2 in V1 (bus); losses are in points already.
    """

    base: Floats
    added: Floats
    first: Ints
    sizes: Ints
    counts: Ints  # n_p, n_n, n_b
    branch: Ints
    branch_weight: Floats
    square_weight: Floats
    head_weight: Floats
    loss: float
    loss_linear: Floats
    loss_square: Floats
    neutral_group: Ints
    neutral_weight: Floats
    bus_group: Ints
    bus_weight: Floats


def flatten(
    models: Sequence[tuple[Measures, Measures, Layout]], sizes: Ints, before: Sequence[dict[str, float]],
    weight: dict[str, float],
) -> Flat:  # fmt: skip
    """The models of all conditions side by side, with the weights of :func:`._objective.score`."""
    total = sum(weight.values()) * len(models)
    blocks: list[list[np.ndarray]] = [[] for _ in range(5)]
    heads, branches, branch_weight, square_weight, neutral_group, bus_group = [], [], [], [], [], []
    per: dict[str, list[float]] = {n: [] for n in ("head", "neutral", "voltage")}
    n_p, n_choice = 0, int(sizes.sum())
    loss, linear, square = 0.0, np.zeros(n_choice), np.zeros((n_choice, n_choice))
    for at, ((now, added, lay), was) in enumerate(zip(models, before, strict=True)):
        share = {n: 100 * weight.get(n, 0.0) / total / max(was[n], 1e-9) for n in was}
        both = Measures(*(np.hstack([getattr(now, f), getattr(added, f)]) for f in ("v", "i", "v1", "v2")))
        rows = np.flatnonzero(lay.first & (lay.conductor < 3))
        wanted = np.union1d(rows, lay.head)
        of = lay.neutral_of[wanted]
        blocks[0].append(both.v[wanted] - np.where(of >= 0, 1.0, 0.0)[:, None] * both.v[of])
        blocks[1].append(both.i[wanted])
        place = {int(r): n_p + k for k, r in enumerate(wanted)}
        n_p += len(wanted)
        of_head = np.full(3, -1)
        of_head[lay.conductor[lay.head]] = [place[int(r)] for r in lay.head]
        heads.append(of_head)
        of_branch = np.full((lay.n_branch, 3), -1)
        of_branch[lay.branch[rows], lay.conductor[rows]] = [place[int(r)] for r in rows]
        counted = np.flatnonzero(lay.lengths * (share["branches"] + share["squares"]) > 0)
        branches.append(of_branch[counted])
        branch_weight.append(lay.lengths[counted] / 1e3 * share["branches"])
        square_weight.append(lay.lengths[counted] / 1e6 * share["squares"])
        if share["losses"] > 0:
            lines = lay.lengths[lay.branch] > 0
            v, i = both.v[lines], both.i[lines]
            form = (v.real.T @ i.real + v.imag.T @ i.imag) * share["losses"] / 1e3
            form = (form + form.T) / 2
            loss += float(form[0, 0])
            linear += 2 * form[0, 1:]
            square += form[1:, 1:]
        neutrals = np.flatnonzero((lay.conductor == 3) & lay.first)
        blocks[2].append(both.i[neutrals])
        neutral_group.append(np.full(len(neutrals), at))
        blocks[3].append(both.v1)
        blocks[4].append(both.v2)
        bus_group.append(np.full(len(both.v1), at))
        per["head"].append(100 * share["head"])
        per["neutral"].append(share["neutral"])
        per["voltage"].append(100 * share["voltage"])
    stacked = [np.vstack(b) for b in blocks]
    whole = np.vstack([part for b in stacked for part in (b.real, b.imag)]).T
    return Flat(
        np.ascontiguousarray(whole[0]), np.ascontiguousarray(whole[1:]),
        np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)[:-1], sizes,
        np.array([len(stacked[k]) for k in (0, 2, 3)], np.int64), np.vstack([*heads, *branches]).astype(np.int64),
        np.concatenate(branch_weight), np.concatenate(square_weight), np.array(per["head"]), loss, linear, square,
        np.concatenate(neutral_group).astype(np.int64), np.array(per["neutral"]),
        np.concatenate(bus_group).astype(np.int64), np.array(per["voltage"]),
    )  # fmt: skip


@njit(cache=True, nogil=True, fastmath={"contract", "nsz", "arcp", "reassoc"})
def _score(t: Any, m: Any) -> float:
    """Points of one set of fields, without losses and cost of changes."""
    n_p, n_n, n_b = m.counts[0], m.counts[1], m.counts[2]
    conditions = len(m.head_weight)
    total = 0.0
    p0, p1, p2 = n_p, 2 * n_p, 3 * n_p
    for b in range(len(m.branch)):
        i, j, k = m.branch[b, 0], m.branch[b, 1], m.branch[b, 2]
        a = t[i] * t[p1 + i] + t[p0 + i] * t[p2 + i] if i >= 0 else 0.0
        e = t[j] * t[p1 + j] + t[p0 + j] * t[p2 + j] if j >= 0 else 0.0
        g = t[k] * t[p1 + k] + t[p0 + k] * t[p2 + k] if k >= 0 else 0.0
        mean = (a + e + g) / 3
        far = max(abs(a - mean), abs(e - mean), abs(g - mean))
        if b < conditions:
            total += m.head_weight[b] * far / max(abs(mean), 1e-6)
        else:
            total += m.branch_weight[b - conditions] * far
            total += m.square_weight[b - conditions] * ((a - mean) ** 2 + (e - mean) ** 2 + (g - mean) ** 2)
    at = 4 * n_p
    worst = np.zeros(conditions)
    for k in range(n_n):
        size = t[at + k] ** 2 + t[at + n_n + k] ** 2
        worst[m.neutral_group[k]] = max(worst[m.neutral_group[k]], size)
    for c in range(conditions):
        total += m.neutral_weight[c] * np.sqrt(worst[c])
        worst[c] = 0.0
    at += 2 * n_n
    for k in range(n_b):
        one = t[at + k] ** 2 + t[at + n_b + k] ** 2
        two = t[at + 2 * n_b + k] ** 2 + t[at + 3 * n_b + k] ** 2
        if one > 0.0:
            worst[m.bus_group[k]] = max(worst[m.bus_group[k]], two / one)
    for c in range(conditions):
        total += m.bus_weight[c] * np.sqrt(worst[c])
    return total


@njit(cache=True, nogil=True)
def _fields(x: Any, m: Any) -> Any:
    """Fields of an assignment, (n_field,)."""
    t = m.base.copy()
    for u in range(len(x)):
        row = m.added[m.first[u] + x[u]]
        for k in range(len(t)):
            t[k] += row[k]
    return t


@njit(cache=True, nogil=True)
def _slopes(x: Any, m: Any) -> Any:
    """By what each choice adds to losses when it is taken besides an assignment, its own square not counted."""
    g = m.loss_linear.copy()
    for u in range(len(x)):
        g += 2 * m.loss_square[m.first[u] + x[u]]
    return g


@njit(cache=True, nogil=True)
def scores_of(candidates: Any, m: Any) -> Any:
    """Points of assignments (k, n_unit) by the linear model, cost of changes not counted."""
    found = np.empty(len(candidates))
    for n in range(len(candidates)):
        x = candidates[n]
        g = _slopes(x, m)
        loss = m.loss
        for u in range(len(x)):
            loss += (g[m.first[u] + x[u]] + m.loss_linear[m.first[u] + x[u]]) / 2
        found[n] = _score(_fields(x, m), m) + loss
    return found


@njit(cache=True, nogil=True)
def _turned(into: Any, t: Any, old: Any, new: Any) -> None:
    for k in range(len(t)):
        into[k] = t[k] + (new[k] - old[k])


@njit(cache=True, nogil=True)
def _lost(g: Any, q: Any, old: int, new: int) -> float:
    """By how much losses change when one choice gives way to another."""
    return float(g[new] - g[old] + q[new, new] - 2 * q[new, old] + q[old, old])


@njit(cache=True, nogil=True)
def descend(x: Any, order: Any, most: int, cost: float, moves: int, budget: int, m: Any) -> Any:
    """Move single units, then pairs of them, while that lowers the score; ``x`` (n_unit,) is changed in place.

    ``order``: units in the order in which they are tried; ``most``: changes allowed; ``moves``: after so many moves it
    ends, as the model holds near where it was made; ``budget``: candidates after which no further pair is begun. Returns
    the score, cost of changes included, and how many candidates were looked at.
    """
    n = len(x)
    q = m.loss_square
    t, g = _fields(x, m), _slopes(x, m)
    one, two = np.empty_like(t), np.empty_like(t)
    changes = 0
    for u in range(n):
        changes += x[u] != 0
    loss = scores_of(x.reshape(1, n), m)[0] - _score(t, m)
    best = _score(t, m) + loss + cost * changes
    tried = 1
    improved = True
    while improved and moves > 0:
        improved = False
        for u in order:
            for c in range(m.sizes[u]):
                after = changes - (x[u] != 0) + (c != 0)
                if c == x[u] or after > most or moves <= 0:
                    continue
                old, new = m.first[u] + x[u], m.first[u] + c
                _turned(one, t, m.added[old], m.added[new])
                lost = loss + _lost(g, q, old, new)
                s = _score(one, m) + lost + cost * after
                tried += 1
                if s < best - 1e-9:
                    best, changes, loss, improved = s, after, lost, True
                    x[u] = c
                    t[:] = one
                    g += 2 * (q[new] - q[old])
                    moves -= 1
        if improved or tried > budget or moves <= 1:
            continue
        for a in range(n):
            u = order[a]
            for c in range(m.sizes[u]):
                if c == x[u]:
                    continue
                old, new = m.first[u] + x[u], m.first[u] + c
                _turned(one, t, m.added[old], m.added[new])
                first = _lost(g, q, old, new)
                partly = changes - (x[u] != 0) + (c != 0)
                for b in range(a + 1, n):
                    w = order[b]
                    was = m.first[w] + x[w]
                    for d in range(m.sizes[w]):
                        after = partly - (x[w] != 0) + (d != 0)
                        if d == x[w] or after > most:
                            continue
                        to = m.first[w] + d
                        _turned(two, one, m.added[was], m.added[to])
                        both = 2 * (q[new, to] - q[new, was] - q[old, to] + q[old, was])
                        lost = loss + first + _lost(g, q, was, to) + both
                        s = _score(two, m) + lost + cost * after
                        tried += 1
                        if s < best - 1e-9:
                            best, changes, loss, improved = s, after, lost, True
                            x[u], x[w] = c, d
                            t[:] = two
                            g += 2 * (q[new] - q[old] + q[to] - q[was])
                            moves -= 2
                            break
                    if improved or tried > budget:
                        break
                if improved or tried > budget:
                    break
            if improved or tried > budget:
                break
    return best, tried


@njit(cache=True, nogil=True)
def anneal(x: Any, seed: int, steps: int, warm: float, cold: float, most: int, cost: float, m: Any) -> Any:
    """Random moves of one or two units; one that worsens the score by d is taken with probability exp(−d/T).

    ``x`` (n_unit,) is changed in place; T falls from ``warm`` to ``cold``, points. Returns the best score met, cost of changes
    included, and its assignment. Source: Kirkpatrick, Gelatt and Vecchi, Science 220, 1983.
    """
    np.random.seed(seed)
    n = len(x)
    q = m.loss_square
    t, g = _fields(x, m), _slopes(x, m)
    one = np.empty_like(t)
    changes = 0
    for u in range(n):
        changes += x[u] != 0
    loss = scores_of(x.reshape(1, n), m)[0] - _score(t, m)
    now = _score(t, m) + loss + cost * changes
    best, found = now, x.copy()
    temperature, fall = warm, (cold / warm) ** (1.0 / steps)
    for _ in range(steps):
        temperature *= fall
        u, w = np.random.randint(n), np.random.randint(n)
        both = u != w and np.random.random() < 0.5
        c, d = np.random.randint(m.sizes[u] - 1), np.random.randint(m.sizes[w] - 1)
        c, d = c + (c >= x[u]), d + (d >= x[w])
        after = changes - (x[u] != 0) + (c != 0)
        if both:
            after += int(d != 0) - int(x[w] != 0)
        if after > most:
            continue
        old, new, was, to = m.first[u] + x[u], m.first[u] + c, m.first[w] + x[w], m.first[w] + d
        _turned(one, t, m.added[old], m.added[new])
        lost = loss + _lost(g, q, old, new)
        if both:
            _turned(one, one, m.added[was], m.added[to])
            lost += _lost(g, q, was, to) + 2 * (q[new, to] - q[new, was] - q[old, to] + q[old, was])
        s = _score(one, m) + lost + cost * after
        if s < now or np.random.random() < np.exp((now - s) / temperature):
            now, changes, loss = s, after, lost
            x[u] = c
            t[:] = one
            g += 2 * (q[new] - q[old])
            if both:
                x[w] = d
                g += 2 * (q[to] - q[was])
            if now < best:
                best = now
                found[:] = x
    return best, found


__all__ = ["Flat", "anneal", "descend", "flatten", "scores_of"]
