"""Sparse LU on one pattern: analysed once, refactorised for every new set of values."""

from __future__ import annotations

from dataclasses import dataclass
from types import TracebackType
from typing import Any, Self

import numpy as np
from nbklu import KLUException, KLUSingularException, KLUSolver
from numba import njit
from numpy.typing import NDArray

from ..errors import SingularMatrix

_POOR = 1e-14  # reciprocal condition below which old pivots are not trusted any more


class SparseLU:
    """LU factors of an (n, n) matrix in compressed columns with sorted row indices.

    KLU behind a narrow door: values are checked before they reach it, pivots are chosen anew
    when a refactorisation with the old ones comes out poor, and handles are closed.
    ``in_order``: rows stand as :func:`elimination_order` would put them, so that the work goes through memory from one
    end to the other. Not safe for use by several threads at once; cannot be pickled.
    """

    def __init__(
        self, indptr: NDArray[np.integer[Any]], indices: NDArray[np.integer[Any]], *, complex_: bool = False,
        in_order: bool = False,
    ):  # fmt: skip
        self.n = len(indptr) - 1
        self.nnz = int(indptr[-1])
        self._dtype = np.complex128 if complex_ else np.float64
        self._factored = False
        self._inverse: _Inverse | None = None
        starts = np.zeros(len(indices), np.bool_)
        starts[indptr[:-1][indptr[:-1] < len(indices)]] = True
        if len(indices) > 1 and np.any((np.diff(indices) <= 0) & ~starts[1:]):
            raise ValueError("row indices must be sorted and distinct within each column")
        self._klu = KLUSolver(index_bits=32, complex_values=complex_, singular_as_error=True)
        self._klu.common.btf = 0
        self._klu.common.scale = -1
        self._klu.common.ordering = 2 if in_order else 0  # natural, or by approximate minimum degree
        self._klu.analyze(self.n, indptr.astype(np.int32), indices.astype(np.int32))

    def refactorise(self, values: NDArray[Any]) -> None:
        """The same without a look at the values or at how well the old pivots serve: for a caller who sees from what follows
        whether they did. Raises :class:`SingularMatrix`."""
        if not self._factored:
            self.factorise(values)
            return
        try:
            self._klu.refactor(values)
        except KLUException:
            self.factorise(values)

    def factorise(self, values: NDArray[Any], *, checked: bool = False) -> None:
        """Factorise new values, on old pivots where they serve. ``checked``: they are known to be finite. Raises
        :class:`SingularMatrix`."""
        if values.shape != (self.nnz,):
            raise ValueError(f"{values.shape} values given for a pattern of {self.nnz}")
        values = np.ascontiguousarray(values, self._dtype)
        if not checked and not np.all(np.isfinite(values)):
            raise SingularMatrix("a coefficient is not a finite number")
        try:
            if self._factored:
                try:
                    self._klu.refactor(values)
                    if self._klu.rcond() > _POOR:
                        return
                except KLUSingularException:
                    pass  # old pivots fail on the new values: new pivots may not
            self._factored = False
            self._klu.factor(values)
        except KLUException as error:
            self._klu.numeric = None  # a failed factorisation leaves a dead handle, and freeing that crashes
            raise SingularMatrix(str(error)) from None
        self._factored = True

    def solve(self, rhs: NDArray[Any]) -> NDArray[Any]:
        """Solve for one right-hand side (n,) or several, one a row (k, n)."""
        return np.asarray(self._klu.solve(np.ascontiguousarray(rhs, self._dtype)))

    def solve_transposed(self, rhs: NDArray[Any]) -> NDArray[Any]:
        """Solve with the transposed matrix for one right-hand side (n,), contiguous and of the factors' type, which becomes
        the solution."""
        return np.asarray(self._klu.tsolve_(rhs))

    def determinant_sign(self) -> float:
        """Sign of the determinant of the matrix factorised last: 1, -1 or 0."""
        found = self._klu.extract()
        pivots = found["Ux"][found["Up"][1:] - 1]  # the diagonal stands last in every column
        sign = np.prod(np.sign(pivots)) * _parity(found["P"]) * _parity(found["Q"])
        return float(sign)

    def inverse_diagonal(self) -> NDArray[Any]:
        """Diagonal of the inverse of the matrix factorised last, (n,), at a cost like that of its factors.

        On a symmetric pattern with pivots on the diagonal the entries of the inverse on the pattern of the factors follow from
        each other, last row first (Takahashi, Fagan, Chin, PICA 1973); with other pivots column by column.
        """
        f = self._klu.extract()
        if self._inverse is None or not np.array_equal(self._inverse.order, f["P"]):
            self._inverse = _Inverse.of(f) if np.array_equal(f["P"], f["Q"]) else None
        if self._inverse is None:
            return np.array([self.solve(row)[k] for k, row in enumerate(np.eye(self.n, dtype=self._dtype))])
        return self._inverse.diagonal(f["Lx"], f["Ux"])

    def close(self) -> None:
        self._klu.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, value: BaseException | None, tb: TracebackType | None) -> None:
        self.close()

    def __del__(self) -> None:
        klu = getattr(self, "_klu", None)
        if klu is not None:
            klu.close()


