"""Maps from one exposure's pixels to another's."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass

import numpy as np

from ulvar.engine import F64Array, I64Array

# A place is solved for until it stays within this [px], or so many times.
_CLOSE_PX, _ROUNDS = 1e-7, 30


@dataclass(frozen=True)
class Fit:
    """What a map was fitted to.

    Attributes
    ----------
    rms_px : float
        Root mean square residual per axis of the matched stars [px of the target].
    matched : int
        Stars that the fit kept.
    pairs : int64 array, shape (matched, 2)
        Indices of matched stars (source, target).
    residuals : float64 array, shape (matched, 2)
        Target minus mapped source [px].
    tried : tuple of (str, float)
        Kinds of map and how far each misses a star that it was not fitted to, per axis [px], the simplest first.
    """

    rms_px: float = 0.0
    matched: int = 0
    pairs: I64Array | None = None
    residuals: F64Array | None = None
    tried: tuple[tuple[str, float], ...] = ()


UNFITTED = Fit()


@dataclass(frozen=True)
class PixelMap(ABC):
    """A way from the pixels of one exposure, 0-based, to those of another."""

    @property
    @abstractmethod
    def fit(self) -> Fit:
        """What it was fitted to."""

    @property
    @abstractmethod
    def kind(self) -> str:
        """What it can follow, in one word."""

    @abstractmethod
    def __call__(self, x: F64Array, y: F64Array) -> tuple[F64Array, F64Array]:
        """Map positions [px]."""

    @abstractmethod
    def inverse(self) -> PixelMap:
        """Return the map back."""

    def then(self, other: PixelMap) -> PixelMap:
        """Return this map followed by another; what it was fitted to stays that of this one."""
        return Chained(self, other)

    def slopes(self, x: F64Array, y: F64Array) -> F64Array:
        """Return how the target's pixels change with the source's at positions, shape (2, 2, ...)."""
        right, left, above, below = zip(*self(np.stack([x + 0.5, x - 0.5, x, x]), np.stack([y, y, y + 0.5, y - 0.5])))
        return np.array([[right[k] - left[k], above[k] - below[k]] for k in range(2)])

    def linear_at(self, x: float, y: float) -> F64Array:
        """Return the affine matrix, shape (2, 3), that is the map close to a position [px]."""
        at = np.array([[x]]), np.array([[y]])
        linear = self.slopes(*at)[:, :, 0, 0]
        place = np.array([v[0, 0] for v in self(*at)])
        return np.column_stack([linear, place - linear @ (x, y)])

    def affine_at(self, x: float, y: float) -> Transform:
        """Return the affine map that it is close to a position [px]."""
        return Transform(self.linear_at(x, y), self.fit)

    def at_middle(self, width: int, height: int) -> Transform:
        """Return the affine map that it is close to the middle of an exposure of a size [px]."""
        return self.affine_at((width - 1) / 2, (height - 1) / 2)

    def area(self, x: F64Array, y: F64Array) -> F64Array:
        """Return how many pixels of the target one of the source covers at positions [px]."""
        (a, b), (c, d) = self.slopes(x, y)
        return np.abs(a * d - b * c)

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
        x, row = np.broadcast_arrays(columns[None, :], rows[:, None])
        (_, _, _), (d, e, f) = self.linear_at(float(columns.mean()), float(rows.mean()))
        if e == 0:
            return None
        y = (row - d * x - f) / e
        for _ in range(_ROUNDS):
            step = (row - self(x, y)[1]) / e
            y = y + step
            if np.abs(step).max() < _CLOSE_PX:
                break
        else:
            return None
        (_, b), (d, e) = self.slopes(x, y)
        if np.abs(b).max() > shear * np.abs(e).min() or np.abs(d).max() > shear * np.abs(e).min():
            return None
        return self(x, y)[0]

    @property
    def rms_px(self) -> float:
        """Root mean square residual per axis of the matched stars [px of the target]."""
        return self.fit.rms_px

    @property
    def matched(self) -> int:
        """Stars that the fit kept."""
        return self.fit.matched


@dataclass(frozen=True)
class Chained(PixelMap):
    """A map followed by another."""

    first: PixelMap
    second: PixelMap

    @property
    def fit(self) -> Fit:
        """What the first was fitted to."""
        return self.first.fit

    @property
    def kind(self) -> str:
        """What the first can follow."""
        return self.first.kind

    def __call__(self, x: F64Array, y: F64Array) -> tuple[F64Array, F64Array]:
        """Map positions [px]."""
        return self.second(*self.first(x, y))

    def inverse(self) -> PixelMap:
        """Return the map back."""
        return Chained(self.second.inverse(), self.first.inverse())


@dataclass(frozen=True)
class Undone(PixelMap):
    """The way back of a map that has none in closed form: places are solved for."""

    forth: PixelMap
    # The affine map that is the way back close to the middle of what it was made for.
    near: Transform

    @property
    def fit(self) -> Fit:
        """What the way forth was fitted to."""
        return self.forth.fit

    @property
    def kind(self) -> str:
        """What the way forth can follow."""
        return self.forth.kind

    def __call__(self, x: F64Array, y: F64Array) -> tuple[F64Array, F64Array]:
        """Map positions [px]; NaN where none is found."""
        linear = self.near.matrix[:, :2]
        u, v = self.near(x, y)
        with np.errstate(all="ignore"):
            for _ in range(_ROUNDS):
                fx, fy = self.forth(u, v)
                dx, dy = x - fx, y - fy
                su, sv = linear[0, 0] * dx + linear[0, 1] * dy, linear[1, 0] * dx + linear[1, 1] * dy
                u, v = u + su, v + sv
                far = np.maximum(np.abs(su), np.abs(sv))
                if not np.any(far > _CLOSE_PX):
                    break
            # Far outside a bent map turns back: there is no place that is carried there.
            lost = ~(far <= 1e-3)
        return np.where(lost, np.nan, u), np.where(lost, np.nan, v)

    def inverse(self) -> PixelMap:
        """Return the way forth."""
        return self.forth


@dataclass(frozen=True)
class Transform(PixelMap):
    """An affine map.

    Attributes
    ----------
    matrix : float64 array, shape (2, 3)
        ``(X, Y) = matrix[:, :2] @ (x, y) + matrix[:, 2]``.
    fit : Fit
    kind : str
        ``shift``, ``similarity`` or ``affine``.
    """

    matrix: F64Array
    fit: Fit = UNFITTED
    kind: str = "affine"

    @classmethod
    def identity(cls) -> Transform:
        """Return the map that changes nothing."""
        return cls.shift(0.0, 0.0)

    @classmethod
    def shift(cls, dx: float, dy: float) -> Transform:
        """Return the map that moves everything alike [px]."""
        return cls(np.array([[1.0, 0.0, dx], [0.0, 1.0, dy]]), kind="shift")

    def __call__(self, x: F64Array, y: F64Array) -> tuple[F64Array, F64Array]:
        """Map positions [px]."""
        m = self.matrix
        return m[0, 0] * x + m[0, 1] * y + m[0, 2], m[1, 0] * x + m[1, 1] * y + m[1, 2]

    def inverse(self) -> Transform:
        """Return the map back."""
        linear = np.linalg.inv(self.matrix[:, :2])
        shift = -linear @ self.matrix[:, 2]
        return Transform(np.column_stack([linear, shift]), self.fit, self.kind)

    def then(self, other: PixelMap) -> PixelMap:
        """Return this map followed by another; what it was fitted to stays that of this one."""
        if not isinstance(other, Transform):
            return super().then(other)
        linear = other.matrix[:, :2] @ self.matrix[:, :2]
        shift = other.matrix[:, :2] @ self.matrix[:, 2] + other.matrix[:, 2]
        return Transform(np.column_stack([linear, shift]), self.fit, self.kind)

    def slopes(self, x: F64Array, y: F64Array) -> F64Array:
        """Return how the target's pixels change with the source's at positions, shape (2, 2, ...)."""
        shape = np.broadcast(x, y).shape
        return np.broadcast_to(self.matrix[:, :2].reshape(2, 2, *(1 for _ in shape)), (2, 2, *shape))

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
