"""Comparison stars weighed by how steady they are, each compared with the mean of the others."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import BoolArray, F64Array
from ulvar.frames import MAD_TO_SIGMA, row_medians


@dataclass(frozen=True)
class Weighed:
    """Weights, and what they were found by.

    Attributes
    ----------
    weights : float64 array, shape (stars,)
        Sum 1.
    level : float64 array, shape (stars,)
        Median flux [ADU]; NaN for a star without a measurement.
    relative, variance : float64 array, shape (stars, exposures)
        Flux over level, and its variance; NaN where unknown.
    scatter, expected : float64 array, shape (stars,)
        Of each star against the rest, relative: robust, and as the errors promise (NaN without errors).
    curves : float64 array, shape (stars, exposures)
        Each star relative to the rest, median 1.
    """

    weights: F64Array
    level: F64Array
    relative: F64Array
    variance: F64Array
    scatter: F64Array
    expected: F64Array
    curves: F64Array


def weigh(flux: F64Array, error: F64Array, *, use: BoolArray | None = None, out: BoolArray | None = None) -> Weighed:
    """Weigh stars by inverse variance, iterated with each star's own scatter against the rest.

    Parameters
    ----------
    flux, error : float64 array, shape (stars, exposures)
        [ADU]; NaN where unknown.
    use : bool array, shape (exposures,), optional
        Exposures that stars are weighed by.
    out : bool array, shape (stars,), optional
        Stars that get a curve but no weight.

    Raises
    ------
    ValueError
        If there is no star with a measurement.
    """
    positive = np.where(flux > 0, flux, np.nan)
    judged = slice(None) if use is None else np.asarray(use)
    level = row_medians(positive[:, judged]) if flux.size else np.empty(0)
    allowed = np.isfinite(level) if out is None else np.isfinite(level) & ~out
    if not allowed.any():
        raise ValueError("there is no comparison star with a measurement")
    scale = np.where(np.isfinite(level), level, 1.0)[:, None]
    every, every_variance = positive / scale, (error / scale) ** 2
    relative, variance = every[:, judged], every_variance[:, judged]
    promised = np.sqrt(row_medians(variance))
    filled = np.where(np.isfinite(variance), variance, 0.0)
    # Brighter stars have less noise: a start that is good enough to iterate from.
    weights = np.where(allowed, np.nan_to_num(level, nan=0.0), 0.0)
    weights = weights / weights.sum()
    scatter = np.full(len(flux), math.nan)
    for _ in range(30):
        scatter = _robust_scatter(against_rest(relative, weights))
        if allowed.sum() == 1:
            break
        # A star cannot be steadier than its photons: the promise is a floor against a lucky run.
        floor = np.where(np.isfinite(promised), promised, 0.0)
        sigma = np.maximum(np.nan_to_num(scatter, nan=np.inf), np.maximum(floor, 1e-6))
        new = np.where(allowed, 1 / sigma**2, 0.0)
        if new.sum() <= 0:
            break
        new = new / new.sum()
        settled = np.abs(new - weights).max() < 1e-5
        weights = new
        if settled:
            break
    expected = _expected(promised, filled, weights, relative)
    return Weighed(weights, level, every, every_variance, scatter, expected, against_rest(every, weights))


def row_deviations(values: F64Array) -> tuple[F64Array, F64Array]:
    """Return how far each value is from its row's median, and each row's standard deviation by the median of that."""
    off = np.abs(np.where(np.isfinite(values), values, np.nan) - row_medians(values)[:, None])
    return off, MAD_TO_SIGMA * row_medians(off)


def mix(relative: F64Array, variance: F64Array, weights: F64Array) -> tuple[F64Array, F64Array]:
    """Weighted mean over the stars present at each time, and its error."""
    present = np.isfinite(relative) & (weights[:, None] > 0)
    w = np.where(present, weights[:, None], 0.0)
    total = w.sum(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        value = (w * np.where(present, relative, 0.0)).sum(axis=0) / total
        error = np.sqrt((w**2 * np.where(present, variance, 0.0)).sum(axis=0)) / total
    return value, error


def against_rest(relative: F64Array, weights: F64Array) -> F64Array:
    """Return each star over the weighted mean of all others, median 1, shape (stars, exposures); NaN where there is no other."""
    present = np.isfinite(relative) & (weights[:, None] > 0)
    w = np.where(present, weights[:, None], 0.0)
    light = w * np.where(present, relative, 0.0)
    rest = w.sum(axis=0) - w
    # What is left of a sum after its only part is taken off is rounding.
    rest = np.where(rest > 1e-9 * np.maximum(w.sum(axis=0), 1e-300), rest, np.nan)
    with np.errstate(divide="ignore", invalid="ignore"):
        curves = relative * rest / (light.sum(axis=0) - light)
    return np.asarray(curves / row_medians(curves)[:, None])


def _robust_scatter(curves: F64Array) -> F64Array:
    # The larger of a robust and a plain figure would punish one bad point; the robust one is for weights.
    return np.where(np.isfinite(curves).sum(axis=1) >= 3, row_deviations(curves)[1], np.nan)


def _expected(promised: F64Array, variance: F64Array, weights: F64Array, relative: F64Array) -> F64Array:
    present = np.isfinite(relative) & (weights[:, None] > 0)
    w = np.where(present, weights[:, None], 0.0)
    squares = w**2 * variance
    rest = w.sum(axis=0) - w
    with np.errstate(divide="ignore", invalid="ignore"):
        spread = np.sqrt(np.maximum(squares.sum(axis=0) - squares, 0.0)) / np.where(rest > 1e-9, rest, np.nan)
    return np.asarray(np.hypot(promised, row_medians(spread)))
