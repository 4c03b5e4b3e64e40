"""Maps that are not affine: of a tilted plane, and of a field that optics bend."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from ulvar.engine import F64Array, powers_of
from ulvar.registration.transform import UNFITTED, Fit, PixelMap, Transform, Undone

_ORDERS = {"quadratic": 2, "cubic": 3}


def powers(u: F64Array, v: F64Array, order: int) -> F64Array:
    """Return the products of powers of two coordinates up to an order, the constant first, shape (..., terms)."""
    of_u, of_v = powers_of(u, order), powers_of(v, order)
    return np.stack([of_u[n - k] * of_v[k] for n in range(order + 1) for k in range(n + 1)], axis=-1)


@dataclass(frozen=True)
class Projective(PixelMap):
    """A plane seen from another side.

    Attributes
    ----------
    matrix : float64 array, shape (3, 3)
        Of homogeneous coordinates: ``(X, Y) = (m[0] @ p, m[1] @ p) / (m[2] @ p)`` for ``p = (x, y, 1)``.
    fit : Fit
    """

    matrix: F64Array
    fit: Fit = UNFITTED

    @property
    def kind(self) -> str:
        """What it can follow, in one word."""
        return "projective"

    def __call__(self, x: F64Array, y: F64Array) -> tuple[F64Array, F64Array]:
        """Map positions [px]."""
        a, b, w = (row[0] * x + row[1] * y + row[2] for row in self.matrix)
        return a / w, b / w

    def inverse(self) -> Projective:
        """Return the map back."""
        return Projective(np.asarray(np.linalg.inv(self.matrix)), self.fit)

    def then(self, other: PixelMap) -> PixelMap:
        """Return this map followed by another; what it was fitted to stays that of this one."""
        if not isinstance(other, Transform):
            return super().then(other)
        return Projective(np.vstack([other.matrix, [0.0, 0.0, 1.0]]) @ self.matrix, self.fit)


@dataclass(frozen=True)
class Polynomial(PixelMap):
    """A polynomial of order 2 or 3 in each coordinate.

    Attributes
    ----------
    coefficients : float64 array, shape (2, terms)
        Of X and Y for `powers` of ``((x - centre) / half)``.
    centre : (float, float)
    half : float
        [px]
    fit : Fit
    """

    coefficients: F64Array
    centre: tuple[float, float]
    half: float
    fit: Fit = UNFITTED

    @property
    def order(self) -> int:
        """2 or 3."""
        return 2 if self.coefficients.shape[1] == 6 else 3

    @property
    def kind(self) -> str:
        """What it can follow, in one word."""
        return "quadratic" if self.order == 2 else "cubic"

    def __call__(self, x: F64Array, y: F64Array) -> tuple[F64Array, F64Array]:
        """Map positions [px]."""
        u, v = (np.asarray(x) - self.centre[0]) / self.half, (np.asarray(y) - self.centre[1]) / self.half
        terms = powers(u, v, self.order)
        return terms @ self.coefficients[0], terms @ self.coefficients[1]

    def inverse(self) -> PixelMap:
        """Return the map back."""
        return Undone(self, self.affine_at(*self.centre).inverse())

    def then(self, other: PixelMap) -> PixelMap:
        """Return this map followed by another; what it was fitted to stays that of this one."""
        if not isinstance(other, Transform):
            return super().then(other)
        coefficients = other.matrix[:, :2] @ self.coefficients
        coefficients[:, 0] += other.matrix[:, 2]
        return Polynomial(coefficients, self.centre, self.half, self.fit)


def map_values(of: PixelMap) -> dict[str, Any] | None:
    """Return what tells a bent map in a stored row; None for an affine one, which its matrix tells.

    Raises
    ------
    ValueError
        For a map that is no fit to stars.
    """
    if isinstance(of, Transform):
        return None
    if isinstance(of, Projective):
        return {"kind": of.kind, "matrix": of.matrix.tolist()}
    if isinstance(of, Polynomial):
        return {
            "kind": of.kind, "coefficients": of.coefficients.tolist(), "centre": list(of.centre), "half": of.half,
        }  # fmt: skip
    raise ValueError(f"a map of the kind {type(of).__name__} is not stored")


def stored_map(matrix: Any, bent: Mapping[str, Any] | None, fit: Fit | None = None) -> PixelMap:
    """Return the map that a row tells.

    Parameters
    ----------
    matrix : array-like, shape (2, 3)
    bent : mapping, optional
        As `map_values` gave it.
    fit : Fit, optional

    Raises
    ------
    ValueError
        If the row does not tell a map.
    """
    known = fit or UNFITTED
    try:
        if bent is None:
            return Transform(np.array(matrix, dtype=np.float64).reshape(2, 3), known)
        if bent["kind"] == "projective":
            return Projective(np.array(bent["matrix"], dtype=np.float64).reshape(3, 3), known)
        terms = (_ORDERS[bent["kind"]] + 1) * (_ORDERS[bent["kind"]] + 2) // 2
        x, y = bent["centre"]
        half = float(bent["half"])
        if not half > 0 or not math.isfinite(half):
            raise ValueError("a map without a size")
        coefficients = np.array(bent["coefficients"], dtype=np.float64).reshape(2, terms)
        return Polynomial(coefficients, (float(x), float(y)), half, known)
    except (KeyError, TypeError) as error:
        raise ValueError("the row does not tell a map of pixels") from error
