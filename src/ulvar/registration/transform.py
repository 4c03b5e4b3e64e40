"""Maps from one exposure's pixels to another's."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array, I64Array


@dataclass(frozen=True)
class Transform:
    """An affine pixel map with its residuals.

    Attributes
    ----------
    matrix : float64 array, shape (2, 3)
        ``(X, Y) = matrix[:, :2] @ (x, y) + matrix[:, 2]``, both 0-based.
    rms_px : float
        Root mean square residual per axis of the matched stars [px of the target].
    matched : int
        Stars that the fit kept.
    pairs : int64 array, shape (matched, 2)
        Indices of matched stars (source, target).
    residuals : float64 array, shape (matched, 2)
        Target minus mapped source [px].
    """

    matrix: F64Array
    rms_px: float = 0.0
    matched: int = 0
    pairs: I64Array | None = None
    residuals: F64Array | None = None

    @classmethod
    def identity(cls) -> Transform:
        """Return the map that changes nothing."""
        return cls(np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]]))

    def __call__(self, x: F64Array, y: F64Array) -> tuple[F64Array, F64Array]:
        """Map positions [px]."""
        m = self.matrix
        return m[0, 0] * x + m[0, 1] * y + m[0, 2], m[1, 0] * x + m[1, 1] * y + m[1, 2]

    def inverse(self) -> Transform:
        """Return the map back."""
        linear = np.linalg.inv(self.matrix[:, :2])
        shift = -linear @ self.matrix[:, 2]
        return Transform(np.column_stack([linear, shift]), self.rms_px, self.matched)

    def then(self, other: Transform) -> Transform:
        """Return this map followed by another; residuals stay those of this one."""
        linear = other.matrix[:, :2] @ self.matrix[:, :2]
        shift = other.matrix[:, :2] @ self.matrix[:, 2] + other.matrix[:, 2]
        return Transform(np.column_stack([linear, shift]), self.rms_px, self.matched)

    def area(self, x: F64Array, y: F64Array) -> F64Array:
        """Return how many pixels of the target one of the source covers at positions [px]."""
        return np.full(np.broadcast(x, y).shape, abs(float(np.linalg.det(self.matrix[:, :2]))))

    def along_rows(self, columns: F64Array, rows: F64Array, shear: float) -> F64Array | None:
        """Return, for columns of the source and rows of the target, the places in the target's rows where they cross [px].

        Parameters
        ----------
        columns : float64 array, shape (n,)
            x in the source.
        rows : float64 array, shape (m,)
            y in the target.
        shear : float
            How far a column may lean, and the target's row with it [px a px].

        Returns
        -------
        float64 array of shape (m, n), or None where the map leans more.
        """
        (a, b, c), (d, e, f) = self.matrix
        if e == 0 or abs(b / e) > shear or abs(d / e) > shear:
            return None
        x = columns[None, :]
        y = (rows[:, None] - d * x - f) / e
        return a * x + b * y + c

    @property
    def scale(self) -> float:
        """Length of a target pixel step per source pixel."""
        return math.sqrt(abs(float(np.linalg.det(self.matrix[:, :2]))))

    @property
    def rotation_deg(self) -> float:
        """Rotation of the x axis [deg]."""
        return math.degrees(math.atan2(self.matrix[1, 0], self.matrix[0, 0]))

    @property
    def mirrored(self) -> bool:
        """Whether the map turns the image over."""
        return bool(np.linalg.det(self.matrix[:, :2]) < 0)


def fit_transform(
    source: F64Array,
    target: F64Array,
    *,
    weights: F64Array | None = None,
    similarity: bool = False,
    mirrored: bool = False,
) -> F64Array:
    """Least-squares affine (or similarity) matrix, shape (2, 3), from matched positions.

    Parameters
    ----------
    source, target : float64 array, shape (n, 2)
        Matched positions; three or more for an affine fit, two or more for a similarity.
    weights : float64 array, shape (n,), optional
    similarity : bool
        Rotation, one scale and shift.
    mirrored : bool
        Whether the similarity turns the image over; an affine fit finds that itself.

    Raises
    ------
    ValueError
        With too few positions.
    """
    n = len(source)
    if n < (2 if similarity else 3):
        raise ValueError("too few matched stars for a fit")
    w = np.ones(n) if weights is None else np.sqrt(weights)
    # Coordinates are centred first: raw pixel numbers make the normal equations needlessly stiff.
    ms, mt = source.mean(axis=0), target.mean(axis=0)
    s, t = source - ms, target - mt
    # Turned over first, what is left of a mirrored similarity is a plain one.
    flip = np.array([1.0, -1.0 if similarity and mirrored else 1.0])
    s = s * flip
    if similarity:
        rows = np.zeros((2 * n, 4))
        rows[0::2] = np.column_stack([s[:, 0], -s[:, 1], np.ones(n), np.zeros(n)])
        rows[1::2] = np.column_stack([s[:, 1], s[:, 0], np.zeros(n), np.ones(n)])
        ww = np.repeat(w, 2)
        (a, b, dx, dy), *_ = np.linalg.lstsq(rows * ww[:, None], t.reshape(-1) * ww, rcond=None)
        linear, shift = np.array([[a, -b], [b, a]]) * flip, np.array([dx, dy])
    else:
        rows = np.column_stack([s, np.ones(n)])
        solution, *_ = np.linalg.lstsq(rows * w[:, None], t * w[:, None], rcond=None)
        linear, shift = solution[:2].T, solution[2]
    return np.column_stack([linear, shift + mt - linear @ ms])
