"""Which stars vary: each against the rest, in the light of what stars of its brightness scatter by."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ulvar.engine import BoolArray, F64Array, I64Array
from ulvar.photometry.weighing import Weighed, row_deviations, weigh

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
    judged = _judge(flux, error, out)
    for _ in range(len(names) // 2):
        fresh = np.flatnonzero(judged.varies & ~out)
        if not len(fresh) or len(names) - out.sum() <= _LEAST_STARS:
            break
        out[fresh[np.argmax(judged.sure()[fresh])]] = True
        judged = _judge(flux, error, out)
    return tuple(judged.verdict(k, name, hours, flipped) for k, name in enumerate(names))


@dataclass(frozen=True)
class _Judged:
    """What is found of all stars at once; everything of shape (stars,) but the curves, which are (stars, exposures)."""

    level: F64Array
    curves: F64Array
    scatter: F64Array
    usual: F64Array
    loud: F64Array
    neumann: F64Array
    slow: F64Array
    varies: BoolArray

    def sure(self) -> F64Array:
        """Return how surely each star varies [deviations]."""
        return np.asarray(np.nan_to_num(self.loud) + np.nan_to_num(self.slow))

    def verdict(self, k: int, name: str, hours: F64Array | None, flipped: BoolArray | None) -> Verdict:
        """Return what is said of one star."""
        trend, trend_sigma = _trend(self.curves[k], hours)
        step, step_sigma = _step(self.curves[k], flipped)
        return Verdict(
            name, float(self.level[k]), float(self.scatter[k]), float(self.usual[k]), float(self.loud[k]), float(self.neumann[k]),
            float(self.slow[k]), trend, trend_sigma, step, step_sigma, bool(self.varies[k]),
        )  # fmt: skip


def _judge(flux: F64Array, error: F64Array, out: BoolArray) -> _Judged:
    """Judge all stars against those that are not out; nothing is known where none of these has a measurement."""
    try:
        weighed = weigh(flux, error, out=out)
    except ValueError:
        unknown, none = np.full(len(flux), math.nan), np.zeros(len(flux), dtype=bool)
        return _Judged(unknown, np.full(flux.shape, math.nan), unknown, unknown, unknown, unknown, unknown, none)
    curves = _without_lonely(weighed.curves)
    counts = np.isfinite(curves).sum(axis=1)
    many = counts >= _LEAST_POINTS
    scatter = np.full(len(curves), math.nan)
    scatter[many] = np.nanstd(curves[many], axis=1, ddof=1)
    usual = _usual(weighed, scatter, out)
    neumann = _von_neumann(curves)
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = scatter / usual
        loud = np.log(ratio) * np.sqrt(2.0 * counts)
        slow = (2.0 - neumann) / np.sqrt(4.0 * (counts - 2) / (counts**2 - 1.0))
    steady = ~out & np.isfinite(slow)
    if steady.sum() >= _LEAST_STARS:
        # What all stars have in common, of colour and air, is no star's own.
        slow = slow - max(0.0, float(np.median(slow[steady])))
    # Without errors the usual scatter is a guess, by photons: only many stars of like brightness make it a sure one.
    least = np.where(np.isfinite(weighed.expected), _LOUD, _LOUD_GUESSED if steady.sum() >= _MANY else math.inf)
    varies = (
        ((loud > _LOUD_SIGMA) & (ratio > least))
        | ((slow > _SLOW_SIGMA) & (ratio > _SLOW))
        | ((loud > _BOTH_SIGMA) & (slow > _BOTH_SIGMA) & (ratio > _SLOW))
    )
    enough = int(np.isfinite(scatter).sum()) >= _LEAST_STARS
    return _Judged(weighed.level, curves, scatter, usual, loud, neumann, slow, varies & enough)


def _gaps_closed(curves: F64Array) -> tuple[I64Array, F64Array]:
    """Return curves with their gaps at the end, so that what follows a gap is the neighbour of what was before, and which point is which."""
    known = np.isfinite(curves)
    order = np.argsort(~known, axis=1, kind="stable")
    return order, np.take_along_axis(np.where(known, curves, np.nan), order, axis=1)


def _without_lonely(curves: F64Array) -> F64Array:
    """Return curves without points that stand far off alone."""
    order, closed = _gaps_closed(curves)
    off, spread = row_deviations(closed)
    off /= np.where(spread > 0, spread, np.inf)[:, None]
    # Nothing stands beside the first point and the last.
    calm = np.pad(~(off >= _NEAR), ((0, 0), (1, 1)), constant_values=True)
    many = np.isfinite(closed).sum(axis=1) >= _LEAST_POINTS
    lonely = np.zeros(curves.shape, dtype=bool)
    np.put_along_axis(lonely, order, (off > _LONELY) & calm[:, :-2] & calm[:, 2:] & many[:, None], axis=1)
    return np.where(lonely, np.nan, curves)


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
    brightness, others = np.log(np.where(weighed.level > 0, weighed.level, 1.0)), np.flatnonzero(steady)
    like = np.argsort(np.abs(brightness[others] - brightness[:, None]), axis=1, kind="stable")[:, :_ALIKE]
    typical = np.median(ratio[others][like], axis=1)
    # Errors that are told too large hide nothing; those that all stars exceed make none of them a variable.
    return np.asarray(expected * np.maximum(typical, 0.7))


def _von_neumann(curves: F64Array) -> F64Array:
    """Return the mean square of the differences of neighbours over the variance, of each curve."""
    closed = _gaps_closed(curves)[1]
    many = np.isfinite(closed).sum(axis=1) >= _LEAST_POINTS
    closed = closed[many]
    found = np.full(len(curves), math.nan)
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = np.nanmean(np.diff(closed, axis=1) ** 2, axis=1) / np.nanvar(closed, axis=1, ddof=1)
    found[many] = np.where(np.isfinite(ratio), ratio, math.nan)
    return found


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
