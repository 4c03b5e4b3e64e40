"""Which stars vary: each against the rest, in the light of what stars of its brightness scatter by."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import BoolArray, F64Array
from ulvar.frames import robust_spread
from ulvar.photometry.weighing import Weighed, weigh

# Fewer points or stars tell nothing.
_LEAST_POINTS, _LEAST_STARS = 8, 3
# Stars of about a star's brightness that tell what is usual, where there are so many.
_ALIKE = 15
# Scatter over what is usual, and deviations from it: alone, for slow changes, and where both speak.
_LOUD, _LOUD_SIGMA = 1.3, 6.0
# The same where no errors are known, among so many stars.
_LOUD_GUESSED, _MANY = 2.0, 20
_SLOW, _SLOW_SIGMA = 1.1, 6.0
_BOTH_SIGMA = 4.0
# A point this far off whose neighbours are not is a cosmic ray or a plane, no star [deviations].
_LONELY, _NEAR = 5.0, 3.0


@dataclass(frozen=True)
class Verdict:
    """How a star behaves against the rest.

    Attributes
    ----------
    name : str
    level : float
        Median flux [ADU].
    scatter : float
        Relative standard deviation against the rest, single far-off points apart.
    usual : float
        What a steady star of its brightness scatters by: its errors, or more where all stars of its brightness do.
    loud_sigma : float
        By how many deviations the scatter lies over that.
    von_neumann : float
        Mean squared successive difference over variance: 2 for white noise, less for slow changes.
    slow_sigma : float
        By how many deviations it lies under what is usual.
    trend, trend_sigma : float
        Change per hour (relative), and over its error; NaN without times.
    step, step_sigma : float
        Change where the telescope is turned over (relative), and over its error; NaN where it is not.
    varies : bool
    """

    name: str
    level: float
    scatter: float
    usual: float
    loud_sigma: float
    von_neumann: float
    slow_sigma: float
    trend: float
    trend_sigma: float
    step: float
    step_sigma: float
    varies: bool

    @property
    def ratio(self) -> float:
        """Scatter over what is usual."""
        return self.scatter / self.usual if self.usual > 0 else math.nan


def vet_stars(
    names: Sequence[str],
    flux: F64Array,
    error: F64Array,
    *,
    hours: F64Array | None = None,
    flipped: BoolArray | None = None,
) -> tuple[Verdict, ...]:
    """Judge stars that are taken for steady, each against the rest.

    The star that varies most surely is taken out of the rest first and all are judged again, until none is left that varies: it would
    lend its changes to the others.

    Parameters
    ----------
    names : sequence of str
    flux, error : float64 array, shape (stars, exposures)
        In the order of time [ADU]; NaN where a star was not measured; errors may all be NaN.
    hours : float64 array, shape (exposures,), optional
        Times [h].
    flipped : bool array, shape (exposures,), optional
        Whether the telescope was on its other side.

    Returns
    -------
    tuple of Verdict
        In the order of `names`; of fewer than three stars nobody can say which one varies.

    Notes
    -----
    The scatter of white noise from n points is known to 1 / sqrt(2 n); the ratio of von Neumann (1941, Ann. Math. Stat. 12, 367) has
    the variance 4 (n - 2) / (n^2 - 1).
    """
    out = np.zeros(len(names), dtype=bool)
    first = _judge(names, flux, error, out, hours, flipped)
    verdicts = first
    for _ in range(len(names) // 2):
        fresh = [k for k, v in enumerate(verdicts) if v.varies and not out[k]]
        if not fresh or len(names) - out.sum() <= _LEAST_STARS:
            break
        out[max(fresh, key=lambda k: _sure(verdicts[k]))] = True
        verdicts = _judge(names, flux, error, out, hours, flipped)
    return tuple(verdicts)


def _sure(verdict: Verdict) -> float:
    return float(np.nan_to_num(verdict.loud_sigma)) + float(np.nan_to_num(verdict.slow_sigma))


def _judge(
    names: Sequence[str],
    flux: F64Array,
    error: F64Array,
    out: BoolArray,
    hours: F64Array | None,
    flipped: BoolArray | None,
) -> list[Verdict]:
    try:
        weighed = weigh(flux, error, out=out)
    except ValueError:
        return [_nothing(name) for name in names]
    curves = np.array([_without_lonely(curve) for curve in weighed.curves])
    counts = np.isfinite(curves).sum(axis=1)
    scatter = np.array(
        [float(np.nanstd(c, ddof=1)) if n >= _LEAST_POINTS else math.nan for c, n in zip(curves, counts)]
    )
    usual = _usual(weighed, scatter, out)
    neumann = np.array([_von_neumann(curve) for curve in curves])
    with np.errstate(divide="ignore", invalid="ignore"):
        loud = np.log(scatter / usual) * np.sqrt(2.0 * counts)
        slow = (2.0 - neumann) / np.sqrt(4.0 * (counts - 2) / (counts**2 - 1.0))
    steady = ~out & np.isfinite(slow)
    if steady.sum() >= _LEAST_STARS:
        # What all stars have in common, of colour and air, is no star's own.
        slow = slow - max(0.0, float(np.median(slow[steady])))
    verdicts = []
    enough = int(np.isfinite(scatter).sum()) >= _LEAST_STARS
    for k, name in enumerate(names):
        trend, trend_sigma = _trend(curves[k], hours)
        step, step_sigma = _step(curves[k], flipped)
        ratio = scatter[k] / usual[k]
        # Without errors the usual scatter is a guess, by photons: only many stars of like brightness make it a sure one.
        least = _LOUD if np.isfinite(weighed.expected[k]) else _LOUD_GUESSED if steady.sum() >= _MANY else math.inf
        varies = enough and bool(
            (loud[k] > _LOUD_SIGMA and ratio > least)
            or (slow[k] > _SLOW_SIGMA and ratio > _SLOW)
            or (loud[k] > _BOTH_SIGMA and slow[k] > _BOTH_SIGMA and ratio > _SLOW)
        )
        verdicts.append(
            Verdict(
                name, float(weighed.level[k]), float(scatter[k]), float(usual[k]), float(loud[k]), float(neumann[k]), float(slow[k]),
                trend, trend_sigma, step, step_sigma, varies,
            )
        )  # fmt: skip
    return verdicts


def _nothing(name: str) -> Verdict:
    n = math.nan
    return Verdict(name, n, n, n, n, n, n, n, n, n, n, varies=False)


def _without_lonely(curve: F64Array) -> F64Array:
    """Return a curve without points that stand far off alone."""
    good = np.flatnonzero(np.isfinite(curve))
    if len(good) < _LEAST_POINTS:
        return curve
    values = curve[good]
    spread = robust_spread(values)
    off = np.abs(values - np.median(values)) / spread if spread > 0 else np.zeros(len(values))
    calm = np.r_[True, off < _NEAR, True]
    lonely = (off > _LONELY) & calm[:-2] & calm[2:]
    result = curve.copy()
    result[good[lonely]] = np.nan
    return result


def _usual(weighed: Weighed, scatter: F64Array, out: BoolArray) -> F64Array:
    """Return what steady stars of each star's brightness scatter by."""
    expected = weighed.expected.copy()
    unknown = ~np.isfinite(expected)
    if unknown.any():
        # Without errors: photons alone, on the scale of what is seen.
        with np.errstate(invalid="ignore", divide="ignore"):
            by_photons = 1 / np.sqrt(weighed.level)
            steady = ~out & np.isfinite(scatter)
            scale = float(np.median((scatter / by_photons)[steady])) if steady.any() else math.nan
        expected[unknown] = scale * by_photons[unknown]
    with np.errstate(invalid="ignore", divide="ignore"):
        ratio = scatter / expected
    steady = ~out & np.isfinite(ratio)
    if steady.sum() < _LEAST_STARS:
        return np.asarray(expected)
    brightness = np.log(np.where(weighed.level > 0, weighed.level, 1.0))
    typical = np.empty(len(expected))
    for k in range(len(expected)):
        others = np.flatnonzero(steady)
        if len(others) > _ALIKE:
            others = others[np.argsort(np.abs(brightness[others] - brightness[k]), kind="stable")[:_ALIKE]]
        typical[k] = np.median(ratio[others])
    # Errors that are told too large hide nothing; those that all stars exceed make none of them a variable.
    return np.asarray(expected * np.maximum(typical, 0.7))


