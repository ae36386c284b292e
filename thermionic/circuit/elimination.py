"""Many systems of one sparsity solved together: a frequency sweep, or an array of variants of one circuit.

A circuit's matrix is mostly zeros, and all the matrices of a sweep have them in the same places. The order of
elimination is worked out once for the pattern (H. M. Markowitz, "The elimination form of the inverse and its
application to linear programming", Management Science 3 (1957), p. 255, among pivots that are large enough in every
sample), and each matrix then goes through the same steps, compiled. Pivots are not chosen anew for each matrix, so
every solution is checked by putting it back, and what fails is solved by the dense method.
"""

from __future__ import annotations

from collections.abc import Callable
from threading import Lock
from typing import Any

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from thermionic.circuit.kernels.order import Order, plan
from thermionic.circuit.kernels.sparse import WIDE, Matrices, Sides, eliminate
from thermionic.compiled import bundle
from thermionic.devices.base import Array
from thermionic.lazily import lazily

_THRESHOLD = 1e-2  # a pivot is at least this part of the largest in its column, in every sample
_EXAMPLES = 5  # of the matrices to come, from the first to the last
_SEARCHED = 4  # rows that are looked through for each pivot, at most
_GOOD = 1e-10  # the residual of a solution over what its row could add up to
_KEPT = 64
_NONE, _EMPTY, _HOLLOW = np.empty(0), np.empty((0, 0)), np.empty((0, 0, 0))
Numbers = NDArray[Any]


def _filled_up(some: Numbers) -> Numbers:
    """As many as the kernel takes at once, the last standing in for those that are wanting."""
    wanting = WIDE - some.shape[-1]
    return some if wanting <= 0 else np.concatenate([some, np.repeat(some[..., -1:], wanting, axis=-1)], axis=-1)


class Pattern:
    """Where the entries of a matrix may be other than zero, and how to eliminate it.

    ``rows`` and ``columns`` (entries,) list the places; ``solve`` takes the values there.
    """

    def __init__(self, filled: NDArray[np.bool_]) -> None:
        self.size = len(filled)
        self.rows, self.columns = (np.ascontiguousarray(places) for places in np.nonzero(filled))
        self._order: Order | None = None  # put in its place whole, so that threads may share it

    def _plan(self, values: Numbers) -> Order:
        """Choose the order with ``values`` (entries, samples) as examples of the matrices to come.

        Among the rows with the fewest entries left, the pivot that touches the fewest others (Z. Zlatev, "On some
        pivotal strategies in Gaussian elimination by sparse technique", SIAM J. Numer. Anal. 17 (1980), p. 18).
        Raises numpy's LinAlgError where there is none.
        """
        order: Order = plan(self.size, self.rows, self.columns, np.ascontiguousarray(values), _THRESHOLD, _SEARCHED)
        if len(order.steps) < self.size:
            raise np.linalg.LinAlgError("singular")
        return order

    def solve(self, values: Numbers, rhs: Numbers) -> Numbers:
        """x (size, columns, batch) of A x = rhs, with ``values`` (entries, batch) and rhs (size, columns, batch
        or 1).

        Raises numpy's LinAlgError where a matrix is singular.
        """
        count = values.shape[1]
        whole = _filled_up(values)
        parts = whole.real, whole.imag if np.iscomplexobj(values) else None
        return self._solved(parts, _NONE, rhs, count, lambda which: values[:, which])

    def sweep(self, g: Array, c: Array, omega: Array, rhs: Numbers) -> Numbers:
        """x (size, columns, frequencies) of (G + j omega C) x = rhs, with ``g`` and ``c`` (entries,), ``omega``
        (frequencies,) and rhs (size, columns, frequencies or 1).

        Raises numpy's LinAlgError where a matrix is singular.
        """
        parts = g[:, None], c[:, None]
        return self._solved(
            parts, _filled_up(omega), rhs, len(omega), lambda which: g[:, None] + 1j * c[:, None] * omega[which]
        )

    def _solved(
        self, parts: tuple[Array, Array | None], turning: Array, rhs: Numbers, count: int,
        some: Callable[[Any], Numbers],
    ) -> Numbers:  # fmt: skip
        """The solutions of ``count`` matrices, whose values are given as the kernel takes them, filled up; ``some``
        gives those of some of them."""
        imaginary = parts[1]
        if imaginary is None and np.iscomplexobj(rhs):
            imaginary = np.zeros_like(parts[0])
        real = imaginary is None
        matrices = bundle(
            Matrices, self.rows, self.columns, parts[0], _EMPTY if imaginary is None else imaginary, turning
        )
        filled = rhs if rhs.shape[2] == 1 else _filled_up(rhs)
        sides = bundle(Sides, filled.real, _HOLLOW if real else filled.imag)
        solved = np.empty((*rhs.shape[:2], max(count, WIDE)))
        x = Sides(solved, _HOLLOW if real else np.empty_like(solved))
        for attempt in range(2):
            order = self._order
            if order is None:
                picks = sorted({k * (count - 1) // (_EXAMPLES - 1) for k in range(_EXAMPLES)})
                order = self._order = self._plan(some(picks))
            bad = np.zeros(solved.shape[2], dtype=bool)
            eliminate(order, matrices, sides, _GOOD, x, bad)
            bad = bad[:count]
            failed = np.count_nonzero(bad)
            if attempt or failed <= 0.1 * count:
                break
            self._order = None  # it was chosen for other values: choose again
        solution: Numbers = solved[..., :count]
        if not real:
            solution = np.empty((*rhs.shape[:2], count), dtype=complex)
            solution.real, solution.imag = x.real[..., :count], x.imaginary[..., :count]
        if failed:
            values = some(bad)
            dense = np.zeros((failed, self.size, self.size), dtype=values.dtype)
            dense[:, self.rows, self.columns] = values.T
            columns = np.moveaxis(np.broadcast_to(rhs, solution.shape)[..., bad], 2, 0)
            solution[..., bad] = np.moveaxis(np.linalg.solve(dense, columns), 0, 2)
        return solution

    @lazily
    def place(self) -> NDArray[np.int_]:
        """Which entry is at each place, (size, size); -1 for none."""
        place = np.full((self.size, self.size), -1)
        place[self.rows, self.columns] = np.arange(len(self.rows))
        return place


_patterns: LRUCache[bytes, Pattern] = LRUCache(maxsize=_KEPT)
_lock = Lock()


def pattern(filled: NDArray[np.bool_]) -> Pattern:
    """The pattern of ``filled`` (size, size), with its order of elimination if it has been met before."""
    key = len(filled).to_bytes(4, "big") + np.packbits(filled).tobytes()
    with _lock:
        result = _patterns[key] = _patterns.get(key) or Pattern(filled)
    return result


def forget() -> None:
    """Forget every order of elimination that was worked out."""
    with _lock:
        _patterns.clear()
