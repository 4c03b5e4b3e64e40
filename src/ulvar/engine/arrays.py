"""Names for the few array types that flow between rooms (one dtype policy for the whole house)."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import accumulate, chain
from operator import mul

import numpy as np
import numpy.typing as npt

F32Array = npt.NDArray[np.float32]
F64Array = npt.NDArray[np.float64]
I64Array = npt.NDArray[np.int64]
MaskArray = npt.NDArray[np.uint16]
BoolArray = npt.NDArray[np.bool_]


def powers_of(values: F64Array, most: int) -> list[F64Array]:
    """Return the powers of values from the 0th to that of order `most`: by products, many times as fast as powers."""
    return list(accumulate([values] * most, mul, initial=np.ones_like(values)))


def laid_end_to_end(lists: Sequence[Sequence[int]]) -> tuple[I64Array, I64Array]:
    """Return of lists of indices, such as neighbours of places, which list each index stands in, and the indices.

    Examples
    --------
    >>> [v.tolist() for v in laid_end_to_end([[4, 2], [], [7]])]
    [[0, 0, 2], [4, 2, 7]]
    """
    owner = np.repeat(np.arange(len(lists)), [len(one) for one in lists])
    return owner, np.fromiter(chain.from_iterable(lists), dtype=np.int64, count=len(owner))


def places_in_groups(group: np.ndarray) -> I64Array:
    """Return how many of the same group come before each item, int64 of the shape of `group` (items,).

    Examples
    --------
    >>> places_in_groups(np.array([7, 3, 7, 7, 3])).tolist()
    [0, 0, 1, 2, 1]
    """
    order = np.argsort(group, kind="stable")
    ordered = group[order]
    before = np.empty(len(group), dtype=np.int64)
    before[order] = np.arange(len(group)) - np.searchsorted(ordered, ordered, side="left")
    return before
