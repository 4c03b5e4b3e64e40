"""Which stars lie near a place, from cells that are as wide as one looks."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array


@dataclass(frozen=True, eq=False)
class Lookup:
    """Points sorted into cells.

    Attributes
    ----------
    points : float64 array, shape (n, 2)
        Cell by cell.
    order : int array, shape (n,)
        Which each was before.
    starts : int array, shape (cells + 1,)
        First point of each cell, row by row.
    low : float64 array, shape (2,)
        Lowest coordinates.
    cell : float
        Width of a cell: one may look so far.
    shape : tuple of int
        Columns and rows.
    """

    points: F64Array
    order: np.ndarray
    starts: np.ndarray
    low: F64Array
    cell: float
    shape: tuple[int, int]

    @classmethod
    def of(cls, points: F64Array, reach: float) -> Lookup:
        """Sort one or more points, shape (n, 2), for looks as far as `reach`."""
        low, span = points.min(axis=0), np.ptp(points, axis=0)
        # About one point a cell where they lie apart; never more than so many cells, however far out one of them is.
        cell = max(reach, math.sqrt(float(span[0] * span[1]) / len(points)), float(span.max()) / 4096, 1e-300)
        shape = int(span[0] / cell) + 1, int(span[1] / cell) + 1
        column, row = np.minimum(((points - low) / cell).astype(np.int64), np.array(shape) - 1).T
        which = row * shape[0] + column
        order = np.argsort(which, kind="stable")
        starts = np.zeros(shape[0] * shape[1] + 1, dtype=np.int64)
        np.cumsum(np.bincount(which, minlength=shape[0] * shape[1]), out=starts[1:])
        return cls(np.ascontiguousarray(points[order]), order, starts, low, cell, shape)

    @property
    def cells(self) -> tuple[F64Array, np.ndarray, F64Array, float, tuple[int, int]]:
        """What the kernels take."""
        return self.points, self.starts, self.low, self.cell, self.shape

    def within(self, places: F64Array, reach: float) -> tuple[np.ndarray, np.ndarray]:
        """Return which places, shape (m, 2), and which points are no farther apart than `reach`, as pairs of indices."""
        from ulvar.registration._kernels_matching import stars_within

        counts = np.empty(len(places), dtype=np.int64)
        found = np.empty(stars_within(places, *self.cells, reach, counts, counts[:0]), dtype=np.int64)
        stars_within(places, *self.cells, reach, counts, found)
        return np.repeat(np.arange(len(places)), counts), self.order[found]
