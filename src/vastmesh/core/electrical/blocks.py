"""Sparse LU of matrices with two unknowns a node: factors of two-by-two blocks on one symmetric pattern, compiled.

A block takes one look-up where its four entries take four, and the elimination needs no search: where every product goes is
worked out once for a pattern. The blocks on the diagonal are the pivots, in the order of the nodes; where that would lose
digits the same matrix goes to :class:`SparseLU`, which exchanges rows.
Source: Duff, Erisman, Reid, Direct Methods for Sparse Matrices, 1986, chapters 9 and 10; rows of the factors by the tree of the
elimination: Liu, "The role of elimination trees in sparse factorization", SIAM J. Matrix Anal. Appl. 11, 1990.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..errors import SingularMatrix
from .sparse import SparseLU, interleaved_pattern

_LOST = 1e-11  # share of its first size below which a pivot is mostly rounding
_GROWN = 1e9  # times its row's first size above which a pivot has swallowed the digits of its row
BACKWARD = 1e-9  # what a careful factorisation may leave of the equations, as a share of their terms
# Indices without a sign spare a check at every access.
_UNSIGNED: Any = np.uint64
_0, _1, _2, _3, _4 = (_UNSIGNED(k) for k in range(5))
_Any = NDArray[Any]


class Layout(NamedTuple):
    """Where everything stands in the factors of a pattern; all arrays unsigned, which spares a check at every access.

    ``indptr``: rows of the matrix, (n + 1,); ``slot``: place of each of its blocks in the factors, (nnz,); ``fill``: places of
    those that come up only as others are eliminated. ``start``, ``pivot``: rows of the factors, (n + 1,), (n,), each its lower
    blocks, its pivot and its upper blocks; ``column``: of every block; ``goes``: where the product of a lower block with each
    block of that row of the upper factor goes, in the order of the elimination.
    """

    indptr: _Any
    slot: _Any
    fill: _Any
    start: _Any
    pivot: _Any
    column: _Any
    goes: _Any


class BlockLU:
    """LU factors of a (2n, 2n) matrix, two unknowns for each of n nodes; pattern symmetric, with its diagonal.

    ``indptr``, ``indices``: the pattern of the blocks by rows, sorted. Values come by rows too, (4 nnz,): of every node its
    first row, then its second, entries of a block side by side. Nodes are eliminated as they stand. Not safe for use by
    several threads at once.
    """

    def __init__(self, indptr: NDArray[np.integer[Any]], indices: NDArray[np.integer[Any]]) -> None:
        self.n = len(indptr) - 1
        self._pattern = indptr, indices
        self.layout = Layout(indptr.astype(np.uint32), *_lay_out(indptr, indices))
        self.factors = np.empty(4 * len(self.layout.column))
        self.inverse = np.empty(4 * self.n)  # of the pivots
        self._exchanging: SparseLU | None = None
        self._exchanged = False

    def refactorise(self, values: NDArray[np.float64]) -> None:
        """Factorise for a caller who sees from what follows whether pivots on the diagonal served. Raises
        :class:`SingularMatrix`."""
        self._exchanged = False
        if not eliminate(self.layout, values, self.factors, self.inverse):
            self.exchange(values)

    def factorise(self, values: NDArray[np.float64]) -> None:
        """Factorise and prove by a solution that the factors are those of the values. Raises :class:`SingularMatrix`."""
        if values.shape != (4 * len(self._pattern[1]),):
            raise ValueError(f"{values.shape} values given for a pattern of {4 * len(self._pattern[1])}")
        if not np.all(np.isfinite(values)):
            raise SingularMatrix("a coefficient is not a finite number")
        self.refactorise(values)
        if not self._exchanged and not self._proven(values):
            self.exchange(values)

    def solve(self, rhs: NDArray[np.float64]) -> NDArray[np.float64]:
        """Solve for one right-hand side (2n,) or several, one a row (k, 2n)."""
        if self._exchanged:
            assert self._exchanging is not None
            found = np.array(rhs, np.float64)
            for row in found.reshape(-1, 2 * self.n):
                self._exchanging.solve_transposed(row)  # columns there are rows here
            return found
        if rhs.ndim == 1:
            one = np.empty(2 * self.n)
            solve_one(self.layout, self.factors, self.inverse, rhs, one)
            return one
        several = np.array(rhs, np.float64, order="C")
        _solve_several(self.layout, self.factors, self.inverse, several)
        return several

    def determinant_sign(self) -> float:
        """Sign of the determinant of the matrix factorised last: 1, -1 or 0."""
        if self._exchanged:
            assert self._exchanging is not None
            return self._exchanging.determinant_sign()
        d = self.inverse
        return float(np.prod(np.sign(d[0::4] * d[3::4] - d[1::4] * d[2::4])))

    def exchange(self, values: NDArray[np.float64]) -> None:
        """Factorise with rows exchanged for the sake of the pivots. Raises :class:`SingularMatrix`."""
        if self._exchanging is None:
            indptr, indices = self._pattern
            self._exchanging = SparseLU(
                *interleaved_pattern(indptr.astype(np.int64), indices.astype(np.int64)), in_order=True
            )
        self._exchanged = True
        self._exchanging.factorise(values)

    def _proven(self, values: NDArray[np.float64]) -> bool:
        """Whether a solution leaves next to nothing of the equations, whatever their condition."""
        indptr, indices = self._pattern
        rhs = np.ones(2 * self.n)
        return bool(left_over(indptr, indices, values, self.solve(rhs), rhs) < BACKWARD)


@njit(cache=True, nogil=True)
def _lay_out(indptr: Any, indices: Any) -> tuple[Any, Any, Any, Any, Any, Any]:
    """``slot``, ``fill``, ``start``, ``pivot``, ``column``, ``goes`` of :class:`Layout`."""
    n = len(indptr) - 1
    # Of every node the next one that its elimination touches.
    parent, ancestor = np.full(n, -1, np.int64), np.full(n, -1, np.int64)
    for i in range(n):
        for at in range(indptr[i], indptr[i + 1]):
            k = indices[at]
            while k != -1 and k < i:
                above = ancestor[k]
                ancestor[k] = i
                if above == -1:
                    parent[k] = i
                    break
                k = above
    # What a row of the lower factor holds is reached along these from the entries of the matrix; the same mirrored is the upper.
    lower, upper, seen = np.zeros(n, np.int64), np.zeros(n, np.int64), np.full(n, -1, np.int64)
    for i in range(n):
        for at in range(indptr[i], indptr[i + 1]):
            k = indices[at]
            while k < i and seen[k] != i:
                seen[k] = i
                lower[i] += 1
                upper[k] += 1
                k = parent[k]
    start, pivot = np.zeros(n + 1, np.uint32), np.empty(n, np.uint32)
    for i in range(n):
        pivot[i] = start[i] + lower[i]
        start[i + 1] = pivot[i] + 1 + upper[i]
    column = np.empty(start[n], np.uint32)
    seen[:] = -1
    last = pivot.copy()
    for i in range(n):
        column[pivot[i]] = i
        for at in range(indptr[i], indptr[i + 1]):
            k = indices[at]
            while k < i and seen[k] != i:
                seen[k] = i
                last[k] += 1
                column[last[k]] = i
                k = parent[k]
    count = 0
    last[:] = start[:n]
    for k in range(n):
        for at in range(pivot[k] + 1, start[k + 1]):
            i = column[at]
            column[last[i]] = k
            last[i] += 1
            count += upper[k]
    slot, goes, place = np.empty(len(indices), np.uint32), np.empty(count, np.uint32), np.empty(n, np.uint32)
    count = 0
    for i in range(n):
        for at in range(start[i], start[i + 1]):
            place[column[at]] = at
        for at in range(indptr[i], indptr[i + 1]):
            slot[at] = place[indices[at]]
        for at in range(start[i], pivot[i]):
            k = column[at]
            for across in range(pivot[k] + 1, start[k + 1]):
                goes[count] = place[column[across]]
                count += 1
    there = np.zeros(len(column), np.bool_)
    there[slot] = True
    return slot, np.flatnonzero(~there).astype(np.uint32), start, pivot, column, goes


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract", "nsz"})
def eliminate(layout: Any, values: Any, factors: Any, inverse: Any) -> bool:
    """Fill ``factors`` (4 a block) and ``inverse`` of the pivots (4n,); False where a pivot has lost its digits."""
    indptr, slot, fill, start, pivot, column, goes = layout
    for k in fill:
        factors[_4 * k : _4 * k + _4] = 0.0
    at, count = _0, _0
    sound = True
    for i in range(_UNSIGNED(len(pivot))):
        second = _2 * (indptr[i + _1] - indptr[i])
        first = 0.0
        for k in range(indptr[i], indptr[i + _1]):
            to = _4 * slot[k]
            a, b, c, d = values[at], values[at + _1], values[at + second], values[at + second + _1]
            factors[to], factors[to + _1], factors[to + _2], factors[to + _3] = a, b, c, d
            first = max(first, abs(a), abs(b), abs(c), abs(d))
            at = at + _2
        at = at + second
        for k in range(start[i], pivot[i]):
            above = _UNSIGNED(column[k])
            s, t = _4 * k, _4 * above
            a, b, c, d = factors[s], factors[s + _1], factors[s + _2], factors[s + _3]
            p, q, r, w = inverse[t], inverse[t + _1], inverse[t + _2], inverse[t + _3]
            e, f, g, h = a * p + b * r, a * q + b * w, c * p + d * r, c * q + d * w
            factors[s], factors[s + _1], factors[s + _2], factors[s + _3] = e, f, g, h
            for across in range(pivot[above] + _1, start[above + _1]):
                s, t = _4 * across, _4 * goes[count]
                a, b, c, d = factors[s], factors[s + _1], factors[s + _2], factors[s + _3]
                factors[t] -= e * a + f * c
                factors[t + _1] -= e * b + f * d
                factors[t + _2] -= g * a + h * c
                factors[t + _3] -= g * b + h * d
                count = count + _1
        s, t = _4 * pivot[i], _4 * i
        a, b, c, d = factors[s], factors[s + _1], factors[s + _2], factors[s + _3]
        straight, crossed = a * d, b * c
        determinant = straight - crossed
        own = 1.0 / determinant
        inverse[t], inverse[t + _1], inverse[t + _2], inverse[t + _3] = d * own, -b * own, -c * own, a * own
        size = max(abs(a), abs(b), abs(c), abs(d))
        # Written so that anything that is not a number is unsound.
        sound = (
            sound
            and abs(determinant) > _LOST * (abs(straight) + abs(crossed))
            and size > _LOST * first
            and size < _GROWN * first
        )
    return bool(sound)


@njit(cache=True, nogil=True, fastmath={"contract", "nsz"})
def solve_one(layout: Any, factors: Any, inverse: Any, rhs: Any, found: Any) -> None:
    """Solve for one right-hand side (2n,) into ``found`` (2n,), which may be the same."""
    start, pivot, column = layout.start, layout.pivot, layout.column
    n = _UNSIGNED(len(pivot))
    for i in range(n):
        x, y = rhs[_2 * i], rhs[_2 * i + _1]
        for at in range(start[i], pivot[i]):
            s, t = _4 * at, _2 * column[at]
            x -= factors[s] * found[t] + factors[s + _1] * found[t + _1]
            y -= factors[s + _2] * found[t] + factors[s + _3] * found[t + _1]
        found[_2 * i], found[_2 * i + _1] = x, y
    for back in range(n):
        i = n - _1 - back
        x, y = found[_2 * i], found[_2 * i + _1]
        for at in range(pivot[i] + _1, start[i + _1]):
            s, t = _4 * at, _2 * column[at]
            x -= factors[s] * found[t] + factors[s + _1] * found[t + _1]
            y -= factors[s + _2] * found[t] + factors[s + _3] * found[t + _1]
        t = _4 * i
        found[_2 * i] = inverse[t] * x + inverse[t + _1] * y
        found[_2 * i + _1] = inverse[t + _2] * x + inverse[t + _3] * y


@njit(cache=True, nogil=True)
def _solve_several(layout: Any, factors: Any, inverse: Any, rows: Any) -> None:
    """Solve for several right-hand sides, (k, 2n), in place."""
    for k in range(len(rows)):
        solve_one(layout, factors, inverse, rows[k], rows[k])


@njit(cache=True, nogil=True)
def left_over(indptr: Any, indices: Any, values: Any, x: Any, rhs: Any) -> float:
    """The largest rest of any equation of A x = b as a share of its own terms; infinite where it is no number."""
    worst = 0.0
    for i in range(len(indptr) - 1):
        many = indptr[i + 1] - indptr[i]
        for side in range(2):
            at = 4 * indptr[i] + side * 2 * many
            rest, terms = rhs[2 * i + side], abs(rhs[2 * i + side])
            for k in range(indptr[i], indptr[i + 1]):
                t = 2 * indices[k]
                one, other = values[at] * x[t], values[at + 1] * x[t + 1]
                rest -= one + other
                terms += abs(one) + abs(other)
                at += 2
            if not abs(rest) <= worst * terms:
                worst = abs(rest) / terms if terms > 0 else np.inf
                if not worst >= 0:
                    return np.inf
    return worst