@dataclass(frozen=True)
class _Inverse:
    """Where the entries of the inverse that are needed for its diagonal come from. ``order``: the pivots; of the factors' columns
    ``starts`` and for each entry below the diagonal (right of it) its place in Lx and Ux; ``pairs``: for each column and each two
    of its entries the place of that entry of the inverse among [lower, upper, diagonal]."""

    order: NDArray[np.integer[Any]]
    starts: NDArray[np.int64]
    rows: NDArray[np.int64]
    lower: NDArray[np.int64]
    upper: NDArray[np.int64]
    pivots: NDArray[np.int64]
    pairs: NDArray[np.int64]

    @classmethod
    def of(cls, f: dict[str, NDArray[Any]]) -> _Inverse | None:
        """None where the factors are not of one symmetric pattern."""
        n = len(f["Lp"]) - 1
        column = np.repeat(np.arange(n), np.diff(f["Lp"]))
        below = np.flatnonzero(f["Li"] != column)
        rows, of = f["Li"][below].astype(np.int64), column[below]
        by = np.lexsort((rows, of))
        lower, rows, of = below[by], rows[by], of[by]
        column = np.repeat(np.arange(n), np.diff(f["Up"]))
        right = np.flatnonzero(f["Ui"] != column)
        by = np.lexsort((column[right], f["Ui"][right]))
        upper = right[by]
        if not np.array_equal(f["Ui"][upper], of) or not np.array_equal(column[upper], rows):
            return None
        starts = np.searchsorted(of, np.arange(n + 1)).astype(np.int64)
        pairs = np.empty(int((np.diff(starts) ** 2).sum()), np.int64)
        _find_pairs(starts, rows, pairs)
        return cls(f["P"].copy(), starts, rows, lower, upper, (f["Up"][1:] - 1).astype(np.int64), pairs)

    def diagonal(self, lx: NDArray[Any], ux: NDArray[Any]) -> NDArray[Any]:
        found = np.empty(2 * len(self.rows) + len(self.pivots), ux.dtype)
        _invert(self.starts, self.pairs, lx[self.lower], ux[self.upper], ux[self.pivots], found)
        diagonal = np.empty(len(self.pivots), ux.dtype)
        diagonal[self.order] = found[2 * len(self.rows) :]
        return diagonal


@njit(cache=True, nogil=True)
def _find_pairs(starts: Any, rows: Any, pairs: Any) -> None:
    """Of every two entries k, m of a column: where (k, m) of the inverse stands."""
    many = len(rows)
    at = 0
    for i in range(len(starts) - 1):
        for a in range(starts[i], starts[i + 1]):
            for b in range(starts[i], starts[i + 1]):
                k, m = rows[a], rows[b]
                if k == m:
                    pairs[at] = 2 * many + k
                else:
                    low, high = (m, k) if k > m else (k, m)
                    place = starts[low] + np.searchsorted(rows[starts[low] : starts[low + 1]], high)
                    pairs[at] = place if k > m else many + place
                at += 1


@njit(cache=True, nogil=True)
def _invert(starts: Any, pairs: Any, lower: Any, upper: Any, pivots: Any, z: Any) -> None:
    """Entries of the inverse of L U on the pattern of both: ``z`` holds those below, right of and on the diagonal."""
    many, end = len(lower), len(pairs)
    for i in range(len(starts) - 2, -1, -1):
        first, size = starts[i], starts[i + 1] - starts[i]
        end -= size * size
        own = 1 / pivots[i]
        for a in range(size):
            below, right = 0 * own, 0 * own
            for b in range(size):
                below -= z[pairs[end + a * size + b]] * lower[first + b]
                right -= upper[first + b] * z[pairs[end + b * size + a]]
            z[first + a] = below
            z[many + first + a] = right / pivots[i]
        on = own
        for b in range(size):
            on -= upper[first + b] / pivots[i] * z[first + b]
        z[2 * many + i] = on


@njit(cache=True, nogil=True)
def _parity(order: Any) -> int:
    """1 where a permutation takes an even number of exchanges, else -1."""
    seen = np.zeros(len(order), np.bool_)
    sign = 1
    for i in range(len(order)):
        j = i
        length = 0
        while not seen[j]:
            seen[j] = True
            j = order[j]
            length += 1
        if length and length % 2 == 0:
            sign = -sign
    return sign


def elimination_order(indptr: NDArray[np.integer[Any]], indices: NDArray[np.integer[Any]]) -> NDArray[np.int64]:
    """Order of the unknowns of a symmetric pattern with its diagonal in which few further entries come up when they are
    eliminated (approximate minimum degree; Amestoy, Davis and Duff, SIAM J. Matrix Anal. Appl. 17, 1996), (n,)."""
    n = len(indptr) - 1
    if n == 0:
        return np.zeros(0, np.int64)
    column = np.repeat(np.arange(n), np.diff(indptr))
    # A matrix on which nobody would pivot: the order is that of the analysis.
    values = np.where(indices == column, 2.0 * np.diff(indptr)[column], -1.0)
    with SparseLU(indptr, indices) as lu:
        lu.factorise(values, checked=True)
        return np.asarray(lu._klu.extract()["Q"], np.int64)


def interleaved_pattern(
    indptr: NDArray[np.int64], indices: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Pattern of a (2n, 2n) Jacobian with two unknowns per node, compressed columns, from that of the (n, n) matrix.

    Every node keeps both its rows and columns whatever its type, so that one symbolic analysis
    serves all switching between voltage control and fixed reactive power.
    """
    counts = np.diff(indptr)
    columns = np.repeat(2 * counts, 2)
    ptr = np.concatenate([[0], np.cumsum(columns)])
    rows: NDArray[np.int64] = np.empty(4 * len(indices), np.int64)
    starts = np.repeat(4 * indptr[:-1], counts)
    within = 2 * (np.arange(len(indices)) - np.repeat(indptr[:-1], counts))
    for shift in (0, 1):
        offset = starts + within + shift * np.repeat(2 * counts, counts)
        rows[offset], rows[offset + 1] = 2 * indices, 2 * indices + 1
    return ptr, rows
