"""Levels that differ over the frame: moonlight and haze change from exposure to exposure, the sky behind them does not."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ulvar.combine import RowsOf
from ulvar.engine import F32Array, F64Array
from ulvar.frames.noise import robust_spread

# Of the surface that one exposure's level differs from another's by.
_ORDER = 3
# Places in a row, about, at which levels are compared.
_PLACES = 32


@dataclass(frozen=True)
class Surface:
    """A polynomial over a picture: ``sum coefficients[k] x^i y^j``, x and y from -1 to 1 over it [ADU].

    Attributes
    ----------
    coefficients : tuple of float
        Constant first, then by rising order.
    order : int
    """

    coefficients: tuple[float, ...]
    order: int

    def rows(self, y0: int, y1: int, shape: tuple[int, int]) -> F32Array:
        """Return rows of a picture of a shape (height, width)."""
        height, width = shape
        x = 2 * np.arange(width) / max(width - 1, 1) - 1
        y = 2 * np.arange(y0, y1) / max(height - 1, 1) - 1
        # By rows it is a polynomial in x whose numbers are polynomials in y.
        rising = np.zeros((self.order + 1, y1 - y0))
        for c, (i, j) in zip(self.coefficients, _powers(self.order)):
            rising[i] += c * y**j
        total = np.zeros((y1 - y0, width))
        for i in reversed(range(self.order + 1)):
            total = total * x + rising[i][:, None]
        return total.astype(np.float32)


def _powers(order: int) -> list[tuple[int, int]]:
    return [(n - k, k) for n in range(order + 1) for k in range(n + 1)]


@dataclass
class SurfaceRows(RowsOf):
    """A source with a factor applied and a surface added: ``rows * factor + surface``.

    The surface is told over a picture of a shape (height, width), of which the source is the part that begins at a column
    and a row; without a shape it is all of it.
    """

    factor: float
    surface: Surface
    corner: tuple[int, int] = (0, 0)
    shape: tuple[int, int] | None = None

    def rows(self, y0: int, y1: int) -> F32Array:
        """Return rows ``y0 <= y < y1``."""
        band = self.source.rows(y0, y1)
        band *= np.float32(self.factor)
        left, low = self.corner
        added = self.surface.rows(y0 + low, y1 + low, self.shape or (self.height, self.width))
        band += added[:, left : left + self.width]
        return band


def level_places(shape: tuple[int, int]) -> tuple[np.ndarray, np.ndarray]:
    """Return rows and columns of a picture (height, width) at which levels are compared, evenly strewn."""
    step = max(1, max(shape) // _PLACES)
    return np.arange(step // 2, shape[0], step), np.arange(step // 2, shape[1], step)


def level_difference(
    own: F32Array, reference: F32Array, factor: float, shape: tuple[int, int], constant: float
) -> Surface:
    """Return what is added to an exposure, after its factor, for its level to be the reference's all over the frame.

    Parameters
    ----------
    own, reference : float32 array, shape (rows, columns)
        Levels at `level_places` [ADU]; NaN where there is no data.
    factor : float
    shape : (int, int)
        Height and width of the picture [px].
    constant : float
        What is added where too little of both is known.

    Notes
    -----
    The sky behind is in both, nebulae too, and goes out of the difference: a surface through it needs no mask. Places that lie
    off it by more than four spreads are taken out.
    """
    rows, columns = level_places(shape)
    x, y = np.meshgrid(2 * columns / max(shape[1] - 1, 1) - 1, 2 * rows / max(shape[0] - 1, 1) - 1)
    difference = (reference.astype(np.float64) - factor * own).ravel()
    known = np.isfinite(difference)
    for order in range(_ORDER, -1, -1):
        powers = _powers(order)
        if known.sum() < 4 * len(powers):
            continue
        terms = np.stack([x.ravel() ** i * y.ravel() ** j for i, j in powers], axis=1)
        keep = known
        found: F64Array = np.zeros(len(powers))
        for _ in range(10):
            found = np.asarray(np.linalg.lstsq(terms[keep], difference[keep], rcond=None)[0], dtype=np.float64)
            residual = np.abs(difference - terms @ found)
            new = known & (residual <= 4 * robust_spread(residual[keep], about=0.0) + 1e-6)
            if (new == keep).all() or new.sum() < 3 * len(powers):
                break
            keep = new
        return Surface(tuple(float(c) for c in found), order)
    return Surface((constant,), 0)
