"""Sparse LU on one pattern: analysed once, refactorised for every new set of values."""

from __future__ import annotations

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
    Not safe for use by several threads at once; cannot be pickled.
    """

    def __init__(self, indptr: NDArray[np.integer[Any]], indices: NDArray[np.integer[Any]], *, complex_: bool = False):
        self.n = len(indptr) - 1
        self.nnz = int(indptr[-1])
        self._dtype = np.complex128 if complex_ else np.float64
        self._factored = False
        starts = np.zeros(len(indices), np.bool_)
        starts[indptr[:-1][indptr[:-1] < len(indices)]] = True
        if len(indices) > 1 and np.any((np.diff(indices) <= 0) & ~starts[1:]):
            raise ValueError("row indices must be sorted and distinct within each column")
        self._klu = KLUSolver(index_bits=32, complex_values=complex_, singular_as_error=True)
        self._klu.common.btf = 0
        self._klu.common.scale = -1
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

    def factorise(self, values: NDArray[Any]) -> None:
        """Factorise new values, on old pivots where they serve. Raises :class:`SingularMatrix`."""
        if values.shape != (self.nnz,):
            raise ValueError(f"{values.shape} values given for a pattern of {self.nnz}")
        values = np.ascontiguousarray(values, self._dtype)
        if not np.all(np.isfinite(values)):
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