def _von_neumann(curve: F64Array) -> float:
    good = curve[np.isfinite(curve)]
    if len(good) < _LEAST_POINTS or not np.var(good) > 0:
        return math.nan
    return float(np.mean(np.diff(good) ** 2) / np.var(good, ddof=1))


def _trend(curve: F64Array, hours: F64Array | None) -> tuple[float, float]:
    """Return the slope per hour and over its error."""
    if hours is None:
        return math.nan, math.nan
    good = np.isfinite(curve) & np.isfinite(hours)
    if good.sum() < _LEAST_POINTS or not np.ptp(hours[good]) > 0:
        return math.nan, math.nan
    at = hours[good] - hours[good].mean()
    slope = float((at * curve[good]).sum() / (at**2).sum())
    left = curve[good] - curve[good].mean() - slope * at
    error = math.sqrt(float((left**2).sum()) / (good.sum() - 2) / float((at**2).sum()))
    return slope, slope / error if error > 0 else math.nan


def _step(curve: F64Array, flipped: BoolArray | None) -> tuple[float, float]:
    """Return the change from one side of the telescope to the other and over its error."""
    if flipped is None:
        return math.nan, math.nan
    before, after = curve[~flipped & np.isfinite(curve)], curve[flipped & np.isfinite(curve)]
    if min(len(before), len(after)) < 4:
        return math.nan, math.nan
    step = float(after.mean() - before.mean())
    error = math.sqrt(float(before.var(ddof=1)) / len(before) + float(after.var(ddof=1)) / len(after))
    return step, step / error if error > 0 else math.nan
