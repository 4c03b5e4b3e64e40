"""The comparison ensemble: comparisons weighted by how steady they are, each tested against the others."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import BoolArray, F64Array
from ulvar.frames import robust_spread


@dataclass(frozen=True)
class Ensemble:
    """An artificial comparison star.

    Attributes
    ----------
    names : tuple of str
    weights : float64 array, shape (stars,)
        Sum 1.
    flux, error : float64 array, shape (exposures,)
        Ensemble flux on the scale of the sum of the comparisons, and its standard error [ADU]; NaN where no
        comparison was measured.
    scatter : float64 array, shape (stars,)
        Of each star against the rest of the ensemble, relative.
    expected : float64 array, shape (stars,)
        What the errors promise, relative; NaN without errors.
    von_neumann : float64 array, shape (stars,)
        Mean squared successive difference over variance: 2 for white noise, lower for a slow variable.
    suspects : tuple of str
        Stars that vary more than their errors and the other comparisons say.
    curves : float64 array, shape (stars, exposures)
        Each star relative to the rest, mean 1.
    """

    names: tuple[str, ...]
    weights: F64Array
    flux: F64Array
    error: F64Array
    scatter: F64Array
    expected: F64Array
    von_neumann: F64Array
    suspects: tuple[str, ...]
    curves: F64Array


def _row_medians(values: F64Array) -> F64Array:
    """Median of each row's finite values; NaN for a row without any."""
    return np.array([np.median(row[np.isfinite(row)]) if np.isfinite(row).any() else math.nan for row in values])


def _mix(relative: F64Array, variance: F64Array, weights: F64Array) -> tuple[F64Array, F64Array]:
    """Weighted mean over the stars present at each time, and its error."""
    present = np.isfinite(relative) & (weights[:, None] > 0)
    w = np.where(present, weights[:, None], 0.0)
    total = w.sum(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.where(present, relative, 0.0)
        value = (w * mean).sum(axis=0) / total
        error = np.sqrt((w**2 * np.where(present, variance, 0.0)).sum(axis=0)) / total
    return value, error


def build_ensemble(names: Sequence[str], flux: F64Array, error: F64Array, *, use: BoolArray | None = None) -> Ensemble:
    """Weigh comparison stars by inverse variance, iterated with each star's own scatter.

    Broeg et al. 2005, AN 326, 134: every star is compared with the weighted mean of the others; its scatter
    sets its weight; repeated until the weights rest.

    Parameters
    ----------
    names : sequence of str
    flux, error : float64 array, shape (stars, exposures)
        [ADU]; NaN where a star was not measured; errors may all be NaN.
    use : bool array, shape (exposures,), optional
        Exposures by which stars are weighed and judged; the others only get the ensemble's flux.

    Returns
    -------
    Ensemble

    Raises
    ------
    ValueError
        If there is no comparison star with a measurement.
    """
    positive = np.where(flux > 0, flux, np.nan)
    judged = slice(None) if use is None else np.asarray(use)
    level = _row_medians(positive[:, judged]) if flux.size else np.empty(0)
    if not np.isfinite(level).any():
        raise ValueError("there is no comparison star with a measurement")
    usable = np.isfinite(level)
    every = positive / np.where(usable, level, 1.0)[:, None]
    every_variance = (error / np.where(usable, level, 1.0)[:, None]) ** 2
    relative, variance = every[:, judged], every_variance[:, judged]
    promised = np.sqrt(_row_medians(variance))
    filled = np.where(np.isfinite(variance), variance, 0.0)
    # Brighter stars have less noise: a start that is good enough to iterate from.
    weights = np.where(usable, np.nan_to_num(level, nan=0.0), 0.0)
    weights = weights / weights.sum()
    scatter = np.full(len(names), math.nan)
    curves = np.full(relative.shape, math.nan)
    for _ in range(30):
        curves = _against_rest(relative, filled, weights)
        scatter = _robust_scatter(curves)
        if len(names) == 1:
            break
        # A star cannot be steadier than its photons: the promise is a floor against a lucky run.
        floor = np.where(np.isfinite(promised), promised, 0.0)
        sigma = np.maximum(np.nan_to_num(scatter, nan=np.inf), np.maximum(floor, 1e-6))
        new = np.where(usable, 1 / sigma**2, 0.0)
        if new.sum() <= 0:
            break
        new = new / new.sum()
        settled = np.abs(new - weights).max() < 1e-5
        weights = new
        if settled:
            break
    every_filled = np.where(np.isfinite(every_variance), every_variance, 0.0)
    value, spread = _mix(every, every_filled, weights)
    total = float(np.nansum(level))
    expected = _expected(promised, filled, weights, relative)
    neumann = _von_neumann(curves)
    return Ensemble(
        names=tuple(names), weights=weights, flux=value * total, error=spread * total, scatter=scatter,
        expected=expected, von_neumann=neumann, suspects=_suspects(names, scatter, expected, neumann),
        curves=curves if use is None else _against_rest(every, every_filled, weights),
    )  # fmt: skip


def _against_rest(relative: F64Array, variance: F64Array, weights: F64Array) -> F64Array:
    curves = np.full(relative.shape, math.nan)
    for k in range(len(relative)):
        rest = weights.copy()
        rest[k] = 0.0
        if rest.sum() <= 0:
            continue
        mixed, _ = _mix(relative, variance, rest)
        with np.errstate(invalid="ignore"):
            curve = relative[k] / mixed
        middle = np.nanmedian(curve) if np.isfinite(curve).any() else math.nan
        curves[k] = curve / middle
    return curves


def _robust_scatter(curves: F64Array) -> F64Array:
    result = np.full(len(curves), math.nan)
    for k, curve in enumerate(curves):
        good = curve[np.isfinite(curve)]
        if len(good) >= 3:
            # The larger of a robust and a plain figure would punish one bad point; the robust one is for weights.
            result[k] = robust_spread(good)
    return result


def _expected(promised: F64Array, variance: F64Array, weights: F64Array, relative: F64Array) -> F64Array:
    result = np.full(len(promised), math.nan)
    for k in range(len(promised)):
        rest = weights.copy()
        rest[k] = 0.0
        if rest.sum() <= 0 or not math.isfinite(promised[k]):
            continue
        _, spread = _mix(relative, variance, rest)
        result[k] = math.hypot(promised[k], float(np.nanmedian(spread)))
    return result


def _von_neumann(curves: F64Array) -> F64Array:
    result = np.full(len(curves), math.nan)
    for k, curve in enumerate(curves):
        good = curve[np.isfinite(curve)]
        if len(good) >= 8 and np.var(good) > 0:
            result[k] = float(np.mean(np.diff(good) ** 2) / np.var(good, ddof=1))
    return result


def _suspects(names: Sequence[str], scatter: F64Array, expected: F64Array, neumann: F64Array) -> tuple[str, ...]:
    """Name stars that stand out; with fewer than three nobody can say which one it is."""
    finite = np.isfinite(scatter)
    if finite.sum() < 3:
        return ()
    ratio = scatter / np.where(np.isfinite(expected), expected, np.nanmedian(scatter))
    typical = float(np.nanmedian(ratio))
    found = []
    for k, name in enumerate(names):
        if not math.isfinite(ratio[k]):
            continue
        loud = ratio[k] > 1.8 and ratio[k] > 1.8 * typical
        slow = math.isfinite(neumann[k]) and neumann[k] < 1.3
        if (loud and slow) or ratio[k] > 4 * max(1.0, typical):
            found.append(name)
    return tuple(found)
